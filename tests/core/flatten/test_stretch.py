"""Stretch of maps whose answer is known."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.flatten.stretch import face_stretch, measure_stretch, singular_values, stretch_strokes
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.chart import charts_of
from tests.conftest import grid


def test_singular_values_of_a_known_stretch() -> None:
    """A square stretched by 2 and ½ keeps its area: σ = 2, ½ and energy (4 + ¼ + ¼ + 4) / 4."""
    sheet = grid(3)
    uv = sheet.points[sheet.corners][:, :2] * [2.0, 0.5]
    figures = measure_stretch(sheet.with_uv(uv), uv)
    assert figures.dirichlet == pytest.approx(8.5 / 4) and figures.linf == pytest.approx(2.0)
    assert figures.angle == pytest.approx((4 + 0.25) / 2) and figures.l2 == pytest.approx(np.sqrt((0.25 + 4) / 2))
    chart = charts_of(sheet)[0]
    flipped = chart.mesh.points[:, :2] * [-1, 1]
    assert (singular_values(chart, flipped)[:, 1] < 0).all()


def test_l2_stretch_of_a_map_that_is_not_symmetric() -> None:
    """Sander, Snyder, Gortler and Hoppe (2001): root mean square, over the surface, of the singular values of the map from
    the sheet to it. Two unit quads, one squeezed to half its width and one stretched to three halves, the area kept."""
    pair = grid(2, 1)
    x = np.array([0.0, 0.5, 2.0])[np.rint(pair.points[pair.corners][:, 0]).astype(int)]
    figures = measure_stretch(pair, np.stack([x, pair.points[pair.corners][:, 1]], axis=1))
    squares = [((1 / 0.5) ** 2 + 1) / 2, ((1 / 1.5) ** 2 + 1) / 2]
    assert figures.l2 == pytest.approx(np.sqrt(np.mean(squares))) and figures.l2 != pytest.approx(np.sqrt((0.5**2 + 1.5**2 + 2) / 4))


def test_what_is_larger_on_the_sheet_counts_as_stretched() -> None:
    pair = grid(2, 1)
    x = np.array([0.0, 0.5, 2.0])[np.rint(pair.points[pair.corners][:, 0]).astype(int)]
    squeezed, stretched = face_stretch(pair, np.stack([x, pair.points[pair.corners][:, 1]], axis=1))
    assert squeezed == pytest.approx(-1.0) and stretched == pytest.approx(np.log2(1.5))


def test_angles_of_faces_by_hand() -> None:
    """A square drawn out to twice its width: singular values 2 and 1, (2 + 1/2)/2 − 1 = 1/4; unmapped faces have none."""
    from jacket.core.flatten.stretch import face_angles

    pair = grid(2, 1)
    uv = pair.points[pair.corners][:, :2].copy()
    assert face_angles(pair, uv) == pytest.approx([0, 0])
    uv[:, 0] *= 2
    assert face_angles(pair, uv) == pytest.approx([0.25, 0.25])
    uv[pair.face_of_corner == 1] = np.nan
    angles = face_angles(pair, uv)
    assert angles[0] == pytest.approx(0.25) and np.isnan(angles[1])


def test_strokes_lie_along_the_greatest_stretch() -> None:
    """A plate squeezed to a half across: pictures are stretched twofold along x; turned maps turn the strokes; true ones have
    none. Singular values and vectors by NumPy on a triangle."""
    plate = grid(3)
    across = stretch_strokes(plate, plate.points[plate.corners][:, :2] * [0.05, 0.1])
    assert np.allclose(across.ratio, 2) and len(across.faces) == 9
    assert np.allclose(np.ptp(across.flat[..., 1], axis=1), 0) and (np.ptp(across.flat[..., 0], axis=1) > 0).all()
    assert np.allclose(np.ptp(across.form[..., 1:], axis=1), 0)
    assert len(stretch_strokes(plate, plate.points[plate.corners][:, :2] * 0.1).faces) == 0
    # On a sheet twice as wide as high, u counts twice.
    assert len(stretch_strokes(plate, plate.points[plate.corners][:, :2] * [0.05, 0.1], np.array([2.0, 1.0])).faces) == 0
    points, uv = np.array([[0.0, 0, 0], [2, 0.3, 0.5], [0.4, 1.7, 0.2]]), np.array([[0.1, 0.2], [0.5, 0.3], [0.3, 0.9]])
    one = stretch_strokes(PolyMesh.from_faces(points, [[0, 1, 2]]), uv)
    jacobian = np.stack([points[1] - points[0], points[2] - points[0]], axis=1) @ np.linalg.inv(np.stack([uv[1] - uv[0], uv[2] - uv[0]], axis=1))
    u, s, v = np.linalg.svd(jacobian)
    assert one.ratio[0] == pytest.approx(s[0] / s[1])
    flat, form = one.flat[0, 1] - one.flat[0, 0], one.form[0, 1] - one.form[0, 0]
    assert abs(flat @ v[0]) == pytest.approx(np.linalg.norm(flat)) and abs(form @ u[:, 0]) == pytest.approx(np.linalg.norm(form))
    assert len(stretch_strokes(plate, np.full((plate.n_corners, 2), np.nan)).faces) == 0
