"""Curvature and fields against closed formulas and libigl; what theory says of counts and lattices."""

from __future__ import annotations

import itertools

import igl
import numpy as np
import pytest

from bench import parts
from jacket.core.mesh.geometry import dihedral_angles, edge_lengths, face_areas, face_centres, face_normals, unit
from jacket.core.mesh.pieces import put_side_by_side
from jacket.core.mesh.poles import irregular_count, irregular_points
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.walks import euler_characteristic
from jacket.core.quads.auto import AutoSettings, automatic_quads
from jacket.core.quads.creases import _swerves, find_creases, without_twins
from jacket.core.quads.curvature import form_density, shape_tensors
from jacket.core.quads.cut import cut_mesh
from jacket.core.quads.field import Field, corner_angles, field_turns, smooth_field
from jacket.core.quads.gridmap import GridSolver
from jacket.core.quads.grids import field_strokes
from jacket.core.quads.lines import chords, line_flags, line_ways, opened_corners
from jacket.core.quads.pairs import singular_moved, without_pairs
from jacket.core.quads.subdivide import edges_split
from tests.conftest import grid, icosphere, torus

NONE = np.zeros((0, 2), np.int32)


def triangles(mesh: PolyMesh) -> PolyMesh:
    return PolyMesh.from_faces(mesh.points, mesh.triangle_points)


def curvatures(mesh: PolyMesh) -> np.ndarray:  # type: ignore[type-arg]
    """(F, 2) principal curvatures, the smaller in size first."""
    values = np.linalg.eigvalsh(shape_tensors(mesh, 2))
    order = np.argsort(np.abs(values), axis=1)
    return np.take_along_axis(values, order[:, 1:], axis=1)


# ---- curvature -------------------------------------------------------------------------------------


def test_curvature_of_a_cylinder_is_one_over_its_radius() -> None:
    """κ = (0, 1/r) (do Carmo, Differential Geometry of Curves and Surfaces, 1976, section 3.2)."""
    mesh = parts.tube(caps=False, around=96, along=80)
    inner = np.abs(face_centres(mesh)[:, 2] - 1.0) < 0.7
    small, large = curvatures(mesh)[inner].T
    assert np.median(large) == pytest.approx(2.0, rel=0.02) and np.abs(small).max() < 0.05


def test_curvature_of_a_torus_follows_its_formula() -> None:
    """κ = 1/r round the tube and cos θ / (R + r cos θ) round the axis (do Carmo 1976, section 3.3, example 5)."""
    mesh = parts.torus(1.0, 0.4, 144, 72)
    centre = face_centres(mesh)
    away = np.hypot(centre[:, 0], centre[:, 1])
    other = (away - 1.0) / 0.4 / away
    got = curvatures(mesh)
    assert np.median(np.abs(got[:, 1] - 2.5)) < 0.06
    assert np.percentile(np.abs(got[:, 0] - other), 95) < 0.08


def test_curvature_of_an_ellipsoid_follows_its_formula() -> None:
    """Gauss's curvature of x²/a² + y²/b² + z²/c² = 1 is 1 / (abc (x²/a⁴ + y²/b⁴ + z²/c⁴))² (Spivak 1979, volume 3)."""
    ball = icosphere(5)
    axes = np.array([1.0, 0.8, 1.3])
    mesh = ball.with_points(ball.points * axes)
    centre = face_centres(mesh)
    wanted = 1.0 / (axes.prod() * (centre**2 / axes**4).sum(axis=1)) ** 2
    got = curvatures(mesh).prod(axis=1)
    assert np.median(np.abs(got / wanted - 1)) < 0.03


def test_principal_directions_agree_with_libigl(spot: PolyMesh) -> None:
    """libigl's quadric fits (Panozzo et al. 2010), where the curvatures differ clearly."""
    mesh = PolyMesh.from_faces(*edges_split(spot.points, spot.triangle_points, np.ones(spot.topology.n_edges, bool)))
    first, second, k1, k2 = igl.principal_curvature(mesh.points, mesh.triangle_points.astype(np.int64), 5)[:4]
    values, vectors = np.linalg.eigh(shape_tensors(mesh, 3))
    own = vectors[np.arange(mesh.n_faces), :, np.abs(values).argmax(axis=1)]
    at = mesh.triangle_points[:, 0]
    larger = np.where((np.abs(k1) >= np.abs(k2))[:, None], first, second)[at]
    clear = (np.abs(np.abs(k1) - np.abs(k2)) > 2.0)[at]
    angle = np.degrees(np.arccos(np.clip(np.abs((own * unit(larger)).sum(axis=1)), 0, 1)))
    assert clear.sum() > 1000 and np.median(angle[clear]) < 8


