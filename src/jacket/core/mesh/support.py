"""Support loops: a row close beside an edge on both sides, so that smooth shading bends there and stays flat elsewhere."""

from __future__ import annotations

import numpy as np

from jacket.core.mesh.edits import loop_inserted
from jacket.core.mesh.polymesh import Bools, Ints, PolyMesh
from jacket.errors import EditRefused

MOST = 64
"""Loops that one call inserts at most."""
NARROW = 0.6
"""A side that is so many times as wide as it was has its loop already."""


def supported(mesh: PolyMesh, edges: Bools, share: float) -> tuple[PolyMesh, Ints, int]:
    """The mesh with a loop beside the edges flagged in `edges` (E,), on both sides, at a share of the way across the quads there;
    the points that are new, and how many loops. A loop runs on along its whole row, so one serves all edges of a chain.

    Raises EditRefused where no edge has a quad beside it, or a great many loops would be needed."""
    pairs = mesh.topology.edge_points[np.flatnonzero(edges)].tolist()
    was = {key: wide for a, b in pairs for key, wide in _sides(mesh, a, b).items()}
    if not was:
        raise EditRefused("None of these edges has a quad beside it that a loop could run through; hold edges between quads.")
    first, loops = mesh.n_points, 0
    for key, wide in was.items():
        a, b = key[0], _towards(mesh, *key)
        now = _sides(mesh, a, b) if b >= 0 else {}
        if (a, b) not in now or now[a, b] < NARROW * wide:
            continue
        if loops >= MOST:
            raise EditRefused(f"These edges need more than {MOST} loops; hold a chain at a time.")
        # The share counts across the quad as it was, whatever loop has come in from its other side.
        mesh = loop_inserted(mesh, *_across(mesh, a, b, min(share * wide / now[a, b], 0.9))).mesh
        loops += 1
    return mesh, np.arange(first, mesh.n_points, dtype=np.int32), loops


def _sides(mesh: PolyMesh, a: int, b: int) -> dict[tuple[int, int], float]:
    """How far the quads beside the edge between a and b reach, by its ends in the direction in which they have it."""
    topology, out = mesh.topology, dict[tuple[int, int], float]()
    edge = topology.find_edge(a, b)
    if edge < 0:
        return out
    one = int(topology.edge_corner[edge])
    for c in (one, int(topology.twin[one])):
        if c >= 0 and mesh.sizes[mesh.face_of_corner[c]] == 4:
            p, q = int(mesh.corners[c]), int(mesh.corners[topology.next[c]])
            far = [int(mesh.corners[topology.prev[c]]), int(mesh.corners[topology.next[topology.next[c]]])]
            wide = np.linalg.norm(mesh.points[far] - mesh.points[[p, q]], axis=1)
            out[(p, q)] = float(wide.mean())
    return out


def _towards(mesh: PolyMesh, a: int, b: int) -> int:
    """The point next to a on the way to b, which loops may have parted; −1 where there is none."""
    if mesh.topology.find_edge(a, b) >= 0:
        return b
    start, around = mesh.topology.point_edges
    ends = mesh.topology.edge_points[around[start[a] : start[a + 1]]]
    near = np.where(ends[:, 0] == a, ends[:, 1], ends[:, 0])
    way, goal = mesh.points[near] - mesh.points[a], mesh.points[b] - mesh.points[a]
    off = np.linalg.norm(np.cross(way, goal), axis=1)
    on = (off <= 1e-9 * float(goal @ goal)) & (way @ goal > 0)
    return int(near[on][0]) if on.any() else -1


def _across(mesh: PolyMesh, a: int, b: int, share: float) -> tuple[int, float]:
    """The edge across the quad that has an edge from a to b, leaving from a, and the share along it as its own direction counts."""
    topology = mesh.topology
    c = int(topology.edge_corner[topology.find_edge(a, b)])
    c = c if int(mesh.corners[c]) == a else int(topology.twin[c])
    edge = int(topology.edge[topology.prev[c]])
    first = int(mesh.corners[topology.edge_corner[edge]])
    return edge, share if first == a else 1.0 - share
