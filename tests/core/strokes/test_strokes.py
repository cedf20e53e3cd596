"""Strips, grids, rings, fills and rows: against closed curves, closed formulas and networkx."""

from __future__ import annotations

import itertools

import igl
import networkx as nx
import numpy as np
import pytest

from jacket.core.fill.darn import best_corners, grid_corners, grid_patch, spoke_patch, spoke_rows
from jacket.core.mesh.geometry import face_normals, scaled_jacobian
from jacket.core.mesh.joining import faces_joined, grid_faces
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.rows import edges_dissolved, loop_evened, loop_slid, loops_inserted, rails, row_collapsed
from jacket.core.mesh.walks import edge_loop, euler_characteristic, ring_edges
from jacket.core.space.bvh import Bvh
from jacket.core.strokes.ladder import ladder
from jacket.core.strokes.path import evened, evened_ring, length_along
from jacket.core.strokes.section import nearest_section, plane_sections, ring_points
from jacket.core.strokes.weave import Stroke, woven
from jacket.errors import EditRefused
from tests.conftest import cube, grid, icosphere, torus


def sheet(size: float = 10.0) -> Bvh:
    """A square in z = 0, facing up."""
    points = np.array([[-1, -1, 0], [1, -1, 0], [1, 1, 0], [-1, 1, 0]], float) * size
    return Bvh.build(points, np.array([[0, 1, 2], [0, 2, 3]]))


def sound(mesh: PolyMesh) -> bool:
    """Manifold by libigl, evenly wound, no repeated points."""
    tri = mesh.triangle_points.astype(np.int64)
    result = igl.is_edge_manifold(tri)
    manifold = result[0] if isinstance(result, tuple) else bool(result)
    return (
        bool(manifold)
        and len(mesh.topology.nonmanifold_edges) == 0
        and all(len(set(mesh.face(f).tolist())) == mesh.sizes[f] for f in range(mesh.n_faces))
    )


# ---- plane sections ------------------------------------------------------------------------------------


@pytest.mark.parametrize("height", [0.0, 0.3, -0.62])
def test_a_ball_is_cut_in_circles(height: float) -> None:
    """The section of a unit sphere at height h is a circle of radius √(1 − h²)."""
    ball = icosphere(5)
    (section,) = plane_sections(ball.points, ball.triangle_points, np.array([0, 0, height]), np.array([0, 0, 2.0]))
    radius = np.sqrt(1 - height**2)
    assert section.closed and section.length == pytest.approx(2 * np.pi * radius, rel=2e-3)
    assert (
        np.abs(np.linalg.norm(section.points[:, :2], axis=1) - radius).max() < 2e-3
        and np.abs(section.points[:, 2] - height).max() < 1e-12
    )


def test_a_torus_is_cut_in_two_circles_and_the_right_one_is_found() -> None:
    """Across the ring: two circles of the small radius; along its middle plane: circles of R ± r (R = 2, r = 0.7)."""
    ring = torus(240, 120)
    sections = plane_sections(ring.points, ring.triangle_points, np.zeros(3), np.array([0, 1.0, 0]))
    assert len(sections) == 2 and all(s.length == pytest.approx(2 * np.pi * 0.7, rel=1e-3) for s in sections)
    right = nearest_section(sections, np.array([2.7, 0, 0]))
    assert right.points[:, 0].min() > 1.2
    flat = sorted(
        s.length for s in plane_sections(ring.points, ring.triangle_points, np.zeros(3), np.array([0, 0, 1.0]))
    )
    assert flat == pytest.approx([2 * np.pi * 1.3, 2 * np.pi * 2.7], rel=1e-3)


def test_open_surfaces_give_open_sections_and_planes_that_miss_none() -> None:
    plate = grid(4)
    (section,) = plane_sections(plate.points, plate.triangle_points, np.array([1.5, 0, 0]), np.array([1.0, 0, 0]))
    assert not section.closed and section.length == pytest.approx(4.0)
    assert not plane_sections(plate.points, plate.triangle_points, np.array([9.0, 0, 0]), np.array([1.0, 0, 0]))


def test_rings_follow_their_neighbour_without_twist() -> None:
    tube = icosphere(5)
    rings = []
    for k, height in enumerate(np.linspace(-0.5, 0.5, 6)):
        tilt = np.array([0.2 * np.sin(k), 0.1 * k, 1.0])
        section = nearest_section(
            plane_sections(tube.points, tube.triangle_points, np.array([0, 0, height]), tilt),
            np.array([1.0, 0, height]),
        )
        rings.append(ring_points(section, 16, rings[-1] if rings else None))
    for a, b in itertools.pairwise(rings):
        assert np.linalg.norm(a - b, axis=1).max() < 0.45  # a twist by one point would be 0.39 more
        steps = np.linalg.norm(np.roll(b, -1, axis=0) - b, axis=1)
        assert steps.max() / steps.min() < 1.1


