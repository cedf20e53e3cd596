"""Segments and outlines in the plane: what is near a place, what lies inside."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import kernel
from jacket.core.mesh.polymesh import Bools, Floats, Ints


def near_segments(
    at: Floats, ends: Ints, x: float, y: float, reach: float
) -> tuple[Ints, Floats, NDArray[np.float64]]:  # fmt: skip
    """Of segments (E, 2) between places `at` (V, ≥2) those within `reach` of a place: their ids, the share along each
    where it comes nearest, and how near. Segments with a place that is not a number are left out."""
    return _near(np.ascontiguousarray(at, np.float64), np.ascontiguousarray(ends, np.int32), x, y, reach)


@kernel
def _near(at, ends, x, y, reach):
    ids = np.empty(len(ends), np.int64)
    share = np.empty(len(ends))
    far = np.empty(len(ends))
    n = 0
    for e in range(len(ends)):
        ax, ay = at[ends[e, 0], 0], at[ends[e, 0], 1]
        bx, by = at[ends[e, 1], 0], at[ends[e, 1], 1]
        if min(ax, bx) - reach > x or max(ax, bx) + reach < x or min(ay, by) - reach > y or max(ay, by) + reach < y:
            continue
        dx, dy = bx - ax, by - ay
        t = ((x - ax) * dx + (y - ay) * dy) / max(dx * dx + dy * dy, 1e-300)
        t = min(max(t, 0.0), 1.0)
        d = np.sqrt((ax + t * dx - x) ** 2 + (ay + t * dy - y) ** 2)
        if d <= reach:
            ids[n], share[n], far[n] = e, t, d
            n += 1
    return ids[:n].copy(), share[:n].copy(), far[:n].copy()


def inside_outline(outline: Floats, at: Floats) -> Bools:
    """(N,) which places (N, 2) lie in a closed outline (K, 2), by crossing number; NaN lies outside."""
    x, y = at[:, 0], at[:, 1]
    inside = np.zeros(len(at), bool)
    for a, b in zip(outline, np.roll(outline, -1, axis=0), strict=True):
        if a[1] == b[1]:
            continue
        between = (a[1] > y) != (b[1] > y)
        inside ^= between & (x < (b[0] - a[0]) * (y - a[1]) / (b[1] - a[1]) + a[0])
    return inside & np.isfinite(x)


def barycentric(place: Floats, corners: Floats) -> Floats | None:
    """(3,) weights of the corners (3, D) of a triangle at the point of its plane nearest to a place (D,); None where it has no
    area."""
    a, b = corners[1] - corners[0], corners[2] - corners[0]
    p = place - corners[0]
    aa, ab, bb, pa, pb = float(a @ a), float(a @ b), float(b @ b), float(p @ a), float(p @ b)
    det = aa * bb - ab * ab
    if not det > 1e-24 * max(aa, bb, 1e-300) ** 2:
        return None
    v, w = (bb * pa - ab * pb) / det, (aa * pb - ab * pa) / det
    return np.array([1 - v - w, v, w])


def shares_in(corners: Floats, places: Floats) -> Floats:
    """(N, 3) shares of the corners (N, 3, d) of triangles in places (N, d) on them."""
    e, f, d = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0], places - corners[:, 0]
    ee, ef, ff = (e * e).sum(axis=1), (e * f).sum(axis=1), (f * f).sum(axis=1)
    de, df = (d * e).sum(axis=1), (d * f).sum(axis=1)
    det = np.maximum(ee * ff - ef * ef, 1e-300)
    v, w = (de * ff - df * ef) / det, (df * ee - de * ef) / det
    return np.stack([1 - v - w, v, w], axis=1)