def test_steps_are_closer_in_bends() -> None:
    """The step that a chord error allows goes with κ^−½; between a tube of radius 1 and one of ¼ it halves."""
    assert np.allclose(form_density(icosphere(4), 0.1, 0.5, np.zeros(5120, bool)), 1.0, atol=0.05)
    ring = parts.torus(1.0, 0.25, 96, 48)
    density = form_density(ring, 1.0, 0.5, np.zeros(ring.n_faces, bool))
    share = face_areas(ring) / face_areas(ring).sum()
    assert float(np.log(density) @ share) == pytest.approx(0, abs=1e-9)


# ---- fields ----------------------------------------------------------------------------------------


def double_torus() -> PolyMesh:
    """Two rings joined by marching cubes: genus 2 (skimage as used for skins)."""
    from skimage.measure import marching_cubes

    x, y, z = np.meshgrid(*(np.linspace(-1, 1, n) for n in (90, 60, 40)), indexing="ij")
    x, y, z = 2.4 * x, 1.4 * y, 0.6 * z

    def ring(cx: float) -> np.ndarray:  # type: ignore[type-arg]
        return np.hypot(np.hypot(x - cx, y) - 0.8, z) - 0.35

    points, faces, _, _ = marching_cubes(np.minimum(ring(-0.95), ring(0.95)), 0.0)
    return PolyMesh.from_faces(points.astype(float), faces.astype(np.int64))


def test_indices_of_a_double_torus_sum_to_minus_eight() -> None:
    """Poincaré–Hopf: 4χ with χ = 2 − 2·2."""
    mesh = double_torus()
    assert euler_characteristic(mesh) == -2 == igl.euler_characteristic(mesh.triangle_points.astype(np.int64))
    assert smooth_field(mesh, NONE).index.sum() == -8


@pytest.mark.parametrize("make", [lambda: triangles(grid(20)), lambda: parts.tube(caps=False), parts.plate, parts.star])
def test_indices_and_corners_of_open_meshes_sum_to_four_times_euler(make) -> None:  # type: ignore[no-untyped-def]
    """With a border: inner indices and (2 − quarter turns) of each border point together (Ray et al. 2008)."""
    mesh = make()
    while mesh.n_faces < 2000:
        mesh = PolyMesh.from_faces(
            *edges_split(mesh.points, mesh.triangle_points, np.ones(mesh.topology.n_edges, bool))
        )
    field = smooth_field(mesh, NONE)
    topology = mesh.topology
    residual = field_turns(mesh, field.direction, face_normals(mesh))[1]
    inner = topology.twin >= 0
    # Over the fan of a border point only half-edges between two of its triangles count.
    turned = np.bincount(mesh.corners[inner], residual[inner], minlength=mesh.n_points)
    angle = np.bincount(mesh.corners, corner_angles(mesh), minlength=mesh.n_points)
    at = topology.border_points
    quarters = np.rint((angle[at] - turned[at]) / (0.5 * np.pi))
    assert field.index.sum() + (2 - quarters).sum() == 4 * euler_characteristic(mesh)


def test_pairs_that_undo_one_another_go_and_the_sum_stays(spot: PolyMesh) -> None:
    mesh = PolyMesh.from_faces(*edges_split(spot.points, spot.triangle_points, np.ones(spot.topology.n_edges, bool)))
    field = smooth_field(mesh, NONE, 0.5)
    before = int(np.abs(field.index).sum())
    fewer = without_pairs(mesh, field, NONE, 0.25)
    after = int(np.abs(fewer.index).sum())
    assert after <= before - 4 and fewer.index.sum() == 8
    # Turns and directions still say the same: the turns are read off the directions again wherever these agree.
    read = field_turns(mesh, fewer.direction, face_normals(mesh))[0] % 4
    assert float((read == fewer.turn).mean()) > 0.98


def test_a_singular_point_goes_where_it_is_sent() -> None:
    mesh = icosphere(4)
    field = smooth_field(mesh, NONE)
    start = int(np.flatnonzero(field.index)[0])
    goal = int(np.argmin(np.where(field.index == 0, np.linalg.norm(mesh.points - mesh.points[start], axis=1), 9)))
    moved = singular_moved(mesh, field, NONE, start, goal)
    assert moved is not None and moved.index[start] == 0 and moved.index[goal] == field.index[start]
    assert moved.index.sum() == 8


# ---- lines -----------------------------------------------------------------------------------------


def test_chords_are_those_of_shapely() -> None:
    """Shapely's simplification is Douglas and Peucker's too."""
    from shapely import LineString

    rng = np.random.default_rng(2)
    places = np.c_[np.linspace(0, 10, 200), np.cumsum(rng.normal(0, 0.1, 200)), np.zeros(200)]
    for tolerance in (0.05, 0.2, 0.7):
        theirs = np.array(LineString(places[:, :2]).simplify(tolerance, preserve_topology=False).coords)
        assert np.allclose(places[chords(places, tolerance), :2], theirs)


