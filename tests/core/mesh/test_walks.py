"""Paths along edges against networkx."""

from __future__ import annotations

import itertools

import networkx as nx
import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from jacket.core.mesh.choosing import loops_through
from jacket.core.mesh.edits import faces_removed
from jacket.core.mesh.geometry import edge_lengths
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.unique import unique_rows
from jacket.core.mesh.walks import edge_loop, face_parts, ring_edges, shortest_path
from tests.conftest import cube, grid, torus


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


def _opposite(mesh: PolyMesh) -> nx.Graph:
    """Edges joined to the one straight on: that at a point of four with which it shares no face, along the border its neighbour."""
    topology = mesh.topology
    faces_of = [set() for _ in range(topology.n_edges)]
    for f, edges in enumerate(np.split(topology.edge, mesh.starts[1:-1])):
        for e in edges.tolist():
            faces_of[e].add(f)
    out = nx.Graph()
    out.add_nodes_from(range(topology.n_edges))
    for p in range(mesh.n_points):
        here = np.flatnonzero((topology.edge_points == p).any(axis=1)).tolist()
        border = [e for e in here if len(faces_of[e]) == 1]
        if border:
            if len(border) == 2:
                out.add_edge(*border)
        elif len(here) == 4:
            out.add_edges_from((a, b) for a, b in itertools.combinations(here, 2) if not faces_of[a] & faces_of[b])
    return out


def test_loops_are_the_components_of_edges_that_lie_straight_on() -> None:
    """Whole, with holes, and with poles; against networkx."""
    whole = torus(12, 8)
    rng = np.random.default_rng(4)
    for mesh in (whole, faces_removed(whole, rng.choice(whole.n_faces, 20, replace=False)).mesh, cube()):
        parts = list(nx.connected_components(_opposite(mesh)))
        for part in parts:
            for e in list(part)[:3]:
                assert set(edge_loop(mesh, e).tolist()) == part
            row = edge_loop(mesh, min(part))
            assert len(row) == len(part), "each edge once"
            shared = [len(set(mesh.topology.edge_points[a]) & set(mesh.topology.edge_points[b])) for a, b in itertools.pairwise(row)]
            assert min(shared, default=1) >= 1, "in order"
        two = [min(p) for p in parts[:2]]
        assert set(loops_through(mesh, np.array(two)).tolist()) == parts[0] | parts[1]


def test_a_loop_ends_where_another_arrives() -> None:
    mesh = grid(6, 6)
    middle = next(e for e in range(mesh.topology.n_edges) if len(edge_loop(mesh, e)) == 6 and mesh.topology.edge_uses[e] == 2)
    row = edge_loop(mesh, middle)
    ends = mesh.topology.edge_points
    inner = (set(ends[row[2]].tolist()) & set(ends[row[3]].tolist())).pop()
    stop = np.zeros(mesh.topology.n_edges, bool)
    stop[next(e for e in np.flatnonzero((ends == inner).any(axis=1)) if e not in row)] = True
    assert edge_loop(mesh, int(row[0]), stop).tolist() == row[:3].tolist()


def test_equal_rows_are_those_that_numpy_finds() -> None:
    rng = np.random.default_rng(1)
    for rows in (rng.integers(0, 6, (400, 3)), np.round(rng.random((300, 2)), 1), np.zeros((0, 2)), np.ones((5, 1))):
        first, kind = unique_rows(rows)
        once, its_first, its_kind = np.unique(rows, axis=0, return_index=True, return_inverse=True)
        assert np.array_equal(rows[first], once) and np.array_equal(first, its_first) and np.array_equal(kind, its_kind.ravel())
