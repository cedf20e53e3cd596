"""Knots of irregular points untied: edges turned and quads closed across a diagonal wherever valences gain by it.

The moves are those of clean-up and coarsening of quad meshes (Kinney, "CleanUp: improving quadrilateral finite element
meshes", 1997; Daniels et al., "Quadrilateral mesh simplification", 2008); here only those that lessen the sum of squared
distances from valence 4, so that it ends.
"""

from __future__ import annotations

import numpy as np

from jacket.core.mesh.polymesh import Bools, Ints, PolyMesh
from jacket.core.mesh.rows import edge_turned
from jacket.core.mesh.tables import spread
from jacket.core.mesh.walks import euler_characteristic
from jacket.errors import EditRefused

LEAST_GAIN = 4
"""How much the sum of squares must fall: less only moves irregular points about."""


def untied(mesh: PolyMesh, held: Bools, most: int = 60) -> PolyMesh:
    """A mesh of quads with its knots untied in at most `most` moves; edges at points flagged in `held` (V,), those on
    creases and borders, stay. What is sound stays sound."""
    euler = euler_characteristic(mesh)
    refused: set[tuple[int, ...]] = set()
    for _ in range(most):
        for gain, move in _moves(mesh, held):
            if gain < LEAST_GAIN or move in refused:
                continue
            new, keep = _moved(mesh, move)
            if new is not None and _sound(new, euler):
                mesh, held = new, held[keep]
                refused.clear()
                break
            refused.add(move)
        else:
            break
    return mesh


def _moves(mesh: PolyMesh, held: Bools) -> list[tuple[int, tuple[int, ...]]]:
    """(gain, move) of each move worth trying, best first: (a, b) turns the edge between two points, (a, b, c, d) closes
    a quad by moving a onto c."""
    topology = mesh.topology
    valence = topology.valence.astype(np.int64)
    border = topology.border_points
    wanted = np.where(border, 3, 4)
    odd = (np.abs(valence - 4) >= 2) & ~border & (valence > 0)
    # On a border that runs straight on, three edges are regular; a point of two there pulls its quad flat.
    odd |= border & ~held & (valence == 2)
    quads = mesh.as_quads()
    rows = np.flatnonzero(spread(odd, quads)[quads].any(axis=1))
    own = border | held
    cost = (valence - wanted) ** 2
    out: list[tuple[int, tuple[int, ...]]] = []
    for f in rows.tolist():
        ring = quads[f].tolist()
        for k in (0, 1):
            a, b, c, d = (ring[(k + j) % 4] for j in range(4))
            if own[a] or own[c]:
                continue
            if own[b] or own[d] or min(valence[b], valence[d]) <= 3:
                continue
            after = (valence[a] + valence[c] - 6) ** 2 + (valence[b] - 5) ** 2 + (valence[d] - 5) ** 2
            gain = int(cost[a] + cost[b] + cost[c] + cost[d] - after)
            out.append((gain, (a, b, c, d)))
    edges = np.unique(topology.edge.reshape(-1, 4)[rows])
    for e in edges[topology.edge_uses[edges] == 2].tolist():
        c = int(topology.edge_corner[e])
        t = int(topology.twin[c])
        a, b = topology.edge_points[e].tolist()
        if t < 0 or held[a] or held[b] or min(valence[a] - wanted[a], valence[b] - wanted[b]) < 0:
            continue
        following = topology.next
        p = int(mesh.corners[following[following[c]]])
        q = int(mesh.corners[following[following[t]]])
        if held[p] or held[q]:
            continue
        four = np.array([a, b, p, q])
        after = (valence[four] + (-1, -1, 1, 1) - wanted[four]) ** 2
        out.append((int(cost[four].sum() - after.sum()), (a, b)))
    return sorted(out, key=lambda m: (-m[0], m[1]))


def _moved(mesh: PolyMesh, move: tuple[int, ...]) -> tuple[PolyMesh | None, Ints]:
    """The mesh after a move, or None where it cannot be made, and (V_new,) the old number of each point."""
    everything = np.arange(mesh.n_points, dtype=np.int32)
    if len(move) == 2:
        try:
            return edge_turned(mesh, mesh.topology.find_edge(*move)).mesh, everything
        except EditRefused:
            return None, everything
    a, _, c, _ = move
    quads = mesh.as_quads().astype(np.int64)
    quads = quads[~((quads == a).any(axis=1) & (quads == c).any(axis=1))]
    quads[quads == a] = c
    points = mesh.points.copy()
    points[c] = 0.5 * (points[a] + points[c])
    keep = np.flatnonzero(everything != a).astype(np.int32)
    quads[quads > a] -= 1
    return PolyMesh.from_faces(points[keep], quads), keep


def _sound(mesh: PolyMesh, euler: int) -> bool:
    topology = mesh.topology
    inner = ~topology.border_points & (topology.valence > 0)
    rows = np.sort(mesh.as_quads(), axis=1)
    return (
        len(topology.nonmanifold_edges) == 0
        and euler_characteristic(mesh) == euler
        and not bool((rows[:, 1:] == rows[:, :-1]).any())
        and not bool((topology.valence[inner] < 3).any())
    )
