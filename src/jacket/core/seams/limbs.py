"""Where a form has limbs: tips that lie far from everything, and necks where a limb joins."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import sparse
from scipy.sparse.csgraph import dijkstra

from jacket.core.jit import kernel
from jacket.core.mesh.geometry import face_areas, face_centres
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh

SAMPLES = 40
LEVELS = 72
STANDS_OUT = 0.015
"""By how much a tip lies farther off than the saddle to the next farther one, in √area."""


def ways_over(mesh: PolyMesh) -> sparse.csr_array:
    """(V, V) lengths of ways between near points: along edges, over both diagonals of quads, across two triangles."""
    topology, points = mesh.topology, mesh.points
    pairs = [topology.edge_points.astype(np.int64)]
    quads = np.flatnonzero(mesh.sizes == 4)
    corner = mesh.starts[quads][:, None] + np.arange(4)
    at = mesh.corners[corner]
    pairs += [at[:, [0, 2]], at[:, [1, 3]]]
    c = topology.edge_corner[topology.twin[topology.edge_corner] >= 0]
    t = topology.twin[c]
    both = (mesh.sizes[mesh.face_of_corner[c]] == 3) & (mesh.sizes[mesh.face_of_corner[t]] == 3)
    pairs.append(np.stack([mesh.corners[topology.prev[c[both]]], mesh.corners[topology.prev[t[both]]]], axis=1))
    a, b = np.concatenate(pairs).T
    length = np.maximum(np.linalg.norm(points[a] - points[b], axis=1), 1e-300)
    return sparse.csr_array((length, (a, b)), shape=(mesh.n_points, mesh.n_points))


def remoteness(mesh: PolyMesh, ways: sparse.csr_array) -> Floats:
    """(V,) mean distance over the surface to everywhere else, from points spread evenly, each for its share of area."""
    area = np.bincount(mesh.corners, np.repeat(face_areas(mesh) / np.maximum(mesh.sizes, 1), mesh.sizes), mesh.n_points)
    far, rows = np.full(mesh.n_points, np.inf), []
    at = int(np.argmax(np.linalg.norm(mesh.points - mesh.points.mean(axis=0), axis=1)))
    for _ in range(min(SAMPLES, mesh.n_points)):
        rows.append(dijkstra(ways, directed=False, indices=at))
        far = np.minimum(far, rows[-1])
        at = int(np.argmax(np.where(np.isfinite(far), far, -1)))
    table = np.array(rows)
    share = np.bincount(np.argmin(table, axis=0), area, len(rows))
    return np.asarray(np.where(np.isfinite(table), table, 0.0).T @ (share / max(float(share.sum()), 1e-300)), np.float64)


def tips(mesh: PolyMesh, ways: sparse.csr_array, remote: Floats) -> Ints:
    """Points where a limb ends: tops of remoteness that stand out over their saddle (persistence; Edelsbrunner, Letscher
    and Zomorodian 2002), the most remote first. Points on a border are none."""
    least = STANDS_OUT * np.sqrt(max(float(face_areas(mesh).sum()), 1e-300))
    both = ways + ways.T
    found = _tops(np.argsort(-remote, kind="stable").astype(np.int32), remote, both.indptr, both.indices, least)
    found = found[~mesh.topology.border_points[found]]
    return found[np.argsort(-remote[found], kind="stable")].astype(np.int32)


@kernel
def _tops(order, height, indptr, indices, least):
    n = len(order)
    root = np.full(n, -1, np.int32)
    kept = np.zeros(n, np.bool_)
    for i in range(n):
        p = order[i]
        root[p] = p
        kept[p] = True
        for k in range(indptr[p], indptr[p + 1]):
            q = indices[k]
            if root[q] < 0:
                continue
            a, b = p, q
            while root[a] != a:
                a = root[a]
            while root[b] != b:
                b = root[b]
            if a == b:
                continue
            if height[a] > height[b] or (height[a] == height[b] and a < b):
                a, b = b, a
            # The lower top `a` ends here.
            if height[a] - height[p] < least:
                kept[a] = False
            root[a] = b
    return np.flatnonzero(kept)


@dataclass(frozen=True)
class Neck:
    """A narrow place along a limb.

    tip      the point at its end
    away     (V,) distance of every point from the tip
    level    distance at which it is narrow;  length  of the outline there
    area     surface nearer to the tip
    ratio    length / √ the smaller area it parts
    """

    tip: int
    away: Floats
    level: float
    length: float
    area: float
    ratio: float


WIDEST = 2.2


def necks(mesh: PolyMesh, ways: sparse.csr_array, tip: int, widest: float = WIDEST) -> list[Neck]:
    """Narrow places between a tip and the rest: where the outline of what lies within a distance is short for the area it
    parts off, by nearness to the tip."""
    away = dijkstra(ways, directed=False, indices=tip)
    away = np.where(np.isfinite(away), away, np.nanmax(np.where(np.isfinite(away), away, np.nan)))
    top = float(away.max())
    if top <= 0:
        return []
    levels = np.linspace(0, top, LEVELS + 2)[1:-1]
    length = _outlines(mesh.points, mesh.triangle_points, away, levels)
    area = face_areas(mesh)
    own = np.bincount(mesh.face_of_corner, away[mesh.corners], mesh.n_faces) / np.maximum(mesh.sizes, 1)
    order = np.argsort(own)
    inside = np.concatenate([[0.0], np.cumsum(area[order])])[np.searchsorted(own[order], levels)]
    smaller = np.minimum(inside, inside[-1] + area[order[-1]] - inside)
    ratio = length / np.sqrt(np.maximum(smaller, 1e-300))
    smooth = np.convolve(np.pad(ratio, 1, mode="edge"), [0.25, 0.5, 0.25], "valid")
    out = []
    for k in range(1, LEVELS - 1):
        if smooth[k] <= smooth[k - 1] and smooth[k] < smooth[k + 1] and ratio[k] < widest:
            out.append(Neck(tip, away, float(levels[k]), float(length[k]), float(inside[k]), float(smooth[k])))
    return out


@kernel
def _outlines(points, triangles, away, levels):
    out = np.zeros(len(levels))
    at = np.empty((3, 3))
    for t in range(len(triangles)):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        low, high = min(away[a], away[b], away[c]), max(away[a], away[b], away[c])
        first = np.searchsorted(levels, low)
        for k in range(first, len(levels)):
            level = levels[k]
            if level >= high:
                break
            n = 0
            for j in range(3):
                p, q = triangles[t, j], triangles[t, (j + 1) % 3]
                if (away[p] <= level) != (away[q] <= level):
                    s = (level - away[p]) / (away[q] - away[p])
                    for i in range(3):
                        at[n, i] = points[p, i] + s * (points[q, i] - points[p, i])
                    n += 1
            if n == 2:
                out[k] += np.sqrt((at[0, 0] - at[1, 0]) ** 2 + (at[0, 1] - at[1, 1]) ** 2 + (at[0, 2] - at[1, 2]) ** 2)
    return out


def faces_between(mesh: PolyMesh, first: int, last: int, within: Bools) -> Ints:
    """Edges that the shortest way over faces crosses, from one face to another; only over faces flagged in `within` (F,)."""
    topology = mesh.topology
    c = topology.edge_corner[topology.twin[topology.edge_corner] >= 0]
    a, b = mesh.face_of_corner[c], mesh.face_of_corner[topology.twin[c]]
    free = within[a] & within[b]
    a, b, c = a[free], b[free], c[free]
    centre = face_centres(mesh)
    length = np.maximum(np.linalg.norm(centre[a] - centre[b], axis=1), 1e-300)
    graph = sparse.csr_array((length, (a, b)), shape=(mesh.n_faces, mesh.n_faces))
    _, before = dijkstra(graph, directed=False, indices=first, return_predecessors=True)
    row, at = [], last
    while at != first:
        if before[at] < 0:
            return np.zeros(0, np.int32)
        row.append((min(at, int(before[at])), max(at, int(before[at]))))
        at = int(before[at])
    keys = np.minimum(a, b).astype(np.int64) * mesh.n_faces + np.maximum(a, b)
    order = np.argsort(keys)
    wanted = np.array([p * mesh.n_faces + q for p, q in row], np.int64)
    return topology.edge[c[order[np.searchsorted(keys[order], wanted)]]].astype(np.int32)
