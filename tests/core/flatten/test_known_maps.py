"""Maps whose distortion is known: the charts of the globe measured, and developable forms flattened.

Formulas after Snyder, "Map Projections: A Working Manual" (U.S. Geological Survey Professional Paper 1395, 1987):
Mercator scales by sec φ, the stereographic by 2 / (1 + cos c), both alike in all directions; the cylindrical equal-area
keeps areas and stretches by sec φ one way and cos φ the other; Lambert's azimuthal equal-area by sec(c/2) and cos(c/2).
"""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.flatten import starts
from jacket.core.flatten.stretch import face_angles, face_stretch, measure_stretch
from jacket.core.flatten.unwrap import unwrap
from jacket.core.mesh.geometry import edge_lengths
from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.core.seams.cuts import cut_edges
from jacket.core.uv.chart import chart_of
from tests.conftest import grid, torus
from tests.core.flatten.test_editing import tube

FINE = 90


def patch(low: tuple[float, float], high: tuple[float, float], polar: bool = False) -> tuple[PolyMesh, Floats, Floats]:
    """A patch of the unit ball, and both angles of its corners: longitude and latitude, or azimuth and colatitude."""
    base = grid(FINE)
    a = low[0] + base.points[:, 0] / FINE * (high[0] - low[0])
    b = low[1] + base.points[:, 1] / FINE * (high[1] - low[1])
    lift = np.pi / 2 - b if polar else b
    points = np.stack([np.cos(lift) * np.cos(a), np.cos(lift) * np.sin(a), np.sin(lift)], axis=1)
    mesh = base.with_points(points)
    return mesh, a[mesh.corners], b[mesh.corners]


def at_faces(mesh: PolyMesh, values: Floats) -> Floats:
    return np.add.reduceat(values, mesh.starts[:-1]) / mesh.sizes


def test_conformal_maps_of_the_ball_keep_angles_and_scale_as_they_do() -> None:
    mesh, lon, lat = patch((-0.7, -0.2), (0.7, 1.2))
    uv = np.stack([lon, np.log(np.tan(np.pi / 4 + lat / 2))], axis=1)
    scale = 1 / np.cos(at_faces(mesh, lat))
    _same_areas(mesh, uv, scale**2)
    assert np.nanmax(face_angles(mesh, uv)) < 3e-4 and measure_stretch(mesh, uv).angle == pytest.approx(1.0, abs=1e-4)
    mesh, azimuth, c = patch((0.0, 0.15), (1.4, 1.3), True)
    radius = 2 * np.tan(c / 2)
    uv = np.stack([radius * np.cos(azimuth), radius * np.sin(azimuth)], axis=1)
    _same_areas(mesh, uv, (2 / (1 + np.cos(at_faces(mesh, c)))) ** 2)
    assert np.nanmax(face_angles(mesh, uv)) < 2e-4


def _same_areas(mesh: PolyMesh, uv: Floats, factor: Floats) -> None:
    """log₂ of the area factors but for their mean over the whole, which figures of stretch take away."""
    found, known = face_stretch(mesh, uv), np.log2(factor)
    assert np.ptp(found - known) < 2e-3


def test_equal_area_maps_keep_areas_and_bend_angles_as_they_do() -> None:
    mesh, lon, lat = patch((-0.7, -0.2), (0.7, 1.1))
    uv = np.stack([lon, np.sin(lat)], axis=1)
    assert np.abs(face_stretch(mesh, uv)).max() < 2e-3
    s = 1 / np.cos(at_faces(mesh, lat))
    # (σ₁/σ₂ + σ₂/σ₁)/2 − 1 with σ₁ = sec φ, σ₂ = cos φ.
    assert face_angles(mesh, uv) == pytest.approx((s**2 + s**-2) / 2 - 1, abs=2e-3)
    mesh, azimuth, c = patch((0.0, 0.15), (1.4, 1.3), True)
    radius = 2 * np.sin(c / 2)
    uv = np.stack([radius * np.cos(azimuth), radius * np.sin(azimuth)], axis=1)
    s = 1 / np.cos(at_faces(mesh, c) / 2)
    assert np.abs(face_stretch(mesh, uv)).max() < 2e-3
    assert face_angles(mesh, uv) == pytest.approx((s**2 + s**-2) / 2 - 1, abs=2e-3)
    # Symmetric Dirichlet energy (σ₁² + σ₂² + σ₁⁻² + σ₂⁻²) / 4 as the area mean, by quadrature over the patch.
    area = at_faces(mesh, np.sin(c))
    assert measure_stretch(mesh, uv).dirichlet == pytest.approx(np.average((s**2 + s**-2) / 2, weights=area), abs=1e-3)


@pytest.mark.parametrize("top", [1.0, 0.6, 0.15])
def test_cylinders_frusta_and_cones_open_without_stretch(top: float) -> None:
    """A tube of plane facets develops exactly: every edge is as long on the sheet, to a millionth."""
    mesh, cut = tube(20, 6, top)
    flat, _ = unwrap(cut_edges(mesh, np.flatnonzero(cut)))
    topology = flat.topology
    uv = np.asarray(flat.uv)
    lengths = np.linalg.norm(uv[topology.next] - uv, axis=1)
    ratio = lengths / edge_lengths(flat)[topology.edge]
    assert np.ptp(ratio) / ratio.mean() < 1e-6
    assert measure_stretch(flat, uv).dirichlet == pytest.approx(1.0, abs=1e-10)


def test_mean_value_weights_reproduce_linear_maps() -> None:
    """In the plane each inner point is the weighted mean of its neighbours (Floater, "Mean value coordinates", 2003)."""
    rng = np.random.default_rng(8)
    mesh = grid(5)
    points = mesh.points.copy()
    inner = ~mesh.topology.border_points
    points[inner, :2] += rng.uniform(-0.3, 0.3, (int(inner.sum()), 2))
    weights = starts._mean_value_weights(points, np.asarray(mesh.triangle_points))
    mean = (weights @ points) / np.asarray(weights.sum(axis=1)).reshape(-1, 1)
    assert np.abs(mean - points)[inner].max() < 1e-9


def test_a_torus_less_one_face_has_one_border_and_is_no_disk() -> None:
    whole = torus(8, 6)
    rest = PolyMesh.from_faces(whole.points, whole.corners.reshape(-1, 4)[1:])
    chart = chart_of(rest, np.arange(rest.n_faces), np.zeros(rest.topology.n_edges, bool))
    assert len(chart.border) == 1 and not chart.is_disk
    flat = grid(3)
    assert chart_of(flat, np.arange(9), np.zeros(flat.topology.n_edges, bool)).is_disk
