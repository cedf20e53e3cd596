"""Whether flat things lie on one another: an island's own border, or any two faces."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import inline, kernel
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh, sorted_pairs
from jacket.core.uv.areas import face_uv_areas
from jacket.core.uv.chart import Chart

HAIR = 1e-4
"""Share of an edge by which faces may lie over one another and count as touching: the sides of a cut through a plane come to lie
on one another but for what the descent leaves."""


def border_crosses(chart: Chart, uv: Floats) -> bool:
    """Whether the border of a flip-free island crosses itself.

    A flip-free disk with a simple border is one-to-one, so this decides overlap exactly for disks
    (Lipton 1997, as used by Smith and Schaefer 2015).
    """
    loops = chart.border
    starts = np.concatenate([[0], np.cumsum([len(loop) for loop in loops])]).astype(np.int32)
    if len(loops) == 0:
        return False
    ring = uv[np.concatenate(loops)]
    following = np.arange(1, len(ring) + 1)
    following[starts[1:] - 1] = starts[:-1]
    return bool(_crosses(np.ascontiguousarray(ring), following.astype(np.int32)))


def lies_over_itself(chart: Chart, uv: Floats) -> bool:
    """The same, but for sides of a cut that cross by no more than a hair where they should touch."""
    if not border_crosses(chart, uv):
        return False
    corners = uv[chart.mesh.corners]
    return len(overlapping_faces(chart.mesh, corners)) > 0


@inline
def _side(ax, ay, bx, by, cx, cy):
    return (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)


@kernel
def _crosses(ring, following):
    n = len(ring)
    for i in range(n):
        a, b = i, following[i]
        lo_x, hi_x = min(ring[a, 0], ring[b, 0]), max(ring[a, 0], ring[b, 0])
        lo_y, hi_y = min(ring[a, 1], ring[b, 1]), max(ring[a, 1], ring[b, 1])
        for j in range(i + 1, n):
            c, d = j, following[j]
            if c == b or d == a:
                continue
            if min(ring[c, 0], ring[d, 0]) > hi_x or max(ring[c, 0], ring[d, 0]) < lo_x:
                continue
            if min(ring[c, 1], ring[d, 1]) > hi_y or max(ring[c, 1], ring[d, 1]) < lo_y:
                continue
            s1 = _side(ring[a, 0], ring[a, 1], ring[b, 0], ring[b, 1], ring[c, 0], ring[c, 1])
            s2 = _side(ring[a, 0], ring[a, 1], ring[b, 0], ring[b, 1], ring[d, 0], ring[d, 1])
            s3 = _side(ring[c, 0], ring[c, 1], ring[d, 0], ring[d, 1], ring[a, 0], ring[a, 1])
            s4 = _side(ring[c, 0], ring[c, 1], ring[d, 0], ring[d, 1], ring[b, 0], ring[b, 1])
            if s1 * s2 < 0.0 and s3 * s4 < 0.0:
                return True
    return False


def overlapping_faces(mesh: PolyMesh, uv: Floats) -> Ints:
    """(K, 2) pairs of faces that share inner points on the sheet; unmapped faces are passed over.

    Triangles meet in a uniform grid and are tested by separating axes; touching along edges or at
    points is no overlap, nor is less than a hair.
    """
    corner = uv[mesh.triangles]
    mapped = np.isfinite(corner).all(axis=(1, 2))
    ids = np.flatnonzero(mapped)
    if len(ids) == 0:
        return np.zeros((0, 2), np.int32)
    flat = np.ascontiguousarray(corner[ids])
    faces = np.ascontiguousarray(mesh.triangle_faces[ids])
    low, high = flat.min(axis=(0, 1)), flat.max(axis=(0, 1))
    span = max(float((high - low).max()), 1e-300)
    cells = int(np.clip(np.sqrt(len(ids)) * 0.7, 1, 600))
    pairs = _overlaps(flat, faces, low, span * (1 + 1e-9) / cells, cells)
    if len(pairs) == 0:
        return np.zeros((0, 2), np.int32)
    return sorted_pairs(pairs)


@kernel
def _overlaps(flat, faces, low, size, cells):
    n = len(flat)
    counts = np.zeros(cells * cells + 1, np.int64)
    box = np.empty((n, 4), np.int32)
    for t in range(n):
        for k in range(2):
            a = min(flat[t, 0, k], flat[t, 1, k], flat[t, 2, k])
            b = max(flat[t, 0, k], flat[t, 1, k], flat[t, 2, k])
            box[t, k] = min(max(int((a - low[k]) / size), 0), cells - 1)
            box[t, 2 + k] = min(max(int((b - low[k]) / size), 0), cells - 1)
        for x in range(box[t, 0], box[t, 2] + 1):
            for y in range(box[t, 1], box[t, 3] + 1):
                counts[x * cells + y + 1] += 1
    for k in range(1, len(counts)):
        counts[k] += counts[k - 1]
    fill = counts[:-1].copy()
    items = np.empty(counts[-1], np.int32)
    for t in range(n):
        for x in range(box[t, 0], box[t, 2] + 1):
            for y in range(box[t, 1], box[t, 3] + 1):
                items[fill[x * cells + y]] = t
                fill[x * cells + y] += 1
    room = 1024
    out = np.empty((room, 2), np.int32)
    count = 0
    for cell in range(cells * cells):
        for i in range(counts[cell], counts[cell + 1]):
            a = items[i]
            for j in range(i + 1, counts[cell + 1]):
                b = items[j]
                if faces[a] == faces[b]:
                    continue
                if max(box[a, 0], box[b, 0]) * cells + max(box[a, 1], box[b, 1]) != cell:
                    continue
                if _meet(flat, a, b):
                    if count == room:
                        room *= 2
                        grown = np.empty((room, 2), np.int32)
                        grown[:count] = out
                        out = grown
                    out[count, 0], out[count, 1] = faces[a], faces[b]
                    count += 1
    return out[:count].copy()


@inline
def _meet(flat, a, b):
    """Whether two triangles share inner points: no edge of either separates them."""
    for first in range(2):
        s, o = (a, b) if first == 0 else (b, a)
        area = _side(flat[s, 0, 0], flat[s, 0, 1], flat[s, 1, 0], flat[s, 1, 1], flat[s, 2, 0], flat[s, 2, 1])
        if area == 0.0:
            return False
        sign = 1.0 if area > 0 else -1.0
        for k in range(3):
            px, py = flat[s, k, 0], flat[s, k, 1]
            qx, qy = flat[s, (k + 1) % 3, 0], flat[s, (k + 1) % 3, 1]
            length2 = (qx - px) ** 2 + (qy - py) ** 2
            outside = True
            for m in range(3):
                if sign * _side(px, py, qx, qy, flat[o, m, 0], flat[o, m, 1]) > HAIR * length2:
                    outside = False
                    break
            if outside:
                return False
    return True


def flipped_faces(mesh: PolyMesh, uv: Floats) -> NDArray[np.signedinteger]:
    """Faces whose mapped area is negative."""
    return np.flatnonzero(face_uv_areas(mesh, uv) < 0).astype(np.int32)
