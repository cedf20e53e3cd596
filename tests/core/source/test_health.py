"""Health and simplification of sources, against libigl, trimesh and closed formulas."""

from __future__ import annotations

import igl
import numpy as np
import pytest

from bench.odd_meshes import MESHES
from jacket.core.checks.source import offenders, source_checks
from jacket.core.mesh.geometry import volume
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.walks import euler_characteristic
from jacket.core.quads.creases import find_creases
from jacket.core.source.health import examine
from jacket.core.source.simplify import navigation_copy, simplify
from jacket.core.source.weld import weld_map, welded_triangles
from jacket.core.source.whole import sheets_parted
from jacket.core.space.bvh import Bvh
from jacket.document.state import SourceObject, State
from jacket.errors import MeshError
from jacket.qt.framing import whole_points
from tests.conftest import cube, icosphere, torus


def test_health_of_a_spoilt_box() -> None:
    box = cube()
    tri = box.triangle_points
    sound = examine(PolyMesh.from_faces(box.points, tri))
    assert sound.sound and sound.euler == 2 and sound.size == (1, 1, 1)
    spoilt = PolyMesh.from_faces(
        np.concatenate([box.points, [[5, 5, 5], [5, 5, 6], [5, 6, 5], [0.5, 0, 0]]]),
        np.concatenate([tri[1:], [tri[3]], [[8, 9, 10]], [[0, 11, 1]]]),
    )
    health = examine(spoilt)
    assert health.duplicate_faces == 1 and health.degenerate_faces == 1 and not health.sound
    assert health.nonmanifold_edges >= 3 and health.parts == 2


def test_holes_are_counted_with_their_perimeters() -> None:
    ball = icosphere(3)
    low = ball.points[ball.triangle_points].mean(axis=1)
    open_ball = PolyMesh.from_faces(ball.points, ball.triangle_points[np.abs(low[:, 2]) < 0.9])
    health = examine(open_ball)
    loops = igl.boundary_loop_all(open_ball.triangle_points.astype(np.int64))
    perimeters = sorted(
        (float(np.linalg.norm(ball.points[x] - ball.points[np.roll(x, 1)], axis=1).sum()) for x in loops), reverse=True
    )
    assert health.borders == len(loops) == 2 and np.allclose(health.border_perimeters, perimeters)


def test_welding_joins_equal_positions_only() -> None:
    points = np.array([[0, 0, 0], [1, 0, 0], [-0.0, 0, 0], [1, 1e-300, 0], [1, 0, 0]])
    kept, new = weld_map(points)
    assert kept.tolist() == [0, 1, 3] and new.tolist() == [0, 1, 0, 2, 1]


@pytest.mark.parametrize("make", [lambda: icosphere(5), lambda: torus(90, 60)])
def test_simplifying_keeps_topology_and_place(make) -> None:  # type: ignore[no-untyped-def]
    mesh = make()
    points, tri = welded_triangles(PolyMesh.from_faces(mesh.points, mesh.triangle_points))
    fewer_points, fewer = simplify(points, tri, 1500)
    light = PolyMesh.from_faces(fewer_points, fewer)
    assert 1400 <= len(fewer) <= 1500
    assert euler_characteristic(light) == euler_characteristic(mesh)
    assert igl.is_edge_manifold(fewer.astype(np.int64))[0] and examine(light).sound
    far = Bvh.build(points, tri).closest(fewer_points)[2]
    assert far.max() < 0.004 * mesh.diagonal
    assert volume(light) == pytest.approx(volume(mesh), rel=0.01)


def test_simplifying_keeps_borders() -> None:
    ball = icosphere(4)
    cap = PolyMesh.from_faces(*welded_triangles(PolyMesh.from_faces(
        ball.points, ball.triangle_points[ball.points[ball.triangle_points].mean(axis=1)[:, 2] > 0.2])))  # fmt: skip
    points, tri = simplify(cap.points, cap.triangle_points, 400)
    light = PolyMesh.from_faces(points, tri)
    assert len(light.topology.border_loops) == 1 and euler_characteristic(light) == 1
    with pytest.raises(MeshError, match="four triangles"):
        simplify(points, tri, 2)


def test_the_light_copy_is_light_and_near() -> None:
    ball = icosphere(6)
    points, tri = navigation_copy(ball.points, ball.triangle_points, 20_000)
    assert 5_000 < len(tri) <= 20_000
    assert np.abs(np.linalg.norm(points, axis=1) - 1).max() < 0.02


def test_nonmanifold_input_is_opened() -> None:
    """Of three leaves on one edge two that run on as one sheet stay joined; every edge then has one or two faces (libigl agrees)."""
    points = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, -1, 0], [0, 0, 1]], float)
    opened_points, tri = sheets_parted(points, np.array([[0, 1, 2], [1, 0, 3], [0, 1, 4]], np.int32))
    assert igl.is_edge_manifold(tri.astype(np.int64))[0] and len(opened_points) == 7


def test_creases_of_a_box_and_none_on_a_ball() -> None:
    points, tri = cube().points, cube().triangle_points
    for _ in range(3):
        from jacket.core.quads.base import _halved_edges

        points, tri = _halved_edges(points, tri)
    box = PolyMesh.from_faces(points, tri)
    creases = find_creases(box, 38, 0.1, 5.0)
    length = np.linalg.norm(points[creases[:, 0]] - points[creases[:, 1]], axis=1).sum()
    assert length == pytest.approx(12.0)  # the twelve edges of a unit cube
    assert len(find_creases(icosphere(3), 38, 0.1, 5.0)) == 0
    assert len(find_creases(box, 38, 0.1, 130.0)) == 0  # all runs are shorter than that


def test_a_stray_point_is_found_lit_and_left_out_of_the_frame() -> None:
    """A face a thousand radii away: three strays, whose edges are lit; a long thin form has none."""
    far = MESHES["stray"]()
    health = examine(far)
    check = next(c for c in source_checks(health) if c.id == "strays")
    assert (health.strays, check.level, check.value) == (3, "look", "3")
    lit = np.concatenate(offenders(far, "strays"))
    assert lit[..., 0].min() > 999
    framed = whole_points(State((SourceObject(1, "s", far),)))
    assert np.abs(framed).max() <= 1.0 + 1e-9 and len(framed) == far.n_points - 3
    assert examine(MESHES["line_like"]()).strays == 0