# ---- strips --------------------------------------------------------------------------------------------


def strip_quads(strip) -> PolyMesh:  # type: ignore[no-untyped-def]
    n = len(strip.left)
    points = np.concatenate([strip.left, strip.right])
    return PolyMesh.from_faces(points, [[n + i, n + i + 1, i + 1, i] for i in range(n - 1)])


def test_a_straight_ladder_is_squares() -> None:
    path = evened(np.array([[-3.0, 0, 0], [3, 0, 0]]), 40)
    quads = strip_quads(ladder(path, sheet(), 1.0))
    assert quads.n_faces == 6 and np.allclose(scaled_jacobian(quads), 1.0) and (face_normals(quads)[:, 2] > 0.99).all()
    with pytest.raises(EditRefused, match="too short"):
        ladder(path[:2], sheet(), 1.0)


@pytest.mark.parametrize("radius", [2.0, 0.9, 0.5, 0.25])
def test_rungs_never_fold_in_tight_turns(radius: float) -> None:
    """A hairpin tighter than half the width: every quad still faces outward."""
    t = np.linspace(0, np.pi, 60)
    bend = np.stack([radius * np.sin(t), -radius * np.cos(t), 0 * t], axis=1)
    path = np.concatenate([[[-3, -radius, 0]], bend, [[-3, radius, 0]]])
    quads = strip_quads(ladder(evened(path, 120), sheet(), 1.0))
    assert (face_normals(quads)[:, 2] > 0).all() and scaled_jacobian(quads).min() > 0


def test_a_ladder_takes_rungs_that_are_there() -> None:
    path = evened(np.array([[0.0, 0, 0], [4, 0.6, 0]]), 40)
    first = np.array([[0.0, 0.7, 0], [0.1, -0.7, 0]])
    last = np.array([[4.0, 1.0, 0], [4.1, 0.2, 0]])
    strip = ladder(path, sheet(), 1.0, first, last)
    assert np.array_equal(strip.left[0], first[0]) and np.array_equal(strip.right[-1], last[1])
    assert (face_normals(strip_quads(strip))[:, 2] > 0).all()


def test_evened_paths() -> None:
    path = np.array([[0.0, 0, 0], [1, 0, 0], [1, 3, 0]])
    assert np.allclose(np.diff(length_along(evened(path, 9))), 0.5)
    square = np.array([[0.0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]])
    assert np.allclose(evened_ring(square, 4, 0.125), [[0.5, 0, 0], [1, 0.5, 0], [0.5, 1, 0], [0, 0.5, 0]])


# ---- weaving -------------------------------------------------------------------------------------------


def line(a: tuple, b: tuple) -> Stroke:
    return Stroke(evened(np.array([a, b], float), 40))


@pytest.mark.parametrize("n", [2, 5, 12])
def test_crossing_strokes_become_a_grid(n: int) -> None:
    rng = np.random.default_rng(n)
    strokes = []
    for k in range(n):
        strokes.append(line((k + rng.uniform(-0.2, 0.2), -1, 0), (k + rng.uniform(-0.2, 0.2), n, 0)))
        strokes.append(line((-1, k + rng.uniform(-0.2, 0.2), 0), (n, k + rng.uniform(-0.2, 0.2), 0)))
    result = woven(strokes, sheet(40), 0.1)
    assert (
        len(result.points) == n * n and len(result.quads) == (n - 1) ** 2 and not result.triangles and not result.larger
    )
    mesh = PolyMesh.from_faces(result.points, result.quads)
    assert sound(mesh) and (face_normals(mesh)[:, 2] > 0.99).all() and euler_characteristic(mesh) == 1


def test_narrow_cells_between_strokes_stay() -> None:
    """Two strokes 0.7 of the reach apart, which spread outside: a narrow cell between others, no crossings merged."""
    flat = [line((-1, y, 0), (4, y, 0)) for y in (0, 2)]
    upright = [line((x, -1, 0), (x, 3, 0)) for x in (0, 3)]
    spread = [Stroke(evened(np.array([[out, -1.5, 0], [x, -0.2, 0], [x, 2.2, 0], [out, 3.5, 0]]), 120)) for x, out in ((1.0, 0.62), (1.35, 2.2))]
    result = woven([*flat, *upright, *spread], sheet(), 0.5)
    assert len(result.quads) == 3 and len(result.points) == 8 and not result.triangles and not result.larger


