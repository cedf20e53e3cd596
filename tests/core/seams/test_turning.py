"""Paths and rings whose turns cost, against networkx on the graph of directed edges and against known lengths."""

from __future__ import annotations

import networkx as nx
import numpy as np
import pytest

from jacket.core.mesh.geometry import edge_lengths
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.seams.tailor import loops_over_faces
from jacket.core.seams.turning import Turning, cheapest_path, cheapest_ring, path_from, path_lengths
from tests.conftest import cube, grid, icosphere, torus


def darts(mesh: PolyMesh, turning: Turning, cost: np.ndarray, turn: float) -> nx.DiGraph:
    """Every way of going on from one directed edge to another with what that costs."""
    graph, ends = nx.DiGraph(), mesh.topology.edge_points
    start, around = mesh.topology.point_edges
    for e in range(len(cost)):
        for d in (0, 1):
            point = int(ends[e, 1 - d])
            for other in around[start[point] : start[point + 1]].tolist():
                if other != e:
                    to = (other, 0 if ends[other, 0] == point else 1)
                    bend = turning.turn(point, e, other) / (np.pi / 2)
                    graph.add_edge((e, d), to, weight=cost[other] + turn * bend**2)
    return graph


@pytest.mark.parametrize("mesh", [grid(7), split_to_quads(icosphere(1)), icosphere(2)])
@pytest.mark.parametrize("turn", [0.0, 0.8])
def test_cheapest_paths_are_those_of_networkx(mesh: PolyMesh, turn: float) -> None:
    rng = np.random.default_rng(5)
    cost = edge_lengths(mesh) * rng.uniform(0.1, 1.0, mesh.topology.n_edges)
    turning, ends = Turning.of(mesh), mesh.topology.edge_points
    graph = darts(mesh, turning, cost, turn)
    start, around = mesh.topology.point_edges
    nowhere = np.zeros(mesh.n_points, bool)
    for a, b in rng.integers(0, mesh.n_points, (12, 2)).tolist():
        if a == b:
            continue
        goals = nowhere.copy()
        goals[b] = True
        edges, total = cheapest_path(turning, cost, np.array([a]), goals, nowhere, turn)
        known = min(
            cost[e] + nx.single_source_dijkstra_path_length(graph, (e, int(ends[e, 0] != a)))[(f, int(ends[f, 1] != b))]
            for e in around[start[a] : start[a + 1]].tolist() for f in around[start[b] : start[b + 1]].tolist()
            if (f, int(ends[f, 1] != b)) in nx.descendants(graph, (e, int(ends[e, 0] != a))) | {(e, int(ends[e, 0] != a))}
        )  # fmt: skip
        assert total <= known + 1e-9
        # A way through its own start costs networkx nothing more, but is none here: equal but for that.
        assert total == pytest.approx(known) or a in ends[edges[1:]]
        lengths, before = path_lengths(turning, cost, a, nowhere, turn)
        assert np.array_equal(path_from(turning, lengths, before, b), edges)


def test_turns_cost_more_than_a_detour() -> None:
    """Across a grid from corner to corner a staircase is as short as the way along two sides, which turns but once."""
    mesh = grid(8)
    turning = Turning.of(mesh)
    goals = np.zeros(mesh.n_points, bool)
    goals[-1] = True
    edges, total = cheapest_path(turning, edge_lengths(mesh), np.array([0]), goals, np.zeros(mesh.n_points, bool), 0.5)
    assert len(edges) == 16 and total == pytest.approx(16.5)


def test_nothing_goes_through_shut_points_and_over_shut_edges() -> None:
    mesh = grid(4)
    turning, cost = Turning.of(mesh), edge_lengths(mesh)
    shut, goals = np.zeros(25, bool), np.zeros(25, bool)
    goals[24] = True
    shut[[10, 11, 12, 13]] = True
    edges, _ = cheapest_path(turning, cost, np.array([0]), goals, shut, 0.1)
    assert 14 in mesh.topology.edge_points[edges]
    shut[14] = True
    assert len(cheapest_path(turning, cost, np.array([0]), goals, shut, 0.1)[0]) == 0
    cost[mesh.topology.edge_points[:, 1] == 24] = np.inf
    assert cheapest_path(turning, cost, np.array([0]), goals, np.zeros(25, bool), 0.1)[1] == np.inf


