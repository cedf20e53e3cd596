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
    return np.asarray(ids[np.sort(np.unique(ids, return_index=True)[1])], np.int32)


def edge_loop(mesh: PolyMesh, edge: int, stop: Bools | None = None) -> Ints:
    """Edge ids of the loop through `edge`, in order.

    The loop goes straight on at inner points with four edges and along the border for border
    edges; it ends elsewhere, and at points where another edge flagged in `stop` (E,) arrives.
    """
    a, b = mesh.topology.edge_points[edge].tolist()
    ahead = _loop_from(mesh, edge, b, stop)
    if len(ahead) and ahead[-1] == edge:
        return np.concatenate([ahead[-1:], ahead[:-1]])
    behind = _loop_from(mesh, edge, a, stop)
    return np.concatenate([behind[::-1], np.array([edge], np.int32), ahead])


def _loop_from(mesh: PolyMesh, edge: int, point: int, stop: Bools | None) -> Ints:
    topology = mesh.topology
    start, around = topology.point_edges
    stops = np.zeros(0, bool) if stop is None else stop
    out: Ints = _walked_loop(edge, point, start, around, topology.edge_points, topology.edge_uses, topology.border_points,
                             topology.edge_corner, topology.twin, mesh.face_of_corner, stops)  # fmt: skip
    return out


@kernel
def _walked_loop(edge, point, start, around, ends, uses, border, edge_corner, twin, face, stop):
    """Edges of a loop from one of them on over one of its ends, up to that edge again where the loop closes."""
    out = np.empty(len(ends) + 1, np.int32)
    n = 0
    current, p = edge, point
    while n <= len(ends):
        following = -1
        free = 0
        straight = start[p + 1] - start[p] == 4 and not border[p]
        c = edge_corner[current]
        left = face[c]
        right = face[twin[c]] if twin[c] >= 0 else left
        for k in range(start[p], start[p + 1]):
            e = around[k]
            if e == current:
                continue
            if len(stop) and stop[e]:
                free = -1
                break
            if uses[current] == 1:
                fits = uses[e] == 1
            else:
                d = edge_corner[e]
                one = face[d]
                other = face[twin[d]] if twin[d] >= 0 else one
                fits = straight and one != left and one != right and other != left and other != right
            if fits:
                free += 1
                following = e
        if free != 1:
            break
        out[n] = following
        n += 1
        if following == edge:
            break
        p = ends[following, 0] + ends[following, 1] - p
        current = following
    return out[:n].copy()


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
