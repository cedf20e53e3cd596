"""Walks over the edges of a polygon mesh: loops, rings, shortest paths, parts."""

from __future__ import annotations

import heapq

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import kernel
from jacket.core.mesh.geometry import edge_lengths
from jacket.core.mesh.polymesh import Bools, Ints, PolyMesh


def edge_ring(mesh: PolyMesh, edge: int) -> list[int]:
    """Half-edges across a row of quads that contains `edge`, each the side where the row enters a
    quad; a border where the row ends adds its own half-edge last.

    The row stops at borders and at faces that are not quads; it may cross itself.
    """
    topology = mesh.topology
    first = int(topology.edge_corner[edge])
    forward, closed = _ring_from(mesh, first)
    if closed:
        return forward
    twin = int(topology.twin[first])
    if twin < 0:
        return forward
    backward, _ = _ring_from(mesh, twin)
    # Walking back enters each quad by its far side; turn the pieces round.
    flipped = [_turned(mesh, c) for c in backward]
    return flipped[:0:-1] + forward if len(flipped) > 1 else forward


def _turned(mesh: PolyMesh, corner: int) -> int:
    """The half-edge on the other side of the same edge, or itself on a border."""
    twin = int(mesh.topology.twin[corner])
    return twin if twin >= 0 else corner


def _ring_from(mesh: PolyMesh, corner: int) -> tuple[list[int], bool]:
    topology = mesh.topology
    row, closed = _walked_row(topology.next, topology.twin, mesh.sizes, mesh.face_of_corner, corner)
    return row.tolist(), bool(closed)


@kernel
def _walked_row(following, twin, sizes, face, corner):
    row = np.empty(len(following) + 2, np.int64)
    row[0] = corner
    n = 1
    c = corner
    while sizes[face[c]] == 4 and n <= len(following):
        far = following[following[c]]
        c = twin[far]
        if c < 0:
            row[n] = far
            return row[: n + 1].copy(), False
        if c == corner:
            return row[:n].copy(), True
        row[n] = c
        n += 1
    return row[:n].copy(), False


def ring_edges(mesh: PolyMesh, edge: int) -> Ints:
    """Edge ids across the row of quads through `edge`, in order."""
    ids = mesh.topology.edge[np.array(edge_ring(mesh, edge), np.int32)]
    return np.array(list(dict.fromkeys(ids.tolist())), np.int32)


def edge_loop(mesh: PolyMesh, edge: int, stop: Bools | None = None) -> Ints:
    """Edge ids of the loop through `edge`, in order.

    The loop goes straight on at inner points with four edges and along the border for border
    edges; it ends elsewhere, and at points where another edge flagged in `stop` (E,) arrives.
    """
    topology = mesh.topology
    a, b = topology.edge_points[edge].tolist()
    ahead = _loop_from(mesh, edge, b, stop)
    if ahead and ahead[-1] == edge:
        return np.array([edge, *ahead[:-1]], np.int32)
    behind = _loop_from(mesh, edge, a, stop)
    return np.array([*behind[::-1], edge, *ahead], np.int32)


def _loop_from(mesh: PolyMesh, edge: int, point: int, stop: Bools | None) -> list[int]:
    topology = mesh.topology
    start, around = topology.point_edges
    out: list[int] = []
    current = edge
    while len(out) <= topology.n_edges:
        here = around[start[point] : start[point + 1]]
        if stop is not None and any(stop[e] for e in here if e != current):
            break
        following = _straight_on(mesh, current, point, here)
        if following < 0:
            break
        out.append(following)
        if following == edge:
            break
        p, q = topology.edge_points[following].tolist()
        point = q if p == point else p
        current = following
    return out


def _straight_on(mesh: PolyMesh, edge: int, point: int, here: Ints) -> int:
    topology = mesh.topology
    uses = topology.edge_uses
    if uses[edge] == 1:
        others = [int(e) for e in here if e != edge and uses[e] == 1]
        return others[0] if len(others) == 1 else -1
    if len(here) != 4 or topology.border_points[point]:
        return -1
    faces = _faces_of_edge(mesh, edge)
    free = [int(e) for e in here if e != edge and not faces & _faces_of_edge(mesh, int(e))]
    return free[0] if len(free) == 1 else -1


