"""Rows and loops of quads: several inserted, slid, evened, taken out, collapsed."""

from __future__ import annotations

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from jacket.core.mesh.edits import Edited, Row, _with_rows, loop_inserted, points_welded
from jacket.core.mesh.polymesh import Bools, Ints, PolyMesh
from jacket.core.mesh.walks import ring_edges
from jacket.errors import EditRefused


def loops_inserted(mesh: PolyMesh, edge: int, count: int) -> tuple[PolyMesh, Ints]:
    """`count` loops evenly through the row across `edge`; the new mesh and its new points."""
    if count < 1:
        raise EditRefused("Ask for one loop or more.")
    first = int(mesh.topology.edge_corner[edge])
    start, end = int(mesh.corners[first]), int(mesh.corners[mesh.topology.next[first]])
    before = mesh.n_points
    for left in range(count, 0, -1):
        e = mesh.topology.find_edge(start, end)
        c = int(mesh.topology.edge_corner[e])
        share = 1.0 / (left + 1)
        edited = loop_inserted(mesh, e, share if int(mesh.corners[c]) == start else 1.0 - share)
        mesh = edited.mesh
        added = edited.added.astype(np.int64)
        joined = [mesh.topology.find_edges(np.stack([np.full(len(added), p), added], axis=1)) for p in (start, end)]
        made = added[(joined[0] >= 0) & (joined[1] >= 0)]
        if len(made) == 0:
            raise EditRefused("This row crosses itself, so only one loop at a time can be inserted.")
        # Points of one insertion only are added at the end, so earlier ones keep their numbers.
        start = int(made[0])
    return mesh, np.arange(before, mesh.n_points, dtype=np.int32)


def loop_points(mesh: PolyMesh, edges: Ints) -> tuple[Ints, bool]:
    """The points along a chain of edges in order, and whether it closes."""
    ends = mesh.topology.edge_points[edges]
    if len(edges) == 1:
        return ends[0].astype(np.int32), False
    start = int(ends[0, 0] if ends[0, 0] not in ends[1] else ends[0, 1])
    if len(edges) == 2 and set(ends[0]) == set(ends[1]):
        return ends[0].astype(np.int32), True
    out = [start]
    for a, b in ends.tolist():
        out.append(b if a == out[-1] else a)
    closed = len(out) > 3 and out[-1] == out[0]
    return np.array(out[:-1] if closed else out, np.int32), closed


def rails(mesh: PolyMesh, edges: Ints) -> tuple[Ints, Ints, Ints]:
    """(points, left, right) of a loop: along it, and the neighbours on both sides, −1 where there is none."""
    topology = mesh.topology
    points, closed = loop_points(mesh, edges)
    left = np.full(len(points), -1, np.int32)
    right = np.full(len(points), -1, np.int32)
    n = len(points)
    for k in range(n if closed else n - 1):
        p, q = int(points[k]), int(points[(k + 1) % n])
        e = topology.find_edge(p, q)
        c = int(topology.edge_corner[e])
        t = int(topology.twin[c])
        if int(mesh.corners[c]) != p:
            c, t = t, c
        for corner, side, own in ((c, left, True), (t, right, False)):
            if corner < 0:
                continue
            before = int(mesh.corners[topology.prev[corner]])
            beyond = int(mesh.corners[topology.next[topology.next[corner]]])
            at_p, at_q = (before, beyond) if own else (beyond, before)
            if side[k] < 0:
                side[k] = at_p
            side[(k + 1) % n] = at_q
    return points, left, right


def loop_slid(mesh: PolyMesh, edges: Ints, share: float, even: bool = False) -> PolyMesh:
    """A loop moved towards its left (share > 0) or right neighbours, each point along its own rail; `even` moves
    all by one distance. Points without a neighbour on that side stay."""
    points, left, right = rails(mesh, edges)
    target = left if share > 0 else right
    have = target >= 0
    ids, goal = points[have], target[have]
    way = mesh.points[goal] - mesh.points[ids]
    length = np.linalg.norm(way, axis=1)
    if len(ids) == 0:
        return mesh
    amount = np.full(len(ids), min(abs(share), 0.95))
    if even:
        amount = np.minimum(amount * np.median(length) / np.maximum(length, 1e-300), 0.95)
    out = mesh.points.copy()
    out[ids] += way * amount[:, None]
    return mesh.with_points(out)