def shortest(mesh: PolyMesh, across: np.ndarray) -> float:
    length = edge_lengths(mesh)
    edges, total = cheapest_ring(Turning.of(mesh), length, across, np.zeros(mesh.n_points, bool), 0.0)
    count = np.bincount(mesh.topology.edge_points[edges].ravel())
    assert (count[count > 0] == 2).all() and total == pytest.approx(float(length[edges].sum()))
    return total


def test_rings_of_known_length() -> None:
    """On a cylinder the outline of its polygon; on a torus that of the tube; on two tori joined the shorter tube's: each is the
    shortest of its kind, since the meshes are of straight rows."""
    n, r = 24, 0.5
    angle = 2 * np.pi * np.arange(n) / n
    points = np.concatenate([np.stack([r * np.cos(angle), np.full(n, 0.3 * k), r * np.sin(angle)], 1) for k in range(9)])
    tube = PolyMesh.from_faces(points, [[k * n + i, k * n + (i + 1) % n, (k + 1) * n + (i + 1) % n, (k + 1) * n + i] for k in range(8) for i in range(n)])
    # Edges in one row along the tube: what a way from one end to the other crosses.
    row = tube.topology.find_edges(np.sort(np.array([[k * n, k * n + 1] for k in range(9)]), axis=1))
    assert shortest(tube, row) == pytest.approx(2 * n * r * np.sin(np.pi / n))
    one = torus(40, 16)
    least = min(shortest(one, a) for a in loops_over_faces(one, edge_lengths(one)))
    rows = [edge_lengths(one)[one.topology.find_edges(np.sort(np.stack([ring, np.roll(ring, -1)], 1), axis=1))].sum()
            for ring in np.arange(one.n_points).reshape(40, 16)]  # fmt: skip
    assert least == pytest.approx(min(rows), rel=1e-9)
    two = joined(one)
    loops = loops_over_faces(two, edge_lengths(two))
    assert len(loops) == 4  # two a handle
    assert min(shortest(two, a) for a in loops) == pytest.approx(min(rows), rel=1e-9)


def joined(one: PolyMesh) -> PolyMesh:
    """Two of a closed quad mesh, a face of each taken out and the holes joined by four quads."""
    face = int(np.argmax(one.points[one.corners.reshape(-1, 4)].mean(axis=1)[:, 0]))
    rest = np.delete(one.corners.reshape(-1, 4), face, axis=0)
    a, n = one.corners.reshape(-1, 4)[face], one.n_points
    points = np.concatenate([one.points, one.points * [-1, 1, 1] + [2 * one.points[:, 0].max() + 0.2, 0, 0]])
    faces = [*rest.tolist(), *(rest[:, ::-1] + n).tolist()]
    faces += [[int(a[k]), int(a[(k + 1) % 4]), int(a[(k + 1) % 4]) + n, int(a[k]) + n] for k in range(4)]
    return PolyMesh.from_faces(points, faces)


def test_no_loop_on_a_ball_and_corners_of_quads_count_alike() -> None:
    assert loops_over_faces(icosphere(2), edge_lengths(icosphere(2))) == []
    skew = grid(4)
    points = skew.points.copy()
    points[:, 0] += 0.9 * points[:, 1]
    turning, here = Turning.of(skew.with_points(points)), skew.topology.find_edge
    assert turning.turn(12, here(11, 12), here(12, 13)) == pytest.approx(0)
    assert turning.turn(12, here(11, 12), here(7, 12)) == pytest.approx(np.pi / 2)
    corner = split_to_quads(cube())
    three = int(np.flatnonzero(corner.topology.valence == 3)[0])
    start, around = corner.topology.point_edges
    one, other = around[start[three] : start[three] + 2].tolist()
    assert Turning.of(corner).turn(three, one, other) == pytest.approx(np.pi / 3)
