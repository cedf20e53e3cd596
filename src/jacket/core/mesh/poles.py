"""Irregular points moved and cancelled through whole rows, so that a mesh of quads stays one.

Collapsing the row that crosses an edge makes one point of valence a + b − 4 of its ends: a pole of three and one of five
become a regular point, a pole and a regular point a pole one step on.
"""

from __future__ import annotations

import itertools

import numpy as np

from jacket.core.mesh.edits import loop_inserted, points_welded
from jacket.core.mesh.geometry import unit
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.mesh.rows import collapse_pairs
from jacket.core.mesh.walks import euler_characteristic, ring_edges, shortest_path
from jacket.errors import EditRefused

FARTHEST = 12
"""Steps between two poles up to which they are cancelled; each costs a row."""


def irregular_points(mesh: PolyMesh) -> Ints:
    """Inner points whose valence is not 4, ascending."""
    topology = mesh.topology
    return np.flatnonzero((topology.valence > 0) & ~topology.border_points & (topology.valence != 4)).astype(np.int32)


def irregular_count(mesh: PolyMesh) -> int:
    """Number of irregular points."""
    return len(irregular_points(mesh))


def is_pole(mesh: PolyMesh, point: int) -> bool:
    """Whether an inner point has not four edges."""
    topology = mesh.topology
    return bool(topology.valence[point] > 0 and not topology.border_points[point] and topology.valence[point] != 4)


def pair_cancelled(mesh: PolyMesh, a: int, b: int) -> PolyMesh:
    """Two poles whose valences add up to 8 made regular: the rows across the way between them are collapsed.

    Raises EditRefused where they are no such pair, too far apart, or every way is crossed by a row that cannot go.
    """
    if not (is_pole(mesh, a) and is_pole(mesh, b)) or int(mesh.topology.valence[[a, b]].sum()) != 8:
        raise EditRefused("Hold two irregular points whose edges add up to eight, as one of three and one of five.")
    for _ in range(FARTHEST):
        way = shortest_path(mesh, a, b, np.ones(mesh.topology.n_edges))
        if len(way) > FARTHEST:
            break
        for p, q in _steps(mesh, way, b):
            try:
                new, to = _collapsed(mesh, p, q)
            except EditRefused:
                continue
            mesh, a, b = new, int(to[a]), int(to[b])
            break
        else:
            raise EditRefused("Every row between these points crosses itself; move one of them first.")
        if a == b:
            return mesh
    raise EditRefused("These points are too far apart to cancel; hold two that are nearer.")


def _steps(mesh: PolyMesh, way: Ints, goal: int) -> list[tuple[int, int]]:
    """Edges along a way, those crossed by the shortest rows first."""
    pairs = [(int(p), int(q)) for p, q in itertools.pairwise(way)]
    return sorted(pairs, key=lambda e: len(ring_edges(mesh, mesh.topology.find_edge(*e))))


def _collapsed(mesh: PolyMesh, p: int, q: int) -> tuple[PolyMesh, Ints]:
    """The mesh without the row across an edge, and (V,) where each point went."""
    moved, pairs = collapse_pairs(mesh, mesh.topology.find_edge(p, q))
    edited = points_welded(moved, pairs)
    valence = edited.mesh.topology.valence
    inner = ~edited.mesh.topology.border_points & (valence > 0)
    if (valence[inner] < 3).any() or not edited.mesh.is_quads or _euler_moved(mesh, edited.mesh):
        raise EditRefused("Without this row the mesh would close up on itself.")
    return edited.mesh, edited.point_to


def _euler_moved(before: PolyMesh, after: PolyMesh) -> bool:
    return euler_characteristic(before) != euler_characteristic(after)


def pole_moved(mesh: PolyMesh, pole: int, to: int) -> PolyMesh:
    """An irregular point moved one step along its row to the neighbour `to`: the row ahead goes, and one comes behind it,
    across the edge that runs back straightest.

    Raises EditRefused where the point is regular, the neighbour is none or irregular, or both rows are one.
    """
    topology = mesh.topology
    ahead = topology.find_edge(pole, to)
    if not is_pole(mesh, pole) or ahead < 0:
        raise EditRefused("Hold an irregular point and the neighbour it should move to.")
    if topology.border_points[to] or topology.valence[to] != 4:
        raise EditRefused("It can only move to a point of four edges inside the mesh; cancel the pair instead.")
    ends = topology.edge_points[(topology.edge_points == pole).any(axis=1)]
    others = [int(p) for p in np.setdiff1d(ends.ravel(), [pole, to])]
    forward = _way(mesh, pole, to)
    front = set(ring_edges(mesh, ahead).tolist())
    behind = sorted(others, key=lambda p: float(forward @ _way(mesh, pole, p)))
    for back in behind[: len(others) // 2 + 1]:
        if topology.find_edge(pole, back) in front:
            continue
        new, where = _collapsed(mesh, pole, to)
        edge = new.topology.find_edge(int(where[pole]), int(where[back]))
        if edge >= 0:
            return loop_inserted(new, edge, 0.5).mesh
    raise EditRefused("The row ahead and the row behind are one here; the point cannot move this way.")


def _way(mesh: PolyMesh, a: int, b: int) -> Floats:
    return unit((mesh.points[b] - mesh.points[a])[None])[0]
