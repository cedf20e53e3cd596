"""Which pixels triangles cover, and which is nearest there: meshes compared as they are seen, without a graphics card."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import kernel
from jacket.core.mesh.polymesh import Bools, Floats, Ints


def covered(at: Floats, triangles: Ints, width: int, height: int) -> Bools:
    """(height, width) pixels whose middles lie in triangles (T, 3) of places `at` (V, 2) in pixels from the upper
    left, of either orientation. Triangles with a place that is not a number are left out."""
    return _covered(
        np.ascontiguousarray(at[:, :2], np.float64), np.ascontiguousarray(triangles, np.int32), width, height
    )


@kernel
def _covered(at, triangles, width, height):
    out = np.zeros((height, width), np.bool_)
    for t in range(len(triangles)):
        ax, ay = at[triangles[t, 0], 0], at[triangles[t, 0], 1]
        bx, by = at[triangles[t, 1], 0], at[triangles[t, 1], 1]
        cx, cy = at[triangles[t, 2], 0], at[triangles[t, 2], 1]
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if not abs(area) > 0.0:
            continue
        low_y, high_y = min(ay, by, cy), max(ay, by, cy)
        low_x, high_x = min(ax, bx, cx), max(ax, bx, cx)
        if high_y < 0 or high_x < 0 or low_y > height or low_x > width:
            continue
        for y in range(max(0, int(low_y - 0.5)), min(height, int(high_y + 1.5))):
            py = y + 0.5
            for x in range(max(0, int(low_x - 0.5)), min(width, int(high_x + 1.5))):
                if out[y, x]:
                    continue
                px = x + 0.5
                u = (bx - ax) * (py - ay) - (by - ay) * (px - ax)
                v = (cx - bx) * (py - by) - (cy - by) * (px - bx)
                w = (ax - cx) * (py - cy) - (ay - cy) * (px - cx)
                if (u >= 0 and v >= 0 and w >= 0) or (u <= 0 and v <= 0 and w <= 0):
                    out[y, x] = True
    return out


def nearest(at: Floats, triangles: Ints, width: int, height: int) -> tuple[Ints, NDArray[np.float32]]:
    """(height, width) the nearest of triangles (T, 3) at the middle of each pixel, −1 for none, and (height, width, 3) shares of
    its corners on the form, whatever the perspective (Blinn, "Hyperbolic interpolation", 1992). `at` (V, 3) are pixels from the
    upper left, and depth; triangles with a place that is not a number, or behind the eye, are left out."""
    return _nearest(np.ascontiguousarray(at, np.float64), np.ascontiguousarray(triangles, np.int32), width, height)  # type: ignore[no-any-return]


@kernel
def _nearest(at, triangles, width, height):
    which = np.full((height, width), -1, np.int32)
    shares = np.zeros((height, width, 3), np.float32)
    near = np.zeros((height, width))  # one over the depth
    for t in range(len(triangles)):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        ax, ay, bx, by, cx, cy = at[a, 0], at[a, 1], at[b, 0], at[b, 1], at[c, 0], at[c, 1]
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if not (abs(area) > 0.0 and at[a, 2] > 0 and at[b, 2] > 0 and at[c, 2] > 0):
            continue
        low_y, high_y = min(ay, by, cy), max(ay, by, cy)
        low_x, high_x = min(ax, bx, cx), max(ax, bx, cx)
        if high_y < 0 or high_x < 0 or low_y > height or low_x > width:
            continue
        ra, rb, rc = 1.0 / at[a, 2], 1.0 / at[b, 2], 1.0 / at[c, 2]
        for y in range(max(0, int(np.ceil(low_y - 0.5))), min(height, int(high_y + 0.5) + 1)):
            py = y + 0.5
            for x in range(max(0, int(np.ceil(low_x - 0.5))), min(width, int(high_x + 0.5) + 1)):
                px = x + 0.5
                u = ((bx - px) * (cy - py) - (by - py) * (cx - px)) / area
                v = ((cx - px) * (ay - py) - (cy - py) * (ax - px)) / area
                w = 1.0 - u - v
                if u < -1e-12 or v < -1e-12 or w < -1e-12:
                    continue
                ku, kv, kw = u * ra, v * rb, w * rc
                depth = ku + kv + kw
                if depth > near[y, x]:
                    near[y, x] = depth
                    which[y, x] = t
                    shares[y, x, 0], shares[y, x, 1], shares[y, x, 2] = ku / depth, kv / depth, kw / depth
    return which, shares
