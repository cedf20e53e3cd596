"""Walls of boxy forms: directions of boxes, and shares that cost least as NetworkX finds them."""

from __future__ import annotations

import networkx
import numpy as np
import pytest

from jacket.core.flatten.unwrap import unwrap
from jacket.core.mesh.geometry import face_areas, face_normals
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.walks import face_parts
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.seams import walls
from jacket.core.seams.networks import ways_of
from jacket.core.seams.suggest import suggest_seams
from jacket.core.seams.walls import main_directions, wall_edges
from tests.conftest import grid, icosphere, torus
from tests.core.seams.test_networks import can, rounded_box
from tests.core.seams.test_suggest import box


def crate(deep: float = 0.04) -> PolyMesh:
    """A box of half sides 1 whose walls are let in between posts; its own edges turn by 30° thrice."""
    plain = box(4)
    points = 2.0 * (plain.points - plain.points.min(axis=0)) / np.ptp(plain.points, axis=0) - 1.0
    on = np.abs(points) > 1 - 1e-9
    inner = on & (np.abs(points) < 0.7)[:, [1, 2, 0]] & (np.abs(points) < 0.7)[:, [2, 0, 1]]
    out = np.sign(points) * np.interp(np.abs(points), [0, 0.75, 0.875, 1], [0, 0.8, 0.95, 1])
    edge = on & (on.sum(axis=1) >= 2)[:, None]
    out = np.where(edge, np.sign(points) * (0.95 + 0.05 / (1 + np.tan(np.pi / 6))), out)
    return plain.with_points(np.where(inner, np.sign(points) * (1 - deep), out))


@pytest.mark.parametrize("mesh", [rounded_box(), rounded_box(noise=0.008), crate()])
def test_a_box_faces_six_ways_and_has_six_equal_walls(mesh: PolyMesh) -> None:
    turn, _ = np.linalg.qr(np.random.default_rng(2).standard_normal((3, 3)))
    turned = mesh.with_points(mesh.points @ turn.T)
    ways = main_directions(turned) @ turn
    assert len(ways) == 6 and np.abs(ways).max(axis=1).min() > np.cos(np.radians(2))
    assert face_parts(mesh, wall_edges(turned))[0] == 6
    way = next(w for w in ways_of(turned, np.ones(mesh.topology.n_edges, bool)) if w.flat)
    assert way.network is not None
    count, labels = face_parts(mesh, way.network)
    area = np.bincount(labels, face_areas(mesh))
    assert count == 6 and np.ptp(area) < 0.2 * area.mean()


LOW = can().with_points(can().points * [1.0, 1.0, 0.3])


@pytest.mark.parametrize("mesh", [split_to_quads(icosphere(3)), torus(40, 24), torus(40, 8), can(), LOW, grid(8)])
def test_what_is_round_or_one_sheet_has_no_walls(mesh: PolyMesh) -> None:
    """A ball, rings, a can, whose ends are two walls and not half of it, a low one, of which they are most, and a plate, which is one."""
    assert not wall_edges(mesh).any() and not wall_edges(mesh.with_points(0.0 * mesh.points)).any()


def test_a_crate_is_cut_along_its_edges_whatever_is_let_in() -> None:
    """Its recesses are the sharp edges and its own are not; each wall comes whole, let-in part and flanks, or folded to another one."""
    mesh = crate()
    islands = unwrap(suggest_seams(mesh))[1]
    assert all(i.flat and not i.overlaps for i in islands)
    normals = face_normals(mesh)
    middle = mesh.points[mesh.as_quads()].mean(axis=1)
    for axis in range(3):
        for side in (-1, 1):
            # What faces out in the middle of a wall and on its posts lies in one island.
            own = np.flatnonzero((side * normals[:, axis] > 0.9) & (side * middle[:, axis] > 0.8))
            assert len(own) and sum(bool(np.isin(own, i.faces).any()) for i in islands) == 1


def test_flanks_of_a_recess_go_to_the_wall_round_them() -> None:
    """Flanks of 60° face other ways than their walls, but are narrow: six walls are left, each in one piece and of a sixth of all."""
    mesh = crate(0.2)
    labels = walls._given(mesh, np.concatenate([np.eye(3), -np.eye(3)]))
    corner = mesh.topology.edge_corner
    sides = mesh.face_of_corner[np.stack([corner, mesh.topology.twin[corner]], axis=1)]
    count, parts = face_parts(mesh, labels[sides[:, 0]] != labels[sides[:, 1]])
    area = np.bincount(parts, face_areas(mesh))
    assert count == 6 and np.ptp(area) < 0.1 * area.mean()


def test_shares_cost_least_of_all() -> None:
    """Two labels over a grid with random costs: the minimum cut of NetworkX costs as much; a third label is left alone."""
    rng = np.random.default_rng(7)
    for _ in range(5):
        n = 36
        sides = np.array([(k, k + 1) for k in range(n) if k % 6 < 5] + [(k, k + 6) for k in range(n - 6)])
        costs, between = rng.integers(0, 100, (n, 3)), rng.integers(1, 40, len(sides))
        labels = rng.integers(0, 3, n)
        other = labels == 2
        graph = networkx.DiGraph()
        for k in np.flatnonzero(~other).tolist():
            graph.add_edge("a", k, capacity=int(costs[k, 1]))
            graph.add_edge(k, "b", capacity=int(costs[k, 0]))
        for (p, q), c in zip(sides.tolist(), between.tolist(), strict=True):
            if not (other[p] or other[q]):
                graph.add_edge(p, q, capacity=c)
                graph.add_edge(q, p, capacity=c)
        least, _ = networkx.minimum_cut(graph, "a", "b")
        walls._swapped(labels, costs, sides, between, 0, 1)
        inner = ~other[sides].any(axis=1)
        apart = labels[sides[:, 0]] != labels[sides[:, 1]]
        assert costs[~other, labels[~other]].sum() + between[inner & apart].sum() == least
        assert (labels[other] == 2).all() and not walls._swapped(labels, costs, sides, between, 0, 1)
