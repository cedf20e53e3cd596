"""Choosing elements of a mesh: growing, shrinking, linked, every n-th, similar, and from one kind to another.

Elements are named by kind, "points", "edges" or "faces", and ids.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from scipy.sparse import coo_array, csr_array
from scipy.sparse.csgraph import connected_components

from jacket.core.mesh.geometry import edge_lengths, face_areas, face_normals
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.mesh.walks import edge_loop, ring_edges
from jacket.errors import EditRefused

KINDS = ("points", "edges", "faces")
LIKENESS = ("length", "area", "valence", "normal", "corners")


def count_of(mesh: PolyMesh, kind: str) -> int:
    """How many elements of a kind there are."""
    return {"points": mesh.n_points, "edges": mesh.topology.n_edges, "faces": mesh.n_faces}[kind]


def flags_of(mesh: PolyMesh, kind: str, ids: Ints) -> Bools:
    """(N,) which elements of a kind are among some."""
    out = np.zeros(count_of(mesh, kind), bool)
    out[np.asarray(ids, np.int64)] = True
    return out


def as_kind(mesh: PolyMesh, kind: str, ids: Ints, wanted: str) -> Ints:
    """Elements of another kind: all points of edges and faces, edges whose ends are both among points, edges of
    faces, faces whose corners (or edges) are all there."""
    if kind == wanted:
        return np.asarray(ids, np.int32)
    topology = mesh.topology
    there = flags_of(mesh, kind, ids)
    if wanted == "points":
        used = topology.edge_points[there] if kind == "edges" else mesh.corners[there[mesh.face_of_corner]]
        return np.unique(used).astype(np.int32)
    if wanted == "edges":
        if kind == "faces":
            return np.unique(topology.edge[there[mesh.face_of_corner]]).astype(np.int32)
        return np.flatnonzero(there[topology.edge_points].all(axis=1)).astype(np.int32)
    whole = np.ones(mesh.n_faces, bool)
    at_corner = there[topology.edge] if kind == "edges" else there[mesh.corners]
    np.logical_and.at(whole, mesh.face_of_corner, at_corner)
    return np.flatnonzero(whole).astype(np.int32)


def _touching(mesh: PolyMesh, kind: str) -> csr_array:
    """(N, N) which elements of a kind are neighbours: points along edges, edges at points, faces at points."""
    n = count_of(mesh, kind)
    ends = mesh.topology.edge_points
    if kind == "points":
        a, b = ends[:, 0], ends[:, 1]
        rows = coo_array(
            (np.ones(2 * len(a), np.int32), (np.concatenate([a, b]), np.concatenate([b, a]))), shape=(n, n)
        )
        return rows.tocsr()
    which = np.repeat(np.arange(len(ends)), 2) if kind == "edges" else mesh.face_of_corner
    point = ends.ravel() if kind == "edges" else mesh.corners
    at = coo_array((np.ones(len(which), np.int32), (which, point)), shape=(n, mesh.n_points)).tocsr()
    return (at @ at.T).tocsr()


def grown(mesh: PolyMesh, kind: str, ids: Ints) -> Ints:
    """Those elements and their neighbours."""
    there = flags_of(mesh, kind, ids)
    return np.flatnonzero(there | ((_touching(mesh, kind) @ there.astype(np.int32)) > 0)).astype(np.int32)


def shrunk(mesh: PolyMesh, kind: str, ids: Ints) -> Ints:
    """Those of the elements all of whose neighbours are among them."""
    there = flags_of(mesh, kind, ids)
    outside = (_touching(mesh, kind) @ (~there).astype(np.int32)) > 0
    return np.flatnonzero(there & ~outside).astype(np.int32)


def linked(mesh: PolyMesh, kind: str, ids: Ints) -> Ints:
    """All elements of the parts that some of the elements belong to."""
    labels = connected_components(_touching(mesh, kind), directed=False)[1]
    return np.flatnonzero(np.isin(labels, np.unique(labels[np.asarray(ids)]))).astype(np.int32)


def inverted(mesh: PolyMesh, kind: str, ids: Ints) -> Ints:
    """All other elements of the kind."""
    return np.flatnonzero(~flags_of(mesh, kind, ids)).astype(np.int32)


def outline(mesh: PolyMesh, kind: str, ids: Ints) -> Ints:
    """Edges between chosen faces and the rest (for edges and points: of the faces they make up)."""
    inside = flags_of(mesh, "faces", as_kind(mesh, kind, ids, "faces"))
    twin = mesh.topology.twin
    beyond = (twin >= 0) & inside[mesh.face_of_corner[np.maximum(twin, 0)]]
    return np.unique(mesh.topology.edge[inside[mesh.face_of_corner] & ~beyond]).astype(np.int32)


def loops_through(mesh: PolyMesh, edges: Ints) -> Ints:
    """All edges of the loops through some."""
    return _through(mesh, edges, edge_loop)


def rings_through(mesh: PolyMesh, edges: Ints) -> Ints:
    """All edges of the rings through some."""
    return _through(mesh, edges, ring_edges)


def _through(mesh: PolyMesh, edges: Ints, walk: Callable[[PolyMesh, int], Ints]) -> Ints:
    seen = np.zeros(mesh.topology.n_edges, bool)
    for e in np.asarray(edges).tolist():
        if not seen[e]:
            seen[walk(mesh, e)] = True
    return np.flatnonzero(seen).astype(np.int32)


def chains(mesh: PolyMesh, kind: str, ids: Ints) -> list[list[int]]:
    """The elements in the order in which they hang together: edges across quads where some do (rings), else end to
    end; faces across edges; points along edges. A chain begins at an end, or at its least id where it closes."""
    ids = np.unique(np.asarray(ids, np.int32))
    near = _chain_graph(mesh, kind, ids)
    degree = np.diff(near.indptr)
    out: list[list[int]] = []
    seen = np.zeros(len(ids), bool)
    for first in [*np.flatnonzero(degree <= 1).tolist(), *range(len(ids))]:
        if seen[first]:
            continue
        row, k = [], first
        while k >= 0:
            seen[k] = True
            row.append(int(ids[k]))
            ahead = [int(j) for j in near.indices[near.indptr[k] : near.indptr[k + 1]] if not seen[j]]
            k = min(ahead) if ahead else -1
        out.append(row)
    return out


def _chain_graph(mesh: PolyMesh, kind: str, ids: Ints) -> csr_array:
    topology = mesh.topology
    local = np.full(count_of(mesh, kind), -1)
    local[ids] = np.arange(len(ids))
    if kind == "faces":
        corner = np.flatnonzero(topology.twin >= 0)
        a, b = mesh.face_of_corner[corner], mesh.face_of_corner[topology.twin[corner]]
    elif kind == "points":
        a, b = topology.edge_points[:, 0], topology.edge_points[:, 1]
    else:
        corner = np.flatnonzero(mesh.sizes[mesh.face_of_corner] == 4)
        a, b = topology.edge[corner], topology.edge[topology.next[topology.next[corner]]]
        if not ((local[a] >= 0) & (local[b] >= 0)).any():
            start, around = topology.point_edges
            pairs = [(int(e), int(f)) for p in range(mesh.n_points)
                     for e in around[start[p] : start[p + 1]] for f in around[start[p] : start[p + 1]]
                     if e < f and local[e] >= 0 and local[f] >= 0]  # fmt: skip
            table = np.array(pairs, np.int64).reshape(-1, 2)
            a, b = table[:, 0], table[:, 1]
    a, b = local[a], local[b]
    keep = (a >= 0) & (b >= 0) & (a != b)
    a, b = a[keep], b[keep]
    n = len(ids)
    graph = coo_array((np.ones(2 * len(a), np.int32), (np.concatenate([a, b]), np.concatenate([b, a]))), shape=(n, n))
    return graph.tocsr()


def edge_paths(mesh: PolyMesh, edges: Ints) -> list[tuple[Ints, bool]]:
    """Edges as paths of points in order, and whether each closes; paths end where three or more of them meet."""
    near: dict[int, list[int]] = {}
    for a, b in mesh.topology.edge_points[np.unique(edges)].tolist():
        near.setdefault(a, []).append(b)
        near.setdefault(b, []).append(a)
    used: set[frozenset[int]] = set()
    out: list[tuple[Ints, bool]] = []

    def walk(first: int, ahead: int) -> None:
        path = [first]
        while frozenset((path[-1], ahead)) not in used:
            used.add(frozenset((path[-1], ahead)))
            path.append(ahead)
            others = [q for q in near[ahead] if q != path[-2]]
            if len(near[ahead]) != 2 or ahead == first:
                break
            ahead = others[0]
        if len(path) > 1:
            closed = len(path) > 3 and path[0] == path[-1]
            out.append((np.array(path[:-1] if closed else path, np.int32), closed))

    for p in sorted(near, key=lambda q: (len(near[q]) == 2, q)):
        for q in near[p]:
            walk(p, q)
    return out


def every_nth(mesh: PolyMesh, kind: str, ids: Ints, n: int, offset: int = 0) -> Ints:
    """Every n-th of the elements along the chains they form, from the `offset`-th on."""
    if n < 1:
        raise EditRefused("Every n-th needs a number of 1 or more.")
    kept = [e for row in chains(mesh, kind, ids) for k, e in enumerate(row) if (k - offset) % n == 0]
    return np.array(sorted(kept), np.int32)


def similar(mesh: PolyMesh, kind: str, ids: Ints, by: str, slack: float = 0.1) -> Ints:
    """All elements that are like one of the given ones: length, area within a share `slack`; normals within
    `slack` · 90°; valence and number of corners exactly. Raises EditRefused where the kind has no such measure."""
    values = measure(mesh, kind, by)
    own = values[np.asarray(ids)]
    if by == "normal":
        like = (values @ own.T).max(axis=1) >= np.cos(slack * np.pi / 2)
    elif by in ("valence", "corners"):
        like = np.isin(values, own)
    else:
        order = np.sort(own)
        near = np.clip(np.searchsorted(order, values), 0, len(order) - 1)
        best = np.minimum(np.abs(values - order[near]), np.abs(values - order[np.maximum(near - 1, 0)]))
        like = best <= slack * np.maximum(values, 1e-300)
    return np.flatnonzero(like).astype(np.int32)


def measure(mesh: PolyMesh, kind: str, by: str) -> Floats:
    """(N,) or (N, 3) what elements are compared by."""
    if (kind, by) == ("edges", "length"):
        return edge_lengths(mesh)
    if (kind, by) == ("faces", "area"):
        return face_areas(mesh)
    if (kind, by) == ("faces", "corners"):
        return mesh.sizes.astype(float)
    if (kind, by) == ("faces", "normal"):
        return face_normals(mesh)
    if (kind, by) == ("points", "valence"):
        return mesh.topology.valence.astype(float)
    if by == "normal":
        from jacket.core.mesh.geometry import point_normals, unit

        normals = point_normals(mesh)
        return normals if kind == "points" else unit(normals[mesh.topology.edge_points].sum(axis=1))
    if (kind, by) == ("edges", "valence"):
        return np.sort(mesh.topology.valence[mesh.topology.edge_points], axis=1) @ np.array([1.0, 1000.0])
    raise EditRefused(f"{kind.capitalize()} cannot be compared by {by}; choose another measure.")
