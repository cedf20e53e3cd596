"""Taking out pairs of singular points that undo one another.

A point of index +1 and one of −1 close by turn the flow one way and back again. The quarter turns across the edges of a
path between them are changed by one, which takes both away; the field is then the smoothest one with those turns held
(the Poisson problem of fixed period jumps in Bommes, Zimmer and Kobbelt, "Mixed-integer quadrangulation", 2009; cf. Crane,
Desbrun and Schröder, "Trivial connections on discrete surfaces", 2010).
"""

from __future__ import annotations

import itertools

import numpy as np
from scipy import sparse
from scipy.sparse.csgraph import dijkstra

from jacket.core.mesh.geometry import edge_lengths, face_normals
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.mesh.walks import shortest_path
from jacket.core.quads.field import Field, field_turns, singular_indices
from jacket.core.solve.cholesky import Factor

HOLD = 0.02
"""How strongly the rest of the field keeps its direction beside its smoothness; none would let it drift everywhere."""


def without_pairs(mesh: PolyMesh, field: Field, creases: Ints, reach: float) -> Field:
    """The field without pairs of opposite singular points whose way over the mesh is at most `reach`; pairs with a
    crease or border between them stay."""
    topology = mesh.topology
    blocked = topology.border_points.copy()
    blocked[creases.ravel()] = True
    paths = _paths(mesh, field.index, blocked, reach)
    if not paths:
        return field
    jump = np.zeros(mesh.n_corners, np.int64)
    for path in paths:
        jump += way_jumps(mesh, path)
    return resolved(mesh, field, creases, jump)


def singular_moved(mesh: PolyMesh, field: Field, creases: Ints, start: int, end: int) -> Field | None:
    """The field with one quarter turn of the index of point `start` moved to `end`, where it adds to what is there: two
    points that undo one another cancel. None where no way without creases and borders joins them."""
    topology = mesh.topology
    blocked = topology.border_points.copy()
    blocked[creases.ravel()] = True
    blocked[[start, end]] = False
    cost = edge_lengths(mesh) * np.where(blocked[topology.edge_points].any(axis=1), np.inf, 1.0)
    way = shortest_path(mesh, start, end, cost)
    if len(way) < 2 or blocked[way].any():
        return None
    if field.index[start] < 0:
        way = way[::-1]
    return resolved(mesh, field, creases, way_jumps(mesh, way.tolist()))


def way_jumps(mesh: PolyMesh, way: list[int]) -> Ints:
    """(C,) what a way along edges adds to the quarter turns across half-edges, so that one unit of index goes along it."""
    topology = mesh.topology
    jump = np.zeros(mesh.n_corners, np.int64)
    for a, b in itertools.pairwise(way):
        around = topology.ring[topology.ring_start[a] : topology.ring_start[a + 1]]
        c = int(around[mesh.corners[topology.next[around]] == b][0])
        jump[c] += 1
        jump[topology.twin[c]] -= 1
    return jump


def _paths(mesh: PolyMesh, index: Ints, blocked: Bools, reach: float) -> list[list[int]]:
    """Ways from points of index +1 to ones of −1, nearest pairs first, each point used once."""
    topology = mesh.topology
    plus, minus = np.flatnonzero((index > 0) & ~blocked), np.flatnonzero((index < 0) & ~blocked)
    if len(plus) == 0 or len(minus) == 0:
        return []
    ends = topology.edge_points
    open_ = ~blocked[ends].any(axis=1)
    a, b = ends[open_].T
    graph = sparse.coo_array((edge_lengths(mesh)[open_], (a, b)), shape=(mesh.n_points, mesh.n_points)).tocsr()
    far, before = dijkstra(graph, directed=False, indices=plus, limit=reach, return_predecessors=True)
    pairs = [(float(far[i, m]), i, int(m)) for i in range(len(plus)) for m in minus if far[i, m] <= reach]
    left = {int(p): abs(int(index[p])) for p in [*plus, *minus]}
    out = []
    for _, i, m in sorted(pairs):
        p = int(plus[i])
        if left[p] == 0 or left[m] == 0:
            continue
        left[p] -= 1
        left[m] -= 1
        path = [m]
        while path[-1] != p:
            path.append(int(before[i, path[-1]]))
        out.append(path[::-1])
    return out


def resolved(mesh: PolyMesh, field: Field, creases: Ints, jump: Ints) -> Field:
    """The smoothest field near the given one whose turns differ from its by `jump` (C,)."""
    topology = mesh.topology
    normals = face_normals(mesh)
    quarter, residual = field_turns(mesh, field.direction, normals)
    flags = topology.edge_flags(creases)
    flags[topology.border_edges] = True
    held = np.zeros(mesh.n_faces, bool)
    held[mesh.face_of_corner[flags[topology.edge]]] = True
    one = np.flatnonzero(topology.twin >= 0)
    one = one[one < topology.twin[one]]
    f, g = mesh.face_of_corner[one], mesh.face_of_corner[topology.twin[one]]
    # residual + φ_f − φ_g − 90°·jump, least squares over the turning φ of each face.
    wanted = residual[one] - 0.5 * np.pi * jump[one]
    n, k = mesh.n_faces, len(one)
    rows = np.arange(k)
    ones = np.ones(k)
    slope = sparse.coo_array(
        (np.concatenate([ones, -ones]), (np.concatenate([rows, rows]), np.concatenate([f, g]))), shape=(k, n)
    ).tocsr()
    free = np.flatnonzero(~held)
    slope = slope[:, free]
    system = slope.T @ slope + HOLD**2 * sparse.identity(len(free), format="csr")
    # What the field already leaves over was its own balance: only the change spreads.
    right = -(slope.T @ (wanted - residual[one]))
    turn_by = np.zeros(n)
    turn_by[free] = Factor(system).solve(np.asarray(right))
    c, s = np.cos(turn_by)[:, None], np.sin(turn_by)[:, None]
    direction = c * field.direction + s * np.cross(normals, field.direction)
    face = mesh.face_of_corner
    left: Floats = residual.copy()
    both = np.flatnonzero(topology.twin >= 0)
    left[both] += turn_by[face[both]] - turn_by[face[topology.twin[both]]] - 0.5 * np.pi * jump[both]
    turn = ((quarter + jump) % 4).astype(np.int32)
    return Field(direction, turn, singular_indices(mesh, left))
