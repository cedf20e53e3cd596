"""Which triangle each sample of a sheet lies on, with a gutter around islands where the nearest one is carried on.

Samples near an island but outside it take the place that the nearest triangle has there, past its edge, so that texels
which the border cuts through, and those that filtering reaches, are cast like all others and steps across seams vanish.
"""

from __future__ import annotations

import numpy as np

from jacket.core.jit import inline, kernel
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh

GUTTER = 1.5
"""Texels around islands that are cast as carried on past their border."""


def border_sides(uv: Floats, triangles: Ints) -> Ints:
    """(B, 2) triangle and side of every triangle edge that no other triangle shares on the sheet: the outlines of islands.
    uv (C, 2) of corners, triangles (T, 3) as corners."""
    n = len(triangles)
    if n == 0:
        return np.zeros((0, 2), np.int32)
    _, place = np.unique(np.ascontiguousarray(uv + 0.0).view(np.complex128).ravel(), return_inverse=True)
    a = place[triangles].astype(np.int64)
    b = np.roll(a, -1, axis=1)
    keys = (np.minimum(a, b) * (int(place.max()) + 1) + np.maximum(a, b)).ravel()
    _, back, counts = np.unique(keys, return_inverse=True, return_counts=True)
    alone = np.flatnonzero(counts[back.ravel()] == 1)
    return np.stack([alone // 3, alone % 3], axis=1).astype(np.int32)


def neighbours(points: Ints, sides: Ints) -> Ints:
    """(B,) the one other triangle that shares the ends of each side on the form, −1 where there is none or several: what lies
    across a seam. points (T, 3) of triangles' corners, sides (B, 2) as from `border_sides`."""
    if len(points) == 0:
        return np.zeros(0, np.int32)
    a = points.astype(np.int64)
    b = np.roll(a, -1, axis=1)
    keys = (np.minimum(a, b) * (int(a.max()) + 1) + np.maximum(a, b)).ravel()
    order = np.argsort(keys, kind="stable")
    found, first, counts = np.unique(keys[order], return_index=True, return_counts=True)
    own = sides[:, 0] * 3 + sides[:, 1]
    at = np.searchsorted(found, keys[own])
    two = counts[at] == 2
    one, other = order[first[at]], order[np.minimum(first[at] + 1, len(order) - 1)]
    return np.where(two, np.where(one == own, other, one) // 3, -1).astype(np.int32)


@inline
def _shares(at, t, x, y):
    """Shares of the three corners of a triangle in a place on the sheet."""
    ax, ay, bx, by, cx, cy = at[t, 0, 0], at[t, 0, 1], at[t, 1, 0], at[t, 1, 1], at[t, 2, 0], at[t, 2, 1]
    area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
    u = ((cx - bx) * (y - by) - (cy - by) * (x - bx)) / area
    v = ((ax - cx) * (y - cy) - (ay - cy) * (x - cx)) / area
    return u, v, 1.0 - u - v


@inline
def _cover(at, sides, low, rows, width, step, gutter, which, far, over):
    """Fill `which` (rows · n, width · n) with the triangle of each sample, −1 for none, and `over` with the side past which it
    lies, −1 for samples inside islands; `far` is for the work."""
    count = width * step
    which[:] = -1
    over[:] = -1
    bottom, top = float(low), float(low + rows)
    for t in range(len(at)):
        y0 = min(at[t, 0, 1], at[t, 1, 1], at[t, 2, 1])
        y1 = max(at[t, 0, 1], at[t, 1, 1], at[t, 2, 1])
        if y1 < bottom or y0 > top:
            continue
        area = (at[t, 1, 0] - at[t, 0, 0]) * (at[t, 2, 1] - at[t, 0, 1]) - (at[t, 1, 1] - at[t, 0, 1]) * (at[t, 2, 0] - at[t, 0, 0])
        if not abs(area) > 1e-12:
            continue
        x0 = min(at[t, 0, 0], at[t, 1, 0], at[t, 2, 0])
        x1 = max(at[t, 0, 0], at[t, 1, 0], at[t, 2, 0])
        for j in range(max(0, int(np.ceil((y0 - bottom) * step - 0.5))), min(rows * step, int(np.floor((y1 - bottom) * step - 0.5)) + 1)):
            y = bottom + (j + 0.5) / step
            for i in range(max(0, int(np.ceil(x0 * step - 0.5))), min(count, int(np.floor(x1 * step - 0.5)) + 1)):
                if which[j, i] >= 0:
                    continue
                u, v, w = _shares(at, t, (i + 0.5) / step, y)
                if u >= -1e-9 and v >= -1e-9 and w >= -1e-9:
                    which[j, i] = t
    if gutter <= 0:
        return
    far[:] = np.inf
    for s in range(len(sides)):
        t, k = sides[s, 0], sides[s, 1]
        ax, ay = at[t, k, 0], at[t, k, 1]
        bx, by = at[t, (k + 1) % 3, 0], at[t, (k + 1) % 3, 1]
        if max(ay, by) + gutter < bottom or min(ay, by) - gutter > top:
            continue
        area = (at[t, 1, 0] - at[t, 0, 0]) * (at[t, 2, 1] - at[t, 0, 1]) - (at[t, 1, 1] - at[t, 0, 1]) * (at[t, 2, 0] - at[t, 0, 0])
        if not abs(area) > 1e-12:
            continue
        ex, ey = bx - ax, by - ay
        size = ex * ex + ey * ey
        for j in range(max(0, int((min(ay, by) - gutter - bottom) * step)), min(rows * step, int((max(ay, by) + gutter - bottom) * step) + 1)):
            y = bottom + (j + 0.5) / step
            for i in range(max(0, int((min(ax, bx) - gutter) * step)), min(count, int((max(ax, bx) + gutter) * step) + 1)):
                if which[j, i] >= 0 and far[j, i] == np.inf:
                    continue  # inside an island
                x = (i + 0.5) / step
                along = min(max(((x - ax) * ex + (y - ay) * ey) / size, 0.0), 1.0) if size > 0 else 0.0
                dx, dy = x - ax - along * ex, y - ay - along * ey
                off = dx * dx + dy * dy
                if off <= gutter * gutter and off < far[j, i]:
                    # Slivers carried on reach anywhere: only what stays near its triangle counts.
                    u, v, w = _shares(at, t, x, y)
                    if max(abs(u), abs(v), abs(w)) < 8.0:
                        far[j, i], which[j, i], over[j, i] = off, t, s


@kernel
def covered_texels(at, sides, width, height, gutter):
    """(height, width) int32 triangle of each texel's middle, −1 for none, −2 − t within `gutter` texels of triangle t; the
    first row is the lowest. at (T, 3, 2) in texels, sides (B, 2) as from `border_sides`."""
    which, far, over = np.empty((height, width), np.int32), np.empty((height, width)), np.empty((height, width), np.int32)
    _cover(at, sides, 0, height, width, 1, gutter, which, far, over)
    for j in range(height):
        for i in range(width):
            if over[j, i] >= 0:
                which[j, i] = -2 - which[j, i]
    return which


def texel_places(mesh: PolyMesh, triangles: Ints, origin: Floats, size: Floats) -> Floats:
    """(T, 3, 2) corners of triangles (T, 3) in texels from the lower left of a sheet; far outside where they are not mapped."""
    uv = mesh.uv
    if uv is None:
        return np.full((len(triangles), 3, 2), -1e6)
    return np.nan_to_num((uv[triangles] - origin) * size, nan=-1e6)


def spread_origin(covered: np.ndarray, steps: int) -> Ints:
    """(H, W) index of the covered texel that each texel takes its value from: itself where it is covered, the nearest
    within `steps` texels otherwise (all of them where it is negative), −1 beyond."""
    covered = np.ascontiguousarray(covered, np.bool_)
    return _spread(covered, steps, covered, True)[0]


def spread_moves(covered: np.ndarray, steps: int, within: np.ndarray | None = None) -> tuple[Ints, Ints]:
    """Texels that are not covered and take a value within `steps` texels, as `spread_origin` has it, and the texels they take
    it from. `within` (H, W) leaves out all others."""
    covered = np.ascontiguousarray(covered, np.bool_)
    allowed = covered if within is None else np.ascontiguousarray(within, np.bool_)
    origin, filled = _spread(covered, steps, allowed, within is None)
    return filled, origin.ravel()[filled]


@kernel
def _spread(covered, steps, within, everywhere):
    height, width = covered.shape
    out = np.full((height, width), -1, np.int32)
    queue = np.empty(height * width, np.int32)
    tail = 0
    for j in range(height):
        for i in range(width):
            if covered[j, i]:
                out[j, i] = j * width + i
                edge = (j > 0 and not covered[j - 1, i]) or (j < height - 1 and not covered[j + 1, i])
                if edge or (i > 0 and not covered[j, i - 1]) or (i < width - 1 and not covered[j, i + 1]):
                    queue[tail] = j * width + i
                    tail += 1
    head, first = 0, tail
    # Rings of neighbours; each takes of its neighbours' origins the nearest (Danielsson, "Euclidean distance mapping", 1980).
    while head < tail:
        at = queue[head]
        head += 1
        j, i = at // width, at % width
        for dj in range(-1, 2):
            for di in range(-1, 2):
                y, x = j + dj, i + di
                if not (0 <= y < height and 0 <= x < width) or out[y, x] >= 0 or not (everywhere or within[y, x]):
                    continue
                best, from_ = np.inf, -1
                for ej in range(-1, 2):
                    for ei in range(-1, 2):
                        b, a = y + ej, x + ei
                        if 0 <= b < height and 0 <= a < width and out[b, a] >= 0:
                            o = out[b, a]
                            off = (o // width - y) ** 2 + (o % width - x) ** 2
                            if off < best:
                                best, from_ = off, o
                if steps >= 0 and best > steps * steps:
                    continue
                out[y, x] = from_
                queue[tail] = y * width + x
                tail += 1
    return out, queue[first:tail].copy()