def test_cells_of_three_and_of_five_are_told_apart() -> None:
    frame = [
        line((-1, 0, 0), (5, 0, 0)),
        line((0, -1, 0), (0, 5, 0)),
        line((-1, 4, 0), (5, 4, 0)),
        line((4, -1, 0), (4, 5, 0)),
    ]
    cut = woven([*frame, line((2.5, 5, 0), (5, 2.5, 0))], sheet(), 0.05)
    assert len(cut.triangles) == 1 and len(cut.larger) == 1 and len(cut.larger[0]) == 5 and not cut.quads


def test_strokes_that_stop_short_still_meet_and_loose_ends_are_left_out() -> None:
    frame = [line((0, 0, 0), (4, 0, 0)), line((0.05, 0.04, 0), (0, 4, 0)), line((0, 4, 0), (4, 4.05, 0)), line((3.95, 0.03, 0), (4, 3.96, 0)),
             line((2, -3, 0), (2, 0.03, 0))]  # fmt: skip
    result = woven(frame, sheet(), 0.15)
    assert len(result.quads) == 1 or (len(result.larger) == 1 and len(result.larger[0]) == 5)


def test_crossings_are_found_on_the_surface_not_on_the_screen() -> None:
    """Strokes on the near and the far side of a ball cross on the screen but not on the ball."""
    ball = icosphere(5)
    surface = Bvh.build(ball.points, ball.triangle_points)
    t = np.linspace(-0.6, 0.6, 40)
    near = Stroke(np.stack([np.sin(t), 0 * t, np.cos(t)], axis=1))
    far = Stroke(np.stack([0 * t, np.sin(t), -np.cos(t)], axis=1))
    front = Stroke(np.stack([0 * t, np.sin(t), np.cos(t)], axis=1))
    assert len(woven([near, far], surface, 0.02).points) == 0
    assert len(woven([near, front], surface, 0.02).points) == 1


def test_closed_strokes_and_one_across_become_a_tube() -> None:
    ball = icosphere(5)
    surface = Bvh.build(ball.points, ball.triangle_points)
    t = np.linspace(0, 2 * np.pi, 90, endpoint=False)
    rings = [Stroke(np.stack([np.sqrt(1 - h * h) * np.cos(t), np.sqrt(1 - h * h) * np.sin(t), 0 * t + h], axis=1)[:: 1 if k % 2 else -1], True)
             for k, h in enumerate((-0.5, 0.0, 0.5))]  # fmt: skip
    s = np.linspace(-0.7, 0.7, 40)
    across = Stroke(np.stack([np.cos(s), 0 * s, np.sin(s)], axis=1))
    result = woven([*rings, across], surface, 0.05, spans=14)
    tube = PolyMesh.from_faces(result.points, result.quads)
    assert (
        tube.n_faces == 28 and sound(tube) and euler_characteristic(tube) == 0 and len(tube.topology.border_loops) == 2
    )
    outward = (face_normals(tube) * tube.points[tube.corners.reshape(-1, 4)].mean(axis=1)).sum(axis=1)
    assert (outward > 0).all() and scaled_jacobian(tube).min() > 0.7
    grid_too = woven(
        [
            *rings,
            across,
            *[
                Stroke(across.path @ np.array([[np.cos(a), np.sin(a), 0], [-np.sin(a), np.cos(a), 0], [0, 0, 1]]))
                for a in (1.0, 2.2, 3.4)
            ],
        ],
        surface,
        0.05,
    )
    assert len(grid_too.quads) == 8 and len(grid_too.points) == 12


def test_strokes_from_points_that_are_there_use_them() -> None:
    anchors = np.array([[0.0, 0, 0], [0, 2, 0]])
    strokes = [
        line((0.03, 0.02, 0), (3, 0, 0)),
        line((0.02, 1.97, 0), (3, 2, 0)),
        line((2, -1, 0), (2, 3, 0)),
        line((0.02, -0.03, 0), (0, 2.04, 0)),
    ]
    result = woven(strokes, sheet(), 0.1, anchors)
    assert sorted(result.known[result.known >= 0].tolist()) == [0, 1] and len(result.quads) == 1


# ---- fills ---------------------------------------------------------------------------------------------


def disk_ring(n: int) -> np.ndarray:
    t = np.arange(n) * 2 * np.pi / n
    return np.stack([np.cos(t), np.sin(t), 0 * t], axis=1)


