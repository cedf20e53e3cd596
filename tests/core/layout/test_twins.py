"""Twins by connectivity and form, against shapes that are turned, mirrored and bent on purpose; graphs by networkx."""

from __future__ import annotations

import networkx as nx
import numpy as np
import pytest

from jacket.core.derive import twins_of
from jacket.core.layout.twins import find_twins, laid_on
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.islands import Islands
from jacket.core.uv.sheets import ONE_SHEET
from tests.conftest import grid


def placed(points: np.ndarray, turn: float, shift: float, flip: bool = False) -> np.ndarray:
    """Turned about z, mirrored in x before where wanted, and shifted away."""
    c, s = np.cos(turn), np.sin(turn)
    at = points * [-1, 1, 1] if flip else points
    return at @ np.array([[c, s, 0], [-s, c, 0], [0, 0, 1]]) + [0, 0, shift]


def piece() -> tuple[np.ndarray, list[list[int]]]:
    """A quad sheet without any symmetry: 3 × 4 quads, bent and one corner missing."""
    base = grid(3, 4)
    points = base.points * [1.0, 0.7, 1.0]
    points[:, 2] = 0.2 * points[:, 0] ** 2
    points[:, 0] += 0.15 * points[:, 1]
    faces = [base.corners[a:b].tolist() for a, b in zip(base.starts[:-1], base.starts[1:], strict=True)]
    return points, faces[:-1]


def several(copies: list[tuple[np.ndarray, bool, int]]) -> PolyMesh:
    """Copies of the piece as one mesh, each with faces in another order and other first corners."""
    _, faces = piece()
    points, out = [], []
    for k, (at, flip, seed) in enumerate(copies):
        rng = np.random.default_rng(seed)
        for f in rng.permutation(len(faces)):
            ring = np.roll(faces[f][::-1] if flip else faces[f], int(rng.integers(4)))
            out.append((ring + k * len(at)).tolist())
        points.append(at)
    mesh = PolyMesh.from_faces(np.concatenate(points), out)
    return mesh.with_uv(mesh.points[mesh.corners][:, :2] / 20 + 0.5)


def test_the_same_sides_at_other_angles_are_no_twins() -> None:
    """Squares and rhombs of the same sides: areas differ by 1 %, so that only the ways across their
    corners tell them apart."""
    squares = grid(3, 4)
    slanted = squares.points.copy()
    slanted[:, :2] = slanted[:, :2] @ np.array([[1.0, 0.0], [0.15, np.sqrt(1 - 0.15**2)]])
    faces = squares.corners.reshape(-1, 4)
    mesh = PolyMesh.from_faces(np.concatenate([squares.points, slanted + [9, 0, 0], squares.points + [0, 9, 0]]),
                               np.concatenate([faces, faces + squares.n_points, faces + 2 * squares.n_points]))  # fmt: skip
    islands = Islands.of(mesh.with_uv(mesh.points[mesh.corners][:, :2] / 40))
    assert [set(group.islands) for group in find_twins(islands, 0.02)] == [{int(islands.labels[0]), int(islands.labels[24])}]


def test_twins_stay_known_while_islands_are_only_moved() -> None:
    points, _ = piece()
    mesh = several([(placed(points, 0.0, 0), False, 1), (placed(points, 1.1, 5), False, 2)])
    found = twins_of(mesh, ONE_SHEET, 0.01, True)
    assert [len(t.islands) for t in found] == [2]
    assert twins_of(mesh.with_uv(mesh.uv * 0.5 + 0.1), ONE_SHEET, 0.01, True) is found
    bent = mesh.points.copy()
    bent[: len(points), 2] += 0.4 * points[:, 1] ** 2
    assert twins_of(mesh.with_points(bent), ONE_SHEET, 0.01, True) == []