def loop_evened(mesh: PolyMesh, edges: Ints) -> PolyMesh:
    """A loop moved to the middle between its neighbours, along its rails."""
    points, left, right = rails(mesh, edges)
    both = (left >= 0) & (right >= 0)
    p, a, b = mesh.points[points[both]], mesh.points[left[both]], mesh.points[right[both]]
    to_a, to_b = np.linalg.norm(a - p, axis=1), np.linalg.norm(b - p, axis=1)
    half = (to_a - to_b) / 2
    out = mesh.points.copy()
    step = np.where(
        (half > 0)[:, None], (a - p) / np.maximum(to_a, 1e-300)[:, None], (b - p) / np.maximum(to_b, 1e-300)[:, None]
    )
    out[points[both]] = p + step * np.abs(half)[:, None]
    return mesh.with_points(out)


def edges_dissolved(mesh: PolyMesh, edges: Ints, thin: bool = True) -> Edited:
    """Inner edges taken out, the faces beside them joined, and where `thin` points left with two edges too.

    Raises EditRefused where faces would be joined into a ring, or around a point that stays.
    """
    topology = mesh.topology
    gone = np.zeros(topology.n_edges, bool)
    gone[np.asarray(edges)] = True
    if (topology.edge_uses[gone] != 2).any() or (topology.twin[topology.edge_corner[gone]] < 0).any():
        raise EditRefused("Only edges with a face on either side can be taken out.")
    group = _joined_faces(mesh, gone)
    touched = np.unique(mesh.face_of_corner[gone[topology.edge]])
    left = np.bincount(topology.edge_points[~gone].ravel(), minlength=mesh.n_points)
    drop = np.zeros(mesh.n_points, bool)
    ends = np.unique(topology.edge_points[gone])
    drop[ends] = (left[ends] <= 2) & thin
    rows = []
    for label in np.unique(group[touched]).tolist():
        faces = np.flatnonzero(group == label)
        rows.append(_outline_row(mesh, faces, gone, drop))
    rows += _thinned_rows(mesh, np.setdiff1d(np.unique(mesh.face_of_corner[drop[mesh.corners]]), touched), drop)
    touched = np.union1d(touched, np.unique(mesh.face_of_corner[drop[mesh.corners]]))
    point_to = np.where(drop, -1, np.cumsum(~drop) - 1)
    moved = [Row([int(point_to[p]) for p in r[0]], r[1], r[2]) for r in rows]
    return _sound(mesh, _with_rows(mesh, mesh.points[~drop], point_to, touched, moved))


def _sound(mesh: PolyMesh, edited: Edited) -> Edited:
    if len(edited.mesh.topology.nonmanifold_edges) > len(mesh.topology.nonmanifold_edges):
        raise EditRefused("This would give an edge a third face; nothing was changed.")
    return edited


def _joined_faces(mesh: PolyMesh, gone: Bools) -> Ints:
    from jacket.core.mesh.walks import face_parts

    return face_parts(mesh, ~gone)[1]


def _outline_row(mesh: PolyMesh, faces: Ints, gone: Bools, drop: Bools) -> tuple[list[int], list[int], int]:
    topology = mesh.topology
    inside = np.zeros(mesh.n_faces, bool)
    inside[faces] = True
    corners = np.flatnonzero(inside[mesh.face_of_corner] & ~gone[topology.edge])
    start = {int(mesh.corners[c]): int(c) for c in corners}
    if len(start) != len(corners):
        raise EditRefused("Taking these edges out would leave a face that touches itself.")
    first = int(corners[0])
    row = []
    c = first
    while True:
        if not drop[mesh.corners[c]]:
            row.append(c)
        c = start.get(int(mesh.corners[topology.next[c]]), -1)
        if c == first or c < 0 or len(row) > len(corners):
            break
    walked = len(row) + int(drop[mesh.corners[corners]].sum())
    if c != first or walked != len(corners) or len(row) < 3:
        raise EditRefused("Taking these edges out would leave a ring instead of a face.")
    return [int(mesh.corners[c]) for c in row], row, int(faces[0])