def _faces_of_edge(mesh: PolyMesh, edge: int) -> set[int]:
    topology = mesh.topology
    c = int(topology.edge_corner[edge])
    faces = {int(mesh.face_of_corner[c])}
    if topology.twin[c] >= 0:
        faces.add(int(mesh.face_of_corner[topology.twin[c]]))
    return faces


def shortest_path(mesh: PolyMesh, start: int, end: int, cost: NDArray[np.float64] | None = None) -> Ints:
    """Point ids along the cheapest path of edges (Dijkstra 1959); empty when none joins them.

    cost   (E,) non-negative cost of each edge; its length when left out
    """
    lengths = edge_lengths(mesh) if cost is None else cost
    first, around = mesh.topology.point_edges
    ends = mesh.topology.edge_points
    best = {start: 0.0}
    came: dict[int, int] = {}
    heap = [(0.0, start)]
    while heap:
        far, p = heapq.heappop(heap)
        if p == end:
            break
        if far > best.get(p, np.inf):
            continue
        for e in around[first[p] : first[p + 1]].tolist():
            q = int(ends[e, 0] + ends[e, 1] - p)
            total = far + float(lengths[e])
            if total < best.get(q, np.inf):
                best[q] = total
                came[q] = p
                heapq.heappush(heap, (total, q))
    if end != start and end not in came:
        return np.zeros(0, np.int32)
    path = [end]
    while path[-1] != start:
        path.append(came[path[-1]])
    return np.array(path[::-1], np.int32)


@kernel
def flood(start, around, ends, inside, first):
    """(V,) points reached from `first` along edges without leaving the points flagged in `inside`; `start`, `around` are
    the edges at each point (Connectivity.point_edges), `ends` (E, 2) those of each edge."""
    reached = np.zeros(len(inside), np.bool_)
    stack = np.empty(len(inside), np.int64)
    reached[first] = True
    stack[0] = first
    top = 1
    while top > 0:
        top -= 1
        p = stack[top]
        for k in range(start[p], start[p + 1]):
            e = around[k]
            q = ends[e, 0] + ends[e, 1] - p
            if inside[q] and not reached[q]:
                reached[q] = True
                stack[top] = q
                top += 1
    return reached


def face_parts(mesh: PolyMesh, cut: Bools | None = None) -> tuple[int, Ints]:
    """Number of parts and (F,) the part of each face; faces join across edges not in `cut` (E,).

    Parts are numbered by their first face, so the numbering is stable.
    """
    topology = mesh.topology
    closed = np.zeros(topology.n_edges, bool) if cut is None else cut
    count, labels = _joined(mesh.face_of_corner, topology.twin, topology.edge, topology.edge_corner, closed, cut is None, mesh.n_faces)
    return int(count), labels


@kernel
def _joined(face_of_corner, twin, edge, edge_corner, closed, across_bad, n_faces):
    """Union–find whose roots are the first faces of their parts; edges of more than two faces join only where asked."""
    root = np.arange(n_faces).astype(np.int32)
    for c in range(len(twin)):
        if twin[c] >= 0 and not closed[edge[c]]:
            other = face_of_corner[twin[c]]
        elif twin[c] == -2 and across_bad:
            other = face_of_corner[edge_corner[edge[c]]]
        else:
            continue
        a, b = face_of_corner[c], other
        while root[a] != a:
            root[a] = root[root[a]]
            a = root[a]
        while root[b] != b:
            root[b] = root[root[b]]
            b = root[b]
        if a < b:
            root[b] = a
        else:
            root[a] = b
    labels, count = np.empty(n_faces, np.int32), 0
    for f in range(n_faces):
        if root[f] == f:
            labels[f] = count
            count += 1
        else:
            # Roots come before what hangs on them, so theirs is known.
            labels[f] = labels[root[f]]
    return count, labels


def euler_characteristic(mesh: PolyMesh) -> int:
    """V − E + F, over points that belong to a face."""
    used = np.count_nonzero(np.bincount(mesh.corners, minlength=mesh.n_points))
    return int(used - mesh.topology.n_edges + mesh.n_faces)
