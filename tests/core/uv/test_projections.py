"""Projections and directions, against formulas."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.flatten.directions import turned_islands
from jacket.core.flatten.unwrap import unwrap
from jacket.core.mesh.geometry import face_areas, face_normals
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.uv.areas import face_uv_areas
from jacket.core.uv.islands import Islands
from jacket.core.uv.projections import projected
from jacket.core.uv.sets import cut_flags, island_labels
from jacket.core.uv.sheets import Sheet
from jacket.errors import EditRefused
from tests.conftest import cube, grid, icosphere

SHEET = Sheet(width=1000, height=1000)


def all_of(mesh: PolyMesh) -> np.ndarray:
    return np.ones(mesh.n_faces, bool)


def test_a_plane_keeps_shapes_that_lie_in_it_and_foreshortens_others() -> None:
    """Orthographic projection: areas shrink by the cosine of the angle to the plane."""
    sheet = grid(6)
    tilted = sheet.with_points(sheet.points @ np.array([[1, 0, 0], [0, 0.8, 0.6], [0, -0.6, 0.8]]))
    flat = projected(tilted, all_of(tilted), "plane", SHEET)
    areas = face_uv_areas(flat, flat.uv)
    assert np.ptp(areas) < 1e-12 * areas.mean() and (areas > 0).all() and np.ptp(flat.uv, axis=0) == pytest.approx([0.8, 0.8])
    view = projected(tilted, all_of(tilted), "view", SHEET, np.eye(3))
    assert np.ptp(view.uv, axis=0) == pytest.approx([0.8, 0.64])
    with pytest.raises(EditRefused, match="every way alike"):
        projected(cube(), all_of(cube()), "plane", SHEET)
    with pytest.raises(EditRefused, match="Hold faces"):
        projected(cube(), ~all_of(cube()), "box", SHEET)


def test_a_box_gives_six_sides_true_to_shape() -> None:
    box = split_to_quads(split_to_quads(cube()))
    flat = projected(box, all_of(box), "box", SHEET)
    assert island_labels(flat)[0] == 6 and cut_flags(flat).sum() == 12 * 4
    areas = face_uv_areas(flat, flat.uv) / face_areas(box)
    assert np.ptp(areas) < 1e-9 * areas.mean() and (areas > 0).all()


def test_a_cylinder_unrolls_and_is_cut_at_its_back() -> None:
    n, r, high = 36, 0.5, 2.0
    angle = 2 * np.pi * np.arange(n) / n
    points = np.concatenate([np.stack([r * np.sin(angle), np.full(n, y), r * np.cos(angle)], 1) for y in (0, high / 2, high)])
    faces = [[k * n + i, k * n + (i + 1) % n, (k + 1) * n + (i + 1) % n, (k + 1) * n + i] for k in range(2) for i in range(n)]
    tube = PolyMesh.from_faces(points, faces)
    flat = projected(tube, all_of(tube), "cylinder", SHEET)
    span = np.ptp(flat.uv, axis=0)
    assert span[0] / span[1] == pytest.approx(2 * np.pi * r / high) and cut_flags(flat).sum() == 2
    assert (face_uv_areas(flat, flat.uv) > 0).all() and island_labels(flat)[0] == 1


def test_a_sphere_is_mapped_by_longitude_and_latitude() -> None:
    """Plate carrée: areas grow by 1/cos of the latitude (Snyder 1987, equirectangular projection)."""
    ball = split_to_quads(icosphere(4))
    flat = projected(ball, all_of(ball), "sphere", SHEET)
    span = np.ptp(flat.uv, axis=0)
    # Twice as wide as high, and a little more where faces at the poles reach over the back.
    assert 1.98 < span[0] / span[1] < 2.3
    middle = face_normals(ball)
    latitude = np.arcsin(np.clip(middle[:, 1], -1, 1))
    grown = np.abs(face_uv_areas(flat, flat.uv)) / face_areas(ball) * np.cos(latitude)
    away = np.abs(latitude) < np.radians(60)
    assert np.ptp(grown[away]) < 0.06 * grown[away].mean()  # faces are flat, the sphere is not


def test_what_is_not_projected_keeps_its_bits_and_cuts() -> None:
    box = split_to_quads(split_to_quads(cube()))
    flat = projected(box, all_of(box), "box", SHEET)
    some = np.zeros(box.n_faces, bool)
    some[:8] = True
    again = projected(flat, some, "plane", SHEET)
    other = ~some[box.face_of_corner]
    assert np.array_equal(again.uv[other], flat.uv[other])
    rim = np.bincount(box.topology.edge[some[box.face_of_corner]], minlength=box.topology.n_edges)
    assert (cut_flags(again)[(rim == 0) & cut_flags(flat)]).all()


@pytest.mark.parametrize("way", ["border", "rows", "up"])
def test_islands_are_turned_upright(way: str) -> None:
    """A wide rectangle of quads that stands upright on the form, laid askew on the sheet."""
    sheet = grid(9, 3)
    flat, _ = unwrap(sheet)
    c, s = np.cos(0.5), np.sin(0.5)
    skew = flat.with_uv(flat.uv * 0.05 @ np.array([[c, s], [-s, c]]) + 0.5)
    uv = turned_islands(skew, Islands.of(skew), np.ones(1, bool), way)
    box = np.ptp(uv, axis=0)
    assert sorted(box) == pytest.approx([3 * 0.05, 9 * 0.05]) and np.allclose(uv.min(axis=0) + box / 2, skew.uv.min(axis=0) + np.ptp(skew.uv, axis=0) / 2)
    if way == "up":
        place = np.zeros((sheet.n_points, 2))
        place[sheet.corners] = uv
        assert box[0] > box[1] and (place[30] - place[0])[1] == pytest.approx(3 * 0.05)
