"""Which quads Draft offers: those of the size of what is around, and no others."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.mesh.edits import point_added
from jacket.core.mesh.polymesh import PolyMesh
from jacket.stages.topology.tools.closing import closing_quads
from jacket.stages.topology.tools.draft import Draft
from jacket.tools.view import FormCamera
from tests.conftest import grid
from tests.hands import Hand, document_over

CAMERA = FormCamera(np.zeros(3), 6.0, yaw=0, pitch=0, width=800, height=800)


def wall() -> PolyMesh:
    """A flat source facing the camera."""
    mesh = grid(1)
    return mesh.with_points((mesh.points - [0.5, 0.5, 0]) * 8)


def strip(size: float) -> PolyMesh:
    """Two quads side by side, their upper border along y = 0."""
    mesh = grid(2, 1)
    return mesh.with_points((mesh.points - [1, 1, 0]) * size)


def with_free(mesh: PolyMesh, *places: tuple[float, float]) -> PolyMesh:
    for x, y in places:
        mesh = point_added(mesh, [x, y, 0.0]).mesh
    return mesh


def offered(mesh: PolyMesh, x: float, y: float) -> list[tuple[int, ...]]:
    pointer = Hand(document_over(wall(), mesh), Draft, CAMERA).at((x, y, 0.0))
    return closing_quads(mesh, pointer, np.array([x, y, 0.0]), None)


@pytest.mark.parametrize(("away", "wanted"), [(0.3, True), (0.45, True), (0.7, False), (0.9, False)])
def test_two_free_points_and_a_border_far_away_are_no_quad(away: float, wanted: bool) -> None:
    """Edges of the strip are 0.3 long: a quad between its border and two free points is meant where these lie about so
    far off, and not where they lie at three times that."""
    mesh = with_free(strip(0.3), (-0.3, away), (0.0, away))
    four = [q for q in offered(mesh, -0.15, away / 2) if len(q) == 4]
    assert bool(four) == wanted


def test_a_click_inside_the_huge_quad_puts_a_point() -> None:
    document = document_over(wall(), with_free(strip(0.3), (-0.3, 0.9), (0.0, 0.9)))
    hand = Hand(document, Draft, CAMERA)
    before = hand.mesh
    hand.click((-0.15, 0.45, 0.0))
    assert hand.mesh.n_faces == before.n_faces and hand.mesh.n_points == before.n_points + 1


def test_free_points_alone_may_be_of_any_size() -> None:
    """Where there are no edges yet nothing says how large a quad should be."""
    points = PolyMesh.empty()
    mesh = with_free(points, (-0.5, -0.5), (0.5, -0.5), (0.5, 0.5), (-0.5, 0.5))
    assert sorted(offered(mesh, 0.0, 0.0)[0]) == [0, 1, 2, 3]


def test_a_row_of_long_quads_goes_on_as_one() -> None:
    long = strip(0.3).with_points(strip(0.3).points * [3, 1, 1])
    mesh = with_free(long, (-0.9, 0.3), (0.0, 0.3))
    assert any(len(q) == 4 for q in offered(mesh, -0.45, 0.15))