def test_a_jagged_border_runs_by_its_chords() -> None:
    mesh = triangles(grid(30))
    points = mesh.points.copy()
    rim = np.flatnonzero(mesh.topology.border_points)
    step = float(edge_lengths(mesh).min())
    points[rim[::2]] += [0.4 * step, 0.3 * step, 0]
    mesh = mesh.with_points(points)
    ways = line_ways(mesh, NONE, step)
    flags = line_flags(mesh, NONE)
    assert np.allclose(np.linalg.norm(ways[flags], axis=1), 1) and not ways[~flags].any()
    assert np.abs(ways[flags][:, :2]).max(axis=1).min() > 0.8


def test_the_two_edges_of_a_thin_lip_are_one_crease() -> None:
    cup = parts.shell(0.02)
    creases = find_creases(cup, 38.0, 0.0625)
    kept = without_twins(cup, creases, 0.05)
    assert 0 < len(kept) <= 0.6 * len(creases)
    thick = parts.shell(0.4)
    creases = find_creases(thick, 38.0, 0.0625)
    assert len(without_twins(thick, creases, 0.05)) == len(creases) > 0


def lens(profile) -> PolyMesh:  # type: ignore[no-untyped-def]
    """Round about z and alike above and below: heights of 12 rings by their radius, 64 points each."""
    n, rings = 64, np.sin(np.linspace(0, np.pi / 2, 13))[1:]
    circle = np.exp(2j * np.pi * np.arange(n) / n)
    points, rows = [np.array([[0, 0, profile(0.0)], [0, 0, -profile(0.0)]])], []
    for side in (1, -1):
        rows.append([])
        for r in rings if side > 0 else rings[:-1]:
            rows[-1].append(sum(map(len, points)))
            points.append(np.stack([r * circle.real, r * circle.imag, np.full(n, side * profile(float(r)))], axis=1))
    rows[1].append(rows[0][-1])
    faces: list[list[int]] = []
    for side, row in enumerate(rows):
        for k in range(n):
            a, b = (k, (k + 1) % n) if side == 0 else ((k + 1) % n, k)
            faces.append([side, row[0] + a, row[0] + b])
            faces += [[i + a, j + a, j + b] for i, j in itertools.pairwise(row)]
            faces += [[i + a, j + b, i + b] for i, j in itertools.pairwise(row)]
    return PolyMesh.from_faces(np.concatenate(points), faces)


def test_only_edges_that_stand_out_are_creases() -> None:
    """The rim of a double cone is one. That of an ellipsoid of axes 1, 1, .15 turns as sharply from edge to edge, but its normal
    (x, z / .0225) has turned by 56° of 90° a step of .4 × .1 from the rim and goes on: no line for quads to run along."""
    cones, drop = lens(lambda r: 0.4 * (1 - r)), lens(lambda r: 0.15 * np.sqrt(1 - r * r))
    for mesh in (cones, drop):
        assert euler_characteristic(mesh) == 2 and float(dihedral_angles(mesh).max()) > 38
    rim = find_creases(cones, 38.0, 0.1)
    assert np.allclose(np.linalg.norm(cones.points[rim][:, :, :2], axis=2), 1)
    assert np.linalg.norm(np.diff(cones.points[rim], axis=1)[:, 0], axis=1).sum() == pytest.approx(128 * np.sin(np.pi / 64))
    assert len(find_creases(drop, 38.0, 0.1)) == 0
    # Each part by itself.
    both = put_side_by_side([drop, cones.with_points(cones.points + [5, 0, 0])])
    assert np.array_equal(find_creases(both, 38.0, 0.1), rim + drop.n_points)


def test_a_crease_that_swerves_at_every_edge_is_crumbled() -> None:
    """A right angle between a floor and a wall of unit squares, its edge straight or a zigzag of one unit to either side: of edges
    of √5 units each but the two at the ends swerves, six times in ten steps of 1.5 units. A circle of few corners never does."""
    for wide, kept in ((0.0, 24), (1.0, 0)):
        plane = grid(24, 24)
        points = plane.points.copy()
        wall = points[:, 0] > 12
        points[wall, 2] = 12 - points[wall, 0]
        points[wall, 0] = 12
        on = plane.points[:, 0] == 12
        points[on, 0] += wide * (-1) ** plane.points[on, 1]
        bent = PolyMesh.from_faces(points, plane.triangle_points)
        assert len(find_creases(bent, 38.0, 1.5)) == kept
    angle = np.linspace(0, 2 * np.pi, 13)
    circle = np.stack([np.cos(angle), np.sin(angle), 0 * angle], axis=1)
    zigzag = np.stack([np.arange(13.0), np.arange(13) % 2, np.zeros(13)], axis=1)
    assert (_swerves(circle, 0.01), _swerves(zigzag, 0.01), _swerves(zigzag, 1.1)) == (0, 10, 0)