def test_twins_are_found_turned_mirrored_and_within_the_tolerance_only() -> None:
    points, _ = piece()
    bent = points.copy()
    bent[:, 2] += 0.4 * points[:, 1] ** 2
    mesh = several([(placed(points, 0.0, 0), False, 1), (placed(points, 1.1, 5), False, 2), (placed(points, 2.0, 9, True), True, 3),
                    (placed(bent, 0.4, 14), False, 4), (placed(points * 1.004, 0.7, 20), False, 5)])  # fmt: skip
    islands = Islands.of(mesh)
    assert islands.count == 5
    labels = [int(islands.labels[k * 11]) for k in range(5)]
    (group,) = find_twins(islands, 0.02)
    assert set(group.islands) == {labels[k] for k in (0, 1, 2, 4)}
    assert sum(group.mirrored) in (1, 3) and len(group.corners[0]) == 44
    (plain,) = find_twins(islands, 0.02, mirrored=False)
    assert set(plain.islands) == {labels[k] for k in (0, 1, 4)}
    (exact,) = find_twins(islands, 1e-4)
    assert set(exact.islands) == {labels[k] for k in (0, 1, 2)}
    assert not find_twins(islands, 0.02, among=[labels[0], labels[3]])


def test_the_answers_are_isomorphisms_and_laying_on_puts_point_on_point() -> None:
    points, _ = piece()
    mesh = several([(placed(points, 0.0, 0), False, 1), (placed(points, 1.1, 5), False, 7), (placed(points, 2.0, 9, True), True, 3)])
    islands = Islands.of(mesh)
    (group,) = find_twins(islands)
    one = group.corners[0]
    for other, mirrored in zip(group.corners, group.mirrored, strict=True):
        # The map of points carries edges to edges: networkx takes both graphs for one.
        pairs = dict(zip(mesh.corners[one].tolist(), mesh.corners[other].tolist(), strict=True))
        ends = mesh.topology.edge_points
        graph = nx.Graph([tuple(e) for e in ends.tolist() if e[0] in pairs and e[1] in pairs])
        theirs = nx.relabel_nodes(graph, pairs)
        assert all(mesh_edge(mesh, a, b) for a, b in theirs.edges) and nx.is_isomorphic(graph, theirs)
        # By form: distances between all pairs of points are the same.
        a, b = mesh.points[list(pairs)], mesh.points[list(pairs.values())]
        assert np.abs(distances(a) - distances(b)).max() < 1e-9
        assert mirrored == (np.linalg.det(np.linalg.lstsq(a - a.mean(0), b - b.mean(0), rcond=None)[0]) < 0)
    uv = laid_on(islands, group)
    assert np.array_equal(uv[group.corners[1]], uv[one]) and np.array_equal(uv[group.corners[2]], uv[one])
    # Each island stays whole: a point of it has one place.
    for k in range(3):
        own = islands.corner_labels == k
        for p in np.unique(mesh.corners[own]):
            assert len(np.unique(uv[own & (mesh.corners == p)], axis=0)) == 1


def mesh_edge(mesh: PolyMesh, a: int, b: int) -> bool:
    return bool((np.sort(mesh.topology.edge_points, axis=1) == sorted((a, b))).all(axis=1).any())


def distances(points: np.ndarray) -> np.ndarray:
    return np.linalg.norm(points[:, None] - points[None], axis=2)


@pytest.mark.parametrize("count", [40])
def test_symmetric_islands_are_twins_too(count: int) -> None:
    """Square patches look the same from four sides; each is still laid on the first point by point."""
    base = grid(3)
    at = [placed(base.points - [1.5, 1.5, 0], 0.3 * k, 2.0 * k) for k in range(count)]
    faces = [(base.corners[a:b] + k * len(base.points)).tolist() for k in range(count) for a, b in zip(base.starts[:-1], base.starts[1:], strict=True)]
    mesh = PolyMesh.from_faces(np.concatenate(at), faces)
    mesh = mesh.with_uv(mesh.points[mesh.corners][:, :2] / 20 + 0.5)
    (group,) = find_twins(Islands.of(mesh))
    assert len(group.islands) == count
