"""Single stages on inputs whose answer is known beforehand: cuts, extraction, kernels, walks, samples."""

from __future__ import annotations

import networkx as nx
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from jacket.core.flatten.stretch import measure_stretch, singular_values
from jacket.core.heap import heap_pop, heap_push
from jacket.core.mesh.geometry import face_areas, face_normals
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.walks import euler_characteristic, ring_edges
from jacket.core.quads.auto import measure_quads
from jacket.core.quads.base import manifold_triangles
from jacket.core.quads.cut import cut_mesh
from jacket.core.quads.extract import extract_quads
from jacket.core.quads.field import corner_angles, smooth_field
from jacket.core.quads.gridmap import GridMap, hat_gradients
from jacket.core.solve.cholesky import Factor
from jacket.core.space.bvh import Bvh
from jacket.core.uv.chart import chart_of, charts_of
from jacket.errors import SolveError
from tests.conftest import cube, grid, icosphere, torus

NONE = np.zeros((0, 2), np.int32)


def triangles(mesh: PolyMesh) -> PolyMesh:
    return PolyMesh.from_faces(mesh.points, mesh.triangle_points)


# ---- extraction from maps that are given --------------------------------------------------------


def plain_map(mesh: PolyMesh, uv: np.ndarray) -> GridMap:
    return GridMap(uv, np.zeros(mesh.n_corners, np.int32), np.zeros((mesh.n_corners, 2), np.int32), 0)


@pytest.mark.parametrize(("fine", "step"), [(7, 1.0), (5, 0.37), (12, 2.0)])
def test_a_plane_gives_back_its_grid(fine: int, step: float) -> None:
    """A square of fine triangles under uv = xy / step: one quad for each grid square wholly inside."""
    mesh = triangles(grid(fine))
    uv = mesh.points[mesh.corners][:, :2] / step
    quads = extract_quads(mesh, plain_map(mesh, uv))
    assert quads.is_quads and euler_characteristic(quads) == 1
    assert quads.n_faces == round(fine / step) ** 2
    places = quads.points[:, :2] / step
    inner = ~quads.topology.border_points
    assert np.abs(places[inner] - np.rint(places[inner])).max(initial=0) < 1e-9
    assert (face_normals(quads)[:, 2] > 0.99).all()


def test_a_fold_in_the_map_cancels() -> None:
    """A map that runs back over itself by a step and a half still covers each square once."""
    mesh = triangles(grid(24, 4))
    x = mesh.points[mesh.corners][:, 0] / 2
    folded = np.where(x < 5, x, np.where(x < 6.5, 10 - x, x - 3.0))
    uv = np.stack([folded, mesh.points[mesh.corners][:, 1] / 2], axis=1)
    quads = extract_quads(mesh, plain_map(mesh, uv))
    assert quads.is_quads and len(quads.topology.nonmanifold_edges) == 0
    assert quads.n_faces == 9 * 2 and euler_characteristic(quads) == 1  # 12 − 3 columns are left


def test_a_torus_by_its_two_angles() -> None:
    """uv = (12 a / 2π, 5 b / 2π) with whole shifts across the two cuts gives 12 × 5 quads of valence 4."""
    mesh = triangles(torus(48, 25))
    i, j = np.divmod(mesh.corners, 25)
    # Within each triangle the indices are unrolled so that they do not jump.
    i, j = i.reshape(-1, 3).astype(float), j.reshape(-1, 3).astype(float)
    i[(np.ptp(i, axis=1) > 24)[:, None] & (i < 24)] += 48
    j[(np.ptp(j, axis=1) > 12)[:, None] & (j < 12)] += 25
    uv = np.stack([i.ravel() / 4, j.ravel() / 5], axis=1)
    topology = mesh.topology
    shift = np.rint(uv[topology.next[topology.twin]] - uv).astype(np.int32)
    quads = extract_quads(mesh, GridMap(uv, np.zeros(mesh.n_corners, np.int32), shift, 0))
    assert quads.n_faces == 60 and quads.is_quads and euler_characteristic(quads) == 0
    assert (quads.topology.valence == 4).all()


# ---- cutting ------------------------------------------------------------------------------------


@pytest.mark.parametrize("make", [lambda: icosphere(3), lambda: triangles(torus(24, 12)), lambda: triangles(grid(6))])
def test_cut_meshes_are_disks_with_singular_points_on_the_cut(make) -> None:  # type: ignore[no-untyped-def]
    """V − E + F of the cut-open mesh is 1, and all turning is across the cut."""
    mesh = make()
    field = smooth_field(mesh, NONE)
    cut = cut_mesh(mesh, field)
    opened = PolyMesh.from_faces(np.zeros((cut.n_classes, 3)), cut.corner_class.reshape(-1, 3))
    assert euler_characteristic(opened) == 1
    assert not cut.turn[~cut.cut].any()
    singular = np.flatnonzero(field.index)
    assert np.isin(singular, mesh.corners[cut.cut]).all()
    assert sum(len(s) for s in cut.segments) == len(np.unique(mesh.topology.edge[cut.cut]))