@pytest.mark.parametrize("n", [4, 6, 8, 10, 14, 24, 40])
def test_any_even_border_is_filled_with_quads(n: int) -> None:
    """A grid of a × b has ab faces and (a − 1)(b − 1) inner points, with a + b = n / 2."""
    ring = disk_ring(n)
    offset, span = grid_corners(ring)
    patch = grid_patch(ring, offset, span)
    a, b = span, n // 2 - span
    assert len(patch.faces) == a * b and len(patch.inner) == (a - 1) * (b - 1)
    mesh = PolyMesh.from_faces(np.concatenate([ring, patch.inner]), patch.faces)
    assert mesh.is_quads and sound(mesh) and euler_characteristic(mesh) == 1
    assert len(mesh.topology.border_edges) == n and (face_normals(mesh)[:, 2] > 0).all()
    with pytest.raises(EditRefused, match="even number"):
        grid_corners(disk_ring(n + 1))


def test_corners_are_found_where_the_border_turns() -> None:
    square = np.concatenate([evened(np.array([a, b], float), 6)[:-1] for a, b in
                             (((0, 0, 0), (5, 0, 0)), ((5, 0, 0), (5, 5, 0)), ((5, 5, 0), (0, 5, 0)), ((0, 5, 0), (0, 0, 0)))])  # fmt: skip
    assert grid_corners(np.roll(square, -2, axis=0)) == (3, 5)
    mesh = PolyMesh.from_faces(np.concatenate([square, grid_patch(square, 0, 5).inner]), grid_patch(square, 0, 5).faces)
    assert np.allclose(scaled_jacobian(mesh), 1.0)


@pytest.mark.parametrize(
    "sides", [[2, 2, 2], [4, 5, 3], [4, 4, 6], [2, 2, 2, 2, 2], [5, 4, 5, 6, 4], [3, 4, 5, 4, 4, 4], [2] * 6]
)
def test_regions_of_three_five_and_six_sides(sides: list[int]) -> None:
    """One irregular point of the region's valence in the middle; every inner point else has valence four; faces by
    the closed formula Σ c_(i−1) c_i over the corners (Li, McKeag and Armstrong 1995)."""
    rows = spoke_rows(sides)
    k = len(sides)
    assert rows is not None and all(rows[i - 1] + rows[(i + 1) % k] == sides[i] for i in range(k))
    n = sum(sides)
    ring, corners = disk_ring(n), np.concatenate([[0], np.cumsum(sides)[:-1]]).tolist()
    patch = spoke_patch(ring, corners)
    assert len(patch.faces) == sum(rows[i - 1] * rows[i] for i in range(k))
    mesh = PolyMesh.from_faces(np.concatenate([ring, patch.inner]), patch.faces)
    topology = mesh.topology
    inner = ~topology.border_points
    assert mesh.is_quads and sound(mesh) and euler_characteristic(mesh) == 1 and len(topology.border_edges) == n
    assert sorted(topology.valence[inner].tolist(), key=lambda v: v != k)[0] == k
    assert (np.delete(topology.valence, np.flatnonzero(~inner | (np.arange(mesh.n_points) == n))) == 4).all()


def test_sides_that_do_not_add_up_are_named() -> None:
    with pytest.raises(EditRefused, match="side 2 needs one more"):
        spoke_patch(disk_ring(9), [0, 2, 6])
    with pytest.raises(EditRefused, match="too long"):
        spoke_patch(disk_ring(12), [0, 2, 10])
    assert len(best_corners(disk_ring(12), 3)) == 3


# ---- rows ----------------------------------------------------------------------------------------------


def test_several_loops_are_evenly_spaced() -> None:
    ring = torus(12, 8)
    edge = ring.topology.find_edge(0, 1)
    before = len(ring_edges(ring, edge))
    new, added = loops_inserted(ring, edge, 3)
    assert new.n_faces == ring.n_faces + 3 * before and new.is_quads and sound(new) and euler_characteristic(new) == 0
    path = new.points[_chain(new, 0, 1, added)]
    assert np.linalg.norm(np.diff(path, axis=0), axis=1) == pytest.approx(np.linalg.norm(path[-1] - path[0]) / 4)
    # On a plate the rails are straight, so the places are exact.
    plate, points = loops_inserted(grid(3), grid(3).topology.find_edge(0, 1), 4)
    assert np.allclose(sorted(set(plate.points[points][:, 0].round(9))), [0.2, 0.4, 0.6, 0.8])