def test_an_acute_corner_gets_a_pole_of_three() -> None:
    """Between lines at 25° a cross field makes no quarter turn by itself; opened, it makes one."""
    from jacket.core.quads.base import make_base
    from jacket.core.space.bvh import Bvh

    mesh = parts.wedge(25.0)
    base = make_base(mesh, Bvh.build(mesh.points, mesh.triangle_points), 8000, 0.005, 38.0)
    field = smooth_field(base.mesh, base.creases)
    opened = opened_corners(base.mesh, field, base.creases, 0.07)
    # One quarter turn goes from each of the two corner points into the face between its creases.
    assert opened.index.sum() == field.index.sum() == 8
    gone, come = field.index > opened.index, field.index < opened.index
    on_crease = np.zeros(base.mesh.n_points, bool)
    on_crease[base.creases] = True
    assert gone.sum() == come.sum() == 2 and on_crease[gone].all() and not on_crease[come].any()
    assert np.hypot(*base.mesh.points[gone, :2].T) == pytest.approx(0, abs=1e-9)


def test_strokes_lie_along_the_field() -> None:
    mesh = icosphere(4)
    field: Field = smooth_field(mesh, NONE)
    strokes = field_strokes(mesh, field, 0.05)
    assert np.linalg.norm(strokes[:, 1] - strokes[:, 0], axis=1) == pytest.approx(0.1, abs=1e-9)
    assert np.linalg.norm(strokes.mean(axis=1), axis=1).min() > 0.99


# ---- lattices --------------------------------------------------------------------------------------


@pytest.mark.parametrize("make", [parts.torus, lambda: triangles(torus(30, 20)), lambda: icosphere(4)])
def test_seams_are_whole_steps_and_singular_points_lie_on_the_lattice(make) -> None:  # type: ignore[no-untyped-def]
    """The constraints of Bommes, Zimmer and Kobbelt (2009), section 4, verified on the solved map."""
    mesh = make()
    field = smooth_field(mesh, NONE)
    cut = cut_mesh(mesh, field)
    grid_map = GridSolver(mesh, field, cut, NONE).solve(0.12)
    topology = mesh.topology
    c = np.flatnonzero(topology.twin >= 0)
    t = topology.twin[c]
    for corner, other in ((c, topology.next[t]), (topology.next[c], t)):
        u, v = grid_map.uv[corner].T
        k = grid_map.turn[c]
        there = np.stack([np.choose(k, [u, -v, -u, v]), np.choose(k, [v, u, -v, -u])], axis=1)
        assert np.abs(grid_map.uv[other] - there - grid_map.shift[c]).max() < 1e-6
    singular = grid_map.uv[field.index[mesh.corners] != 0]
    assert np.abs(singular - np.rint(singular)).max(initial=0) < 1e-6


# ---- whole results ---------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("name", "odd"),
    [("torus", 0), ("tube, open", 0), ("tube with caps", 8), ("box, 12 triangles", 8), ("wedge of 25°", 8)],
)
def test_counts_are_those_of_theory(name: str, odd: int) -> None:
    """A torus and an open tube take regular grids; caps with sharp rims and boxes have index 1 of each of eight."""
    mesh = parts.parts()[name]
    result = automatic_quads(mesh, AutoSettings(quads=600, rows=0.0))
    quads = result.mesh
    assert irregular_count(quads) == odd and len(irregular_points(quads)) == odd
    assert quads.is_quads and euler_characteristic(quads) == euler_characteristic(mesh)
    assert result.figures.folded == 0 and result.figures.gap_in_largest < 1.0
    # Distances by libigl from the source's own points: creases and corners are kept.
    far = igl.point_mesh_squared_distance(mesh.points, quads.points, quads.triangle_points.astype(np.int64))[0]
    assert np.sqrt(far.max()) < 0.012 * mesh.diagonal


def test_steps_are_closer_where_the_form_bends_more() -> None:
    """A ball of a fifth of the other's radius has five times its curvature: its steps are the closer ones."""
    large, small = icosphere(3), icosphere(3)
    both = PolyMesh.from_faces(np.concatenate([large.points, 0.2 * small.points + [3.0, 0, 0]]),
                               np.concatenate([large.triangle_points, small.triangle_points + large.n_points]))  # fmt: skip
    closer = form_density(both, 0.25, 0.5, np.zeros(both.n_faces, bool))
    assert closer[large.n_faces :].min() > closer[: large.n_faces].max()
