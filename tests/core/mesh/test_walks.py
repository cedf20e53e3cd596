"""Paths along edges against networkx."""

from __future__ import annotations

import itertools

import networkx as nx
import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from jacket.core.mesh.geometry import edge_lengths
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.walks import face_parts, ring_edges, shortest_path
from tests.conftest import grid, torus


def test_shortest_paths_are_those_of_networkx(spot: PolyMesh) -> None:
    graph, lengths = nx.Graph(), edge_lengths(spot)
    graph.add_weighted_edges_from(
        (int(a), int(b), float(w)) for (a, b), w in zip(spot.topology.edge_points, lengths, strict=True)
    )
    start = 17
    far = nx.single_source_dijkstra_path_length(graph, start)
    for end in np.random.default_rng(5).integers(0, spot.n_points, 30).tolist():
        path = shortest_path(spot, start, end)
        assert path[0] == start and path[-1] == end
        steps = [graph.edges[int(a), int(b)]["weight"] for a, b in itertools.pairwise(path.tolist())]
        assert np.isclose(sum(steps), far[end])


def test_what_cannot_be_reached_has_no_path() -> None:
    a, b = grid(1), grid(1)
    apart = PolyMesh.from_faces(np.concatenate([a.points, b.points + 5]), np.array([[0, 1, 3, 2], [4, 5, 7, 6]]))
    assert len(shortest_path(apart, 0, 7)) == 0


def test_rings_are_the_components_of_opposite_edges() -> None:
    """Edges opposite in some quad are joined; rings are the pieces of that graph (networkx)."""
    ring = torus(9, 5)
    topology = ring.topology
    graph = nx.Graph()
    edges = topology.edge.reshape(-1, 4)
    graph.add_edges_from(map(tuple, np.concatenate([edges[:, [0, 2]], edges[:, [1, 3]]]).tolist()))
    for piece in nx.connected_components(graph):
        assert set(ring_edges(ring, min(piece)).tolist()) == piece


def test_parts_are_the_components_of_the_graph_of_faces() -> None:
    """Against SciPy's connected components, with random cuts; numbered by their first faces."""
    mesh, rng = grid(12), np.random.default_rng(5)
    for share in (0.0, 0.3, 0.5, 0.7, 1.0):
        cut = rng.random(mesh.topology.n_edges) < share
        joins = np.flatnonzero((mesh.topology.twin >= 0) & ~cut[mesh.topology.edge])
        pairs = mesh.face_of_corner[joins], mesh.face_of_corner[mesh.topology.twin[joins]]
        graph = coo_array((np.ones(len(joins)), pairs), shape=(mesh.n_faces, mesh.n_faces))
        wanted, expected = connected_components(graph, directed=False)
        count, labels = face_parts(mesh, cut)
        assert count == wanted
        assert len(np.unique(labels * 1000 + expected)) == count
        assert (np.diff(np.unique(labels, return_index=True)[1]) > 0).all()


def test_an_edge_of_three_faces_joins_them_only_without_cuts() -> None:
    points = np.array([[0.0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1], [0, -1, 0]])
    fan = PolyMesh.from_faces(points, [[0, 1, 2], [0, 1, 3], [0, 1, 4]])
    assert face_parts(fan)[0] == 1
    assert face_parts(fan, np.zeros(fan.topology.n_edges, bool))[0] == 3
