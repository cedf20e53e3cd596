"""Edges turned within their two quads."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.rows import edge_turned, edges_dissolved
from jacket.errors import EditRefused
from tests.conftest import grid


def test_turned_edges_keep_quads_and_come_round_again() -> None:
    """Each turn takes one from the ends' valence and gives it to the next corners; the hexagon round two quads has three
    such edges, so three turns bring back the first."""
    g = grid(4).with_uv(grid(4).points[grid(4).corners][:, :2])
    a, b = 11, 12
    mesh = edge_turned(g, g.topology.find_edge(a, b)).mesh
    assert mesh.is_quads and mesh.n_faces == 16 and len(mesh.topology.nonmanifold_edges) == 0
    change = mesh.topology.valence - g.topology.valence
    assert change[[a, b]].tolist() == [-1, -1] and sorted(change[change != 0].tolist()) == [-1, -1, 1, 1]
    assert np.allclose(mesh.uv, mesh.points[mesh.corners][:, :2])
    for _ in range(2):
        gained = np.flatnonzero(mesh.topology.valence - g.topology.valence > 0)
        edge = mesh.topology.find_edge(*gained.tolist()) if len(gained) == 2 else -1
        mesh = edge_turned(mesh, edge).mesh
    assert {frozenset(f) for f in mesh.as_quads().tolist()} == {frozenset(f) for f in g.as_quads().tolist()}
    with pytest.raises(EditRefused, match="between two quads"):
        edge_turned(g, int(g.topology.border_edges[0]))


def test_taking_edges_out_never_gives_an_edge_a_third_face() -> None:
    """A tube of three quads around: the edges up and down from a point of its middle taken out would drop that point and lay a
    second edge between its two neighbours, which have one already."""
    points = [[np.cos(a), np.sin(a), z] for z in range(3) for a in (0.0, 2.1, 4.2)]
    quads = [[3 * z + k, 3 * z + (k + 1) % 3, 3 * z + 3 + (k + 1) % 3, 3 * z + 3 + k] for z in range(2) for k in range(3)]
    mesh = PolyMesh.from_faces(np.array(points), quads)
    edges = mesh.topology.find_edges(np.array([[0, 3], [3, 6]]))
    with pytest.raises(EditRefused, match="third face"):
        edges_dissolved(mesh, edges)