def test_manifold_copies_of_pinched_points() -> None:
    """Two tetrahedra that share one point come apart there (each keeps its four points)."""
    tetra = np.array([[0, 2, 1], [0, 1, 3], [0, 3, 2], [1, 2, 3]], np.int32)
    points = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1], [-1, 0, 0], [0, -1, 0], [0, 0, -1]], float)
    second = np.array([0, 4, 5, 6], np.int32)[tetra]
    opened, tri = manifold_triangles(points, np.concatenate([tetra, second]))
    assert len(opened) == 8 and euler_characteristic(PolyMesh.from_faces(opened, tri)) == 4


# ---- formulas -----------------------------------------------------------------------------------


def test_hat_gradients_of_linear_functions_are_exact() -> None:
    """Σ f(p) ∇φ_p is the gradient of a linear f, in the triangle's plane."""
    ball = icosphere(2)
    tri = ball.triangle_points
    gradients = hat_gradients(ball.points, tri, face_normals(ball))
    slope = np.array([0.3, -1.2, 0.7])
    values = ball.points @ slope
    got = np.einsum("tk,tki->ti", values[tri], gradients)
    normal = face_normals(ball)
    wanted = slope - normal * (normal @ slope)[:, None]
    assert np.abs(got - wanted).max() < 1e-12 and np.abs(gradients.sum(axis=1)).max() < 1e-12


def test_angles_of_a_triangle_sum_to_a_half_turn() -> None:
    ball = icosphere(2)
    assert np.allclose(corner_angles(ball).reshape(-1, 3).sum(axis=1), np.pi)
    defect = 2 * np.pi * ball.n_points - corner_angles(ball).sum()
    assert defect == pytest.approx(4 * np.pi)  # Descartes: the angle defects of a sphere sum to 4π


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


def test_figures_of_an_exact_jacket() -> None:
    """A box over itself: no gap, right angles, eight irregular points of 26."""
    from jacket.core.quads.subdivide import split_to_quads

    mesh = split_to_quads(cube())
    figures = measure_quads(mesh, cube(), Bvh.build(cube().points, cube().triangle_points))
    assert figures.gap_out_largest < 1e-9 and figures.gap_in_largest < 1e-9
    assert figures.jacobian_least == pytest.approx(1.0) and figures.irregular_percent == pytest.approx(100 * 8 / 26)
    assert figures.quads == 24 and figures.euler == 2 and figures.open_edges == 0


# ---- charts, rings, solving, heaps --------------------------------------------------------------


def test_charts_open_their_inner_seams() -> None:
    """A slit inside one island doubles its inner points and lengthens the border."""
    sheet = grid(4).with_cuts([[6, 11], [11, 16]])
    chart = charts_of(sheet)[0]
    assert chart.mesh.n_points == 25 + 1 and sorted(len(b) for b in chart.border) == [4, 16]
    whole = chart_of(sheet, np.arange(16), np.zeros(sheet.topology.n_edges, bool))
    assert whole.mesh.n_points == 25 and whole.is_disk
    assert chart.area == pytest.approx(16.0) == face_areas(sheet).sum()


def test_rings_are_the_components_of_opposite_edges() -> None:
    """Edges opposite in some quad are joined; rings are the pieces of that graph (networkx)."""
    ring = torus(9, 5)
    topology = ring.topology
    graph = nx.Graph()
    edges = topology.edge.reshape(-1, 4)
    graph.add_edges_from(map(tuple, np.concatenate([edges[:, [0, 2]], edges[:, [1, 3]]]).tolist()))
    for piece in nx.connected_components(graph):
        assert set(ring_edges(ring, min(piece)).tolist()) == piece


@given(st.lists(st.floats(-1e6, 1e6), min_size=1, max_size=60))
@settings(max_examples=40, deadline=None, derandomize=True)
def test_the_heap_sorts(values: list[float]) -> None:
    cost, item, size = np.empty(64), np.empty((64, 4), np.int32), 0
    for k, v in enumerate(values):
        size = heap_push(cost, item, size, v, k, 0, 0, 0)
    out = []
    while size:
        out.append((cost[0], int(item[0, 0])))
        size = heap_pop(cost, item, size)
    assert [c for c, _ in out] == sorted(values) and all(values[k] == c for c, k in out)


def test_factors_agree_with_numpy_and_can_be_updated() -> None:
    from scipy import sparse

    rng = np.random.default_rng(6)
    half = sparse.random(40, 40, 0.1, random_state=np.random.RandomState(1)) + sparse.identity(40)
    matrix = (half @ half.T).tocsc()
    right = rng.normal(size=(40, 3))
    factor = Factor(matrix)
    assert np.allclose(factor.solve(right), np.linalg.solve(matrix.toarray(), right))
    factor.update(matrix * 2.0)
    assert np.allclose(factor.solve(right[:, 0]), np.linalg.solve(matrix.toarray() * 2, right[:, 0]))
    assert Factor(sparse.csc_matrix((0, 0))).solve(np.zeros(0)).shape == (0,)
    for singular in (np.zeros((3, 3)), np.ones((2, 2))):
        with pytest.raises(SolveError, match="no single answer"):
            Factor(sparse.csc_matrix(singular))
