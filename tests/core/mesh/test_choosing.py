"""Choosing elements: growing, links, chains, likeness, against networkx and libigl."""

from __future__ import annotations

import igl
import networkx as nx
import numpy as np
import pytest

from jacket.core.mesh.choosing import (
    as_kind,
    chains,
    every_nth,
    grown,
    inverted,
    linked,
    loops_through,
    outline,
    rings_through,
    shrunk,
    similar,
)
from jacket.core.mesh.pieces import put_side_by_side
from jacket.core.mesh.polymesh import PolyMesh
from jacket.errors import EditRefused
from tests.conftest import cube, grid, torus


def point_graph(mesh: PolyMesh) -> nx.Graph:
    graph = nx.Graph()
    graph.add_nodes_from(range(mesh.n_points))
    graph.add_edges_from(mesh.topology.edge_points.tolist())
    return graph


def test_growing_and_links_agree_with_networkx(spot: PolyMesh) -> None:
    graph = point_graph(spot)
    some = np.array([3, 500, 501])
    ball = set().union(*(nx.ego_graph(graph, int(p), 2).nodes for p in some))
    twice = grown(spot, "points", grown(spot, "points", some))
    assert set(twice.tolist()) == ball
    assert set(some.tolist()) <= set(shrunk(spot, "points", twice).tolist()) <= ball
    two = put_side_by_side([spot, spot])
    parts = [set(c) for c in nx.connected_components(point_graph(two))]
    assert set(linked(two, "points", np.array([4])).tolist()) in parts
    faces = grown(spot, "faces", np.array([7]))
    touching = nx.ego_graph(
        nx.Graph([(("f", f), int(p)) for f in range(spot.n_faces) for p in spot.face(f)]), ("f", 7), 2
    )
    assert set(faces.tolist()) == {n[1] for n in touching if isinstance(n, tuple)}


def test_valence_and_borders_agree_with_libigl(spot: PolyMesh) -> None:
    triangles = spot.corners.reshape(-1, 3)
    lists = igl.adjacency_list(triangles)
    assert [len(r) for r in lists] == spot.topology.valence.tolist()
    cap = np.flatnonzero(spot.points[spot.corners.reshape(-1, 3)].mean(axis=1)[:, 1] > 0.3)
    loop = igl.boundary_facets(triangles[cap])
    loop = np.asarray(loop[0] if isinstance(loop, tuple) else loop)
    edges = outline(spot, "faces", cap)
    assert {frozenset(e) for e in loop.tolist()} == {frozenset(e) for e in spot.topology.edge_points[edges].tolist()}


def test_chosen_kinds_turn_into_one_another() -> None:
    g = grid(4)
    assert len(as_kind(g, "faces", np.array([5]), "points")) == 4
    assert len(as_kind(g, "points", g.face(5), "edges")) == 4
    assert as_kind(g, "edges", as_kind(g, "faces", np.array([5, 6]), "edges"), "faces").tolist() == [5, 6]
    assert len(inverted(g, "faces", np.array([5]))) == 15
    assert shrunk(g, "faces", np.arange(16)).tolist() == list(range(16))


def test_every_nth_runs_along_chains() -> None:
    ring = torus(12, 6)
    e = int(ring.topology.find_edge(0, 1))
    across = rings_through(ring, np.array([e]))
    assert len(across) == 12
    third = every_nth(ring, "edges", across, 3)
    assert len(third) == 4
    order = chains(ring, "edges", across)[0]
    assert {order.index(int(x)) % 3 for x in third} == {0}
    assert len(every_nth(ring, "edges", across, 3, 1)) == 4
    around = loops_through(ring, np.array([e]))
    assert len(every_nth(ring, "edges", around, 2)) == len(around) / 2
    with pytest.raises(EditRefused, match="1 or more"):
        every_nth(ring, "edges", across, 0)


def test_similar_elements() -> None:
    ring = torus(12, 6)
    lengths = np.linalg.norm(np.diff(ring.points[ring.topology.edge_points], axis=1)[:, 0], axis=1)
    alike = similar(ring, "edges", np.array([0]), "length", 0.01)
    assert (
        np.allclose(lengths[alike], lengths[0], rtol=0.02)
        and len(alike) == np.isclose(lengths, lengths[0], rtol=0.01).sum()
    )
    flat = similar(cube(), "faces", np.array([0]), "normal", 0.1)
    assert flat.tolist() == [0]
    with pytest.raises(EditRefused, match="compared by area"):
        similar(ring, "points", np.array([0]), "area")


def test_every_second_of_an_open_chain_counts_from_its_end() -> None:
    """Points 7, 2 and 3 of a grid hang together in that order: the least number is in the middle."""
    assert every_nth(grid(4), "points", np.array([2, 3, 7]), 2).tolist() == [3, 7]
