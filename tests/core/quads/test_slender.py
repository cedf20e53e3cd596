"""Limbs thinner than a step: thickness, thicker forms and drawn-out quads against closed forms and libigl."""

from __future__ import annotations

import igl
import numpy as np
import pytest

from jacket.core.mesh.geometry import edge_lengths, face_areas, point_normals, scaled_jacobian
from jacket.core.mesh.pieces import put_side_by_side
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.walks import euler_characteristic
from jacket.core.quads.auto import AutoSettings, automatic_quads
from jacket.core.quads.slender import ROUND, carried, half_thickness, stout
from tests.conftest import icosphere
from tests.core.quads.test_auto import rod

THIN, LONG = 0.05, 4.0


def thin_rod() -> PolyMesh:
    return rod(THIN, LONG, 16, 80, 0.0)


def test_half_the_thickness_of_a_ball_and_of_a_rod_is_the_radius() -> None:
    ball, thin = icosphere(3), thin_rod()
    assert half_thickness(ball, point_normals(ball)) == pytest.approx(1.0, rel=0.02)
    wall = np.abs(thin.points[:, 0]) < 1.9
    assert half_thickness(thin, point_normals(thin))[wall] == pytest.approx(THIN, rel=0.05)
    sheet = PolyMesh.from_faces(np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0.0]]), np.array([[0, 1, 2]]))
    assert np.isinf(half_thickness(sheet, point_normals(sheet))).all()


def test_a_thick_form_stays_and_a_thin_one_gets_room_for_four_quads_around() -> None:
    """A tube of radius r with n quads over 2πrl in steps s: s² n = 2πrl and r = .7 s make s = 2π .7 l / n (a cylinder's area)."""
    assert stout(icosphere(3), 400) is None
    thin = thin_rod()
    found = stout(thin, 100)
    assert found is not None
    form, step = found
    wall = np.abs(form.points[:, 0]) < 1.5
    radius = np.linalg.norm(form.points[wall][:, 1:], axis=1)
    assert step == pytest.approx(2 * np.pi * ROUND * LONG / 100, rel=0.12)
    assert radius.mean() == pytest.approx(ROUND * step, rel=0.12) and radius.std() < 0.03 * radius.mean()
    # Ten bodies for twenty quads would get thicker and thicker.
    assert stout(put_side_by_side([icosphere(1).with_points(icosphere(1).points + [3 * k, 0, 0]) for k in range(10)]), 20) is None
    # Its ends do not come nearer.
    assert np.ptp(form.points[:, 0]) >= LONG and form.corners is thin.corners


def test_what_is_carried_lies_on_the_surface() -> None:
    """Points of a ball's quads, carried to an ellipsoid of the same triangles: as that is an affine image, so are they; by libigl's distances
    they lie on it."""
    ball = icosphere(3)
    axes = np.array([1.0, 0.3, 0.5])
    egg = ball.with_points(ball.points * axes)
    small = icosphere(1)
    got = carried(small, ball, egg)
    off = igl.point_mesh_squared_distance(got.points, egg.points, egg.triangle_points.astype(np.int64))[0]
    assert np.sqrt(off.max()) < 1e-9 and np.allclose(got.points, small.points * axes, atol=0.02)


@pytest.mark.parametrize("wanted", [40, 60])
def test_quads_of_a_thin_rod_are_drawn_out_along_it(wanted: int) -> None:
    """A rod of which 1.8 or 2.2 steps go round: four rows of long quads and two ends, as Euler's formula has it with eight points of three
    quads; both ends reached by libigl's distances. Closer steps took twice as many, plain splits had half of their points irregular."""
    thin = thin_rod()
    steps_around = 2 * np.pi * THIN / float(np.sqrt(face_areas(thin).sum() / wanted))
    assert steps_around < 2.5
    result = automatic_quads(thin, AutoSettings(quads=wanted))
    quads = result.mesh
    assert any("drawn out" in note for note in result.notes)
    assert quads.is_quads and euler_characteristic(quads) == 2 and abs(quads.n_faces / wanted - 1) < 0.12
    assert (np.bincount(quads.corners) != 4).sum() == 8 and (np.bincount(quads.corners) == 3).sum() == 8
    assert float(np.percentile(scaled_jacobian(quads), 1)) > 0.8
    far = igl.point_mesh_squared_distance(thin.points, quads.points, quads.triangle_points.astype(np.int64))[0]
    assert np.sqrt(far.max()) < 0.015 * thin.diagonal
    way = np.abs(np.diff(quads.points[quads.topology.edge_points], axis=1)[:, 0])
    along = way[:, 0] > way[:, 1:].max(axis=1)
    length = edge_lengths(quads)
    assert np.median(length[along]) > 1.5 * np.median(length[~along])
