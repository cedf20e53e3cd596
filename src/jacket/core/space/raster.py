"""Which pixels triangles cover: outlines of meshes compared without drawing them."""

from __future__ import annotations

import numpy as np

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
