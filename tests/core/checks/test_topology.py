"""Checks of quads: what counts as covered."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.checks.topology import odd_poles, uncovered, uncovered_places
from jacket.core.mesh.polymesh import PolyMesh
from jacket.document.state import JacketObject, SourceObject, State
from jacket.stages.topology.spec import checks
from tests.conftest import grid


def half(low: int) -> PolyMesh:
    """Five columns of a 10 × 10 grid from column `low` on."""
    part = grid(5, 10)
    return part.with_points(part.points + [low, 0, 0])


def triangles(mesh: PolyMesh) -> PolyMesh:
    return PolyMesh.from_faces(mesh.points, mesh.triangle_points)


def test_half_a_plane_is_covered_by_half_and_whole_by_two_layers() -> None:
    source = triangles(grid(10))
    # Six tenths of an edge beyond its border a layer still covers: 5.6 of 10 columns.
    assert uncovered(half(0), source, count=20_000).number == pytest.approx(44.0, abs=1.5)
    assert uncovered(half(0), source, [half(5)]).number == 0 and uncovered(half(0), source, [half(5)]).level == "good"
    assert uncovered(PolyMesh.empty(), source).number == 100


@pytest.mark.parametrize(("shown", "level"), [(True, "good"), (False, "look")])
def test_layers_that_are_shown_cover_together(shown: bool, level: str) -> None:
    """A layer split off a whole jacket left the active one with nearly all of the source 'uncovered'."""
    state = State((SourceObject(1, "s", triangles(grid(10))),),
                  (JacketObject(2, "a", half(0)), JacketObject(3, "b", half(5), visible=shown)), active=2, next_id=4)  # fmt: skip
    found = {c.id: c for c in checks(state)}
    assert found["uncovered"].level == level and np.isfinite(found["uncovered"].number)


def test_a_pole_of_five_is_normal_one_of_six_is_looked_at_one_of_two_is_wrong() -> None:
    for count, level in ((5, "good"), (6, "look"), (2, "wrong")):
        angle = np.arange(2 * count) * np.pi / count
        points = np.concatenate([np.zeros((1, 3)), np.stack([np.cos(angle), np.sin(angle), 0 * angle], axis=1)])
        quads = [[0, 1 + 2 * k, 2 + 2 * k, 1 + (2 * k + 2) % (2 * count)] for k in range(count)]
        check = odd_poles(PolyMesh.from_faces(points, quads))
        assert (check.level, check.offenders.tolist()) == (level, [0])


def test_places_that_are_not_covered_are_found_part_by_part() -> None:
    plate = grid(40)
    source = triangles(plate)
    # The jacket lies over a strip in the middle: of the plate two parts are left, the right one twice as wide.
    faces = plate.corners.reshape(-1, 4)
    across = plate.points[faces].mean(axis=1)[:, 0]
    jacket = PolyMesh.from_faces(source.points, faces[(across > 10) & (across < 20)])
    places = uncovered_places(source, [jacket])
    assert len(places) == 2
    boxes = [np.ptp(p.reshape(-1, 3), axis=0) for p in places]
    assert boxes[0][:2] == pytest.approx((20, 40), abs=1) and boxes[1][:2] == pytest.approx((10, 40), abs=1)
    # Outlines: lengths of the rectangles' sides.
    lengths = [np.linalg.norm(p[:, 1] - p[:, 0], axis=1).sum() for p in places]
    assert lengths == pytest.approx([2 * (b[0] + b[1]) for b in boxes], rel=0.03)
    assert uncovered_places(source, [PolyMesh.from_faces(source.points, faces)]) == []
