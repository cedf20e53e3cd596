"""Why islands warp: cone points by their known angle, slivers and folds counted."""

from __future__ import annotations

from types import SimpleNamespace

import numpy as np
import pytest

from jacket.core.flatten.unwrap import unwrap
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.seams.cuts import cut_edges
from jacket.core.seams.reasons import _folds, _slivers, reasons
from tests.conftest import grid


def cone(around: int = 24, rings: int = 8) -> PolyMesh:
    """A cone of slant 2 and radius 1 about z, its tip at the origin: around the tip the angles come to 360° · 1/2."""
    angle = np.arange(around) * 2 * np.pi / around
    points = [[0.0, 0.0, 0.0]]
    for r in range(1, rings + 1):
        s = r / rings
        points += [[s * np.cos(a), s * np.sin(a), -s * np.sqrt(3)] for a in angle]
    faces: list[list[int]] = [[0, 1 + k, 1 + (k + 1) % around] for k in range(around)]
    for r in range(rings - 1):
        a, b = 1 + r * around, 1 + (r + 1) * around
        faces += [[a + k, b + k, b + (k + 1) % around, a + (k + 1) % around] for k in range(around)]
    return PolyMesh.from_faces(np.array(points), faces)


def test_the_tip_of_a_cone_is_told_with_its_angle_and_the_cut_to_it_opens_it() -> None:
    mesh, _ = unwrap(cone())
    found = reasons(mesh, np.full(mesh.n_points, 0.5), lambda faces: "Hat")
    assert found and found[0].kind == "cone"
    told = float(found[0].says.split("cone point of ")[1].split("°")[0])
    assert told == pytest.approx(180.0, abs=2.0)
    # A cone cut to its tip is developable: nothing warps any more.
    flat, made = unwrap(cut_edges(mesh, found[0].cut))
    assert flat.uv is not None and made[0].flat
    assert reasons(flat, np.full(mesh.n_points, 0.5), lambda faces: "Hat") == ()


def test_slivers_and_folds_are_counted_where_they_are() -> None:
    mesh = grid(4)
    points = mesh.points.copy()
    points[12] = points[6] + (points[12] - points[6]) * 0.02
    thin = mesh.with_points(points)
    count, faces = _slivers(thin, np.arange(16))
    assert count == len(faces) >= 1 and set(faces.tolist()) <= {0, 1, 4, 5, 6, 9, 10}
    assert _slivers(mesh, np.arange(16))[0] == 0
    # The right half laid back over the left one along x = 2: the four edges there turn by 170°.
    over = mesh.points.copy()
    right = over[:, 0] > 2
    turn = np.radians(170)
    away = over[right, 0] - 2
    over[right, 0], over[right, 2] = 2 + away * np.cos(turn), away * np.sin(turn)
    folded = mesh.with_points(over)
    tailor = SimpleNamespace(mesh=folded, cut=np.zeros(folded.topology.n_edges, bool), faces=_sides(folded))
    count, faces = _folds(tailor, np.arange(16))  # type: ignore[arg-type]
    assert count == 4 and sorted(faces.tolist()) == [1, 2, 5, 6, 9, 10, 13, 14]


def _sides(mesh: PolyMesh) -> np.ndarray:
    first = mesh.topology.edge_corner
    second = mesh.topology.twin[first]
    return np.stack([mesh.face_of_corner[first], np.where(second >= 0, mesh.face_of_corner[np.maximum(second, 0)], -1)], axis=1)
