"""Where a surface goes through itself."""

from __future__ import annotations

import numpy as np

from jacket.core.jit import inline, kernel
from jacket.core.mesh.polymesh import Ints
from jacket.core.space.bvh import LEAF, Bvh
from jacket.progress import Progress, silent


def crossing_pairs(surface: Bvh, progress: Progress = silent, most: int = 2_000_000) -> Ints:
    """(K, 2) pairs of triangles (smaller first) that have inner points in common, at most `most` of them.

    Triangles that share an edge are left out, those that share one point count when the side opposite
    that point goes through the other. Flat overlaps in one plane are not counted. Points are compared by
    index, so equal positions should be joined first.
    """
    n = len(surface.triangles)
    found = []
    total = 0
    step = 40_000
    for first in range(0, n, step):
        progress(first / max(n, 1), "looking for self-intersections")
        pairs = _pairs(surface.points, surface.triangles, surface.order, surface.boxes, first, min(first + step, n))
        found.append(pairs)
        total += len(pairs)
        if total >= most:
            break
    out = np.concatenate(found)[:most] if found else np.zeros((0, 2), np.int32)
    return out[np.lexsort((out[:, 1], out[:, 0]))]


@inline
def _side(points, a, b, c, p):
    """Six times the signed volume of a tetrahedron."""
    ux, uy, uz = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
    vx, vy, vz = points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2]
    wx, wy, wz = points[p, 0] - points[a, 0], points[p, 1] - points[a, 1], points[p, 2] - points[a, 2]
    return wx * (uy * vz - uz * vy) + wy * (uz * vx - ux * vz) + wz * (ux * vy - uy * vx)


@inline
def _goes_through(points, p, q, a, b, c):
    """Whether the segment p q passes through the inside of a triangle."""
    s, t = _side(points, a, b, c, p), _side(points, a, b, c, q)
    if not (s > 0 > t or s < 0 < t):
        return False
    u, v, w = _side(points, p, q, a, b), _side(points, p, q, b, c), _side(points, p, q, c, a)
    return (u > 0 and v > 0 and w > 0) or (u < 0 and v < 0 and w < 0)


@inline
def _cross(points, tri, s, t):
    shared, only_s, only_t = 0, 0, 0
    for i in range(3):
        for j in range(3):
            if tri[s, i] == tri[t, j]:
                shared += 1
                only_s, only_t = i, j
    if shared >= 2:
        return False
    a, b, c = tri[s, 0], tri[s, 1], tri[s, 2]
    d, e, f = tri[t, 0], tri[t, 1], tri[t, 2]
    if shared == 1:
        p, q = tri[s, (only_s + 1) % 3], tri[s, (only_s + 2) % 3]
        r, u = tri[t, (only_t + 1) % 3], tri[t, (only_t + 2) % 3]
        return _goes_through(points, p, q, d, e, f) or _goes_through(points, r, u, a, b, c)
    for k in range(3):
        if _goes_through(points, tri[s, k], tri[s, (k + 1) % 3], d, e, f):
            return True
        if _goes_through(points, tri[t, k], tri[t, (k + 1) % 3], a, b, c):
            return True
    return False


@kernel
def _pairs(points, tri, order, boxes, first, last):
    out = np.empty((1024, 2), np.int32)
    used = 0
    leaves = (len(boxes) + 1) // 2
    stack = np.empty(128, np.int32)
    low, high = np.empty(3), np.empty(3)
    for place in range(first, last):
        t = order[place]
        for k in range(3):
            low[k] = min(points[tri[t, 0], k], points[tri[t, 1], k], points[tri[t, 2], k])
            high[k] = max(points[tri[t, 0], k], points[tri[t, 1], k], points[tri[t, 2], k])
        stack[0] = 0
        top = 1
        while top > 0:
            top -= 1
            node = stack[top]
            if (boxes[node, 0] > high[0] or boxes[node, 1] > high[1] or boxes[node, 2] > high[2]
                    or boxes[node, 3] < low[0] or boxes[node, 4] < low[1] or boxes[node, 5] < low[2]):  # fmt: skip
                continue
            if node >= leaves - 1:
                begin = (node - leaves + 1) * LEAF
                for j in range(begin, min(begin + LEAF, len(order))):
                    s = order[j]
                    if s <= t or not _cross(points, tri, t, s):
                        continue
                    if used == len(out):
                        grown = np.empty((2 * used, 2), np.int32)
                        grown[:used] = out
                        out = grown
                    out[used, 0], out[used, 1] = t, s
                    used += 1
                continue
            stack[top] = 2 * node + 1
            stack[top + 1] = 2 * node + 2
            top += 2
    return out[:used].copy()