def _chain(mesh: PolyMesh, a: int, b: int, added: np.ndarray) -> list[int]:
    graph = nx.Graph([tuple(e) for e in mesh.topology.edge_points.tolist() if set(e) <= {a, b, *added.tolist()}])
    return nx.shortest_path(graph, a, b)


def test_loops_slide_along_their_rails() -> None:
    plate = grid(4)
    loop = edge_loop(plate, plate.topology.find_edge(2, 7))
    points, left, right = rails(plate, loop)
    assert set(plate.points[left][:, 0].tolist()) | set(plate.points[right][:, 0].tolist()) == {1.0, 3.0}
    slid = loop_slid(plate, loop, 0.25)
    assert set(slid.points[points][:, 0].tolist()) <= {1.75, 2.25} and len(set(slid.points[points][:, 0].tolist())) == 1
    back = loop_evened(slid, loop)
    assert np.allclose(back.points, plate.points)
    skew = plate.with_points(
        plate.points + np.array([0, 0, 0]) + (plate.points[:, [0]] == 3) * plate.points[:, [1]] * [0.2, 0, 0]
    )
    even = loop_slid(skew, loop, 0.3 if left[0] > points[0] else -0.3, even=True)
    far = np.linalg.norm(even.points[points] - skew.points[points], axis=1)
    assert far.max() == pytest.approx(far.min())


def test_a_loop_taken_out_undoes_its_insertion() -> None:
    for mesh, edge in ((grid(4), (6, 7)), (torus(10, 6), (0, 1)), (cube(), (0, 1))):
        new, added = loops_inserted(mesh, mesh.topology.find_edge(*edge), 1)
        loop = edge_loop(
            new,
            int(
                new.topology.find_edges(
                    np.array([e for e in new.topology.edge_points.tolist() if set(e) <= set(added.tolist())])
                )[0]
            ),
        )
        gone = edges_dissolved(new, loop).mesh
        assert gone.n_faces == mesh.n_faces and gone.n_points == mesh.n_points and gone.is_quads and sound(gone)
        assert {frozenset(map(tuple, gone.points[gone.face(f)].round(9).tolist())) for f in range(gone.n_faces)} == {
            frozenset(map(tuple, mesh.points[mesh.face(f)].round(9).tolist())) for f in range(mesh.n_faces)}  # fmt: skip
    with pytest.raises(EditRefused):
        edges_dissolved(grid(2), grid(2).topology.border_edges[:1])


def test_a_collapsed_row_is_gone() -> None:
    ring = torus(12, 8)
    thin = row_collapsed(ring, ring.topology.find_edge(0, 1))
    assert thin.n_faces == 7 * 12 and thin.is_quads and sound(thin) and euler_characteristic(thin) == 0
    plate = row_collapsed(grid(3), grid(3).topology.find_edge(5, 6))
    assert plate.n_faces == 6 and sound(plate)


def test_loops_and_rings_agree_with_networkx() -> None:
    """On a torus of n × m quads every loop is a cycle of the graph, every ring crosses m or n edges."""
    ring = torus(9, 7)
    graph = nx.Graph(ring.topology.edge_points.tolist())
    assert dict(graph.degree()) == dict(enumerate(ring.topology.valence.tolist()))
    for e in range(0, ring.topology.n_edges, 11):
        loop = graph.edge_subgraph([tuple(p) for p in ring.topology.edge_points[edge_loop(ring, e)].tolist()])
        assert nx.is_connected(loop) and set(dict(loop.degree()).values()) == {2} and len(loop) in (9, 7)
        assert len(ring_edges(ring, e)) in (9, 7)


# ---- joining -------------------------------------------------------------------------------------------


def test_many_faces_join_at_once_and_never_break_the_surface() -> None:
    plate = grid(2)
    right = [2, 5, 8]
    fresh = plate.points[right] + [1, 0, 0]
    table = np.array([right, [9, 10, 11]])
    for faces in (grid_faces(table), [f[::-1] for f in grid_faces(table)]):
        new = faces_joined(plate, fresh, faces).mesh
        assert new.n_faces == 6 and sound(new) and (face_normals(new)[:, 2] > 0.99).all()
    with pytest.raises(EditRefused, match="third face"):
        faces_joined(plate, fresh, [[1, 4, 9, 10]])
    with pytest.raises(EditRefused, match="twice"):
        faces_joined(plate, fresh, [[2, 5, 5, 9]])
    alone = faces_joined(PolyMesh.empty(), fresh, [[0, 1, 2]], np.array([0, 0, -1.0])).mesh
    assert face_normals(alone)[0, 2] <= 0