def _thinned_rows(mesh: PolyMesh, faces: Ints, drop: Bools) -> list[tuple[list[int], list[int], int]]:
    out = []
    for f in faces.tolist():
        row = [c for c in range(int(mesh.starts[f]), int(mesh.starts[f + 1])) if not drop[mesh.corners[c]]]
        if len(row) < 3:
            raise EditRefused("Taking these edges out would leave a face with under three corners.")
        out.append(([int(mesh.corners[c]) for c in row], row, f))
    return out


def row_collapsed(mesh: PolyMesh, edge: int) -> PolyMesh:
    """The row of quads across `edge` taken out: the two ends of each of its edges meet in the middle, or on the border
    where one of them lies on it."""
    return points_welded(*collapse_pairs(mesh, edge)).mesh


def collapse_pairs(mesh: PolyMesh, edge: int) -> tuple[PolyMesh, Ints]:
    """The mesh with the sides of the row across `edge` moved onto one another, and the pairs (K, 2) of points to weld."""
    pairs = mesh.topology.edge_points[ring_edges(mesh, edge)]
    graph = coo_array((np.ones(len(pairs), np.int8), (pairs[:, 0], pairs[:, 1])), shape=(mesh.n_points, mesh.n_points))
    label = connected_components(graph, directed=False)[1]
    size = np.bincount(label)
    if size.max() > MOST_AT_ONCE:
        raise EditRefused("This row winds round beside itself and cannot be taken out.")
    # Points on the border stay on it; the others meet in the middle.
    ids = np.unique(pairs)
    border = mesh.topology.border_points[ids]
    on_border = np.bincount(label[ids], border, minlength=len(size))[label[ids]] > 0
    share = np.where(on_border, border, True).astype(float)
    total = np.maximum(np.bincount(label[ids], share, minlength=len(size)), 1e-300)
    points = mesh.points.copy()
    for k in range(3):
        points[ids, k] = (np.bincount(label[ids], share * mesh.points[ids, k], minlength=len(size)) / total)[label[ids]]
    return mesh.with_points(points), pairs


MOST_AT_ONCE = 6
"""Points that may meet in one where a row is taken out: where it crosses itself four do."""


def edge_turned(mesh: PolyMesh, edge: int) -> Edited:
    """The edge between two quads turned by one corner, so that both stay quads: the valence of its ends falls by one,
    that of the points it goes to rises. Raises EditRefused where the faces are no two quads, or an end would be left
    with under three edges."""
    topology = mesh.topology
    c = int(topology.edge_corner[edge])
    t = int(topology.twin[c])
    if t < 0:
        raise EditRefused("Only an edge between two quads can be turned.")
    f, g = int(mesh.face_of_corner[c]), int(mesh.face_of_corner[t])
    if f == g or mesh.sizes[f] != 4 or mesh.sizes[g] != 4:
        raise EditRefused("Only an edge between two quads can be turned.")
    following = topology.next
    # Round both faces from the edge's head: b, then f's far side to a, then g's far side back to b.
    row = [int(following[c]), int(following[following[c]]), int(topology.prev[c]),
           int(following[t]), int(following[following[t]]), int(topology.prev[t])]  # fmt: skip
    ring = [int(mesh.corners[k]) for k in row]
    if len(set(ring)) != 6:
        raise EditRefused("These two quads touch twice; turning their edge would fold one.")
    for end in (ring[0], ring[3]):
        inner = not topology.border_points[end]
        if topology.valence[end] <= (3 if inner else 2):
            raise EditRefused("An end of this edge would be left with too few edges; turn another one.")
    if mesh.topology.find_edge(ring[1], ring[4]) >= 0:
        raise EditRefused("There is an edge already where this one would go.")
    first = Row([ring[1], ring[2], ring[3], ring[4]], [row[1], row[2], row[3], row[4]], f)
    second = Row([ring[4], ring[5], ring[0], ring[1]], [row[4], row[5], row[0], row[1]], g)
    point_to = np.arange(mesh.n_points)
    return _sound(mesh, _with_rows(mesh, mesh.points, point_to, np.array([f, g]), [first, second]))
