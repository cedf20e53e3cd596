"""The automatic route, stage by stage, against theory and libigl."""

from __future__ import annotations

from dataclasses import replace

import igl
import numpy as np
import pytest

from jacket.core.mesh.geometry import face_areas, scaled_jacobian, volume
from jacket.core.mesh.pieces import put_side_by_side, turned_over
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.walks import euler_characteristic
from jacket.core.quads import gridmap, grids
from jacket.core.quads.auto import AutoSettings, automatic_quads
from jacket.core.quads.base import make_base
from jacket.core.quads.cut import cut_mesh
from jacket.core.quads.field import smooth_field
from jacket.core.quads.gridmap import GridSolver, flipped_share, turned
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.solve.integers import integer_kernel
from jacket.core.source.skin import closed_skin, tears_of
from jacket.core.space.bvh import Bvh
from jacket.errors import Cancelled, MeshError
from tests.conftest import cube, grid, icosphere, torus

NONE = np.zeros((0, 2), np.int32)


def triangles(mesh: PolyMesh) -> PolyMesh:
    return PolyMesh.from_faces(mesh.points, mesh.triangle_points)


@pytest.mark.parametrize("make", [lambda: icosphere(3), lambda: triangles(torus(40, 24))])
def test_singularities_sum_to_four_times_euler(make) -> None:  # type: ignore[no-untyped-def]
    """Poincaré–Hopf: the quarter turns of a cross field sum to 4χ (e.g. Ray et al. 2008)."""
    mesh = make()
    field = smooth_field(mesh, NONE)
    assert field.index.sum() == 4 * euler_characteristic(mesh)
    assert np.allclose(np.linalg.norm(field.direction, axis=1), 1)


def test_spot_too(spot: PolyMesh) -> None:
    assert smooth_field(spot, NONE).index.sum() == 4 * igl.euler_characteristic(spot.triangle_points.astype(np.int64))


def test_a_torus_has_no_singularity_and_follows_curvature() -> None:
    """Principal directions of a torus run along its two circles; libigl computes the same ones."""
    mesh = triangles(torus(60, 30))
    field = smooth_field(mesh, NONE, 0.5)
    assert not field.index.any()
    along = igl.principal_curvature(mesh.points, mesh.triangle_points.astype(np.int64))[0]
    there = along[mesh.triangle_points].mean(axis=1) * 0 + along[mesh.triangle_points[:, 0]]
    cosine = np.abs((field.direction * there).sum(axis=1)) / np.linalg.norm(there, axis=1)
    angle = np.degrees(np.arccos(np.clip(cosine, 0, 1)))
    assert np.median(np.minimum(angle, np.abs(90 - angle))) < 6


def test_a_box_gives_eight_irregular_points() -> None:
    """A cube's field has one singular point of index ¼ at each corner, and so has its jacket."""
    result = automatic_quads(triangles(cube()), AutoSettings(quads=300))
    mesh = result.mesh
    odd = np.flatnonzero(mesh.topology.valence != 4)
    assert mesh.is_quads and euler_characteristic(mesh) == 2
    assert (mesh.topology.valence[odd] == 3).all() and len(odd) == 8
    far = np.linalg.norm(mesh.points[odd][:, None] - cube().points[None], axis=2).min(axis=1)
    assert far.max() < 1e-6  # the corners themselves are points of the jacket


def test_integer_kernel_is_exact() -> None:
    """Every column solves the rows over the integers, and nothing between columns is lost: the
    lattice of solutions of 2a = 4b holds (2, 1), which dropping the factor 2 would miss."""
    basis = integer_kernel(np.array([[2, -4]]))
    assert basis.shape == (2, 1) and abs(basis[:, 0]).tolist() == [2, 1]
    rng = np.random.default_rng(3)
    rows = rng.integers(-2, 3, (12, 30))
    basis = integer_kernel(rows)
    assert not (rows @ basis).any() and basis.shape[1] == 30 - np.linalg.matrix_rank(rows)
    # A basis of the whole lattice: the gcd of its maximal minors is 1, so it stays of full rank modulo small primes.
    for prime in (2, 3, 5, 7):
        assert _rank_modulo(basis, prime) == basis.shape[1]


def _rank_modulo(matrix: np.ndarray, prime: int) -> int:
    rows = (matrix % prime).astype(int).tolist()
    rank = 0
    for column in range(matrix.shape[1]):
        pivot = next((r for r in range(rank, len(rows)) if rows[r][column] % prime), None)
        if pivot is None:
            continue
        rows[rank], rows[pivot] = rows[pivot], rows[rank]
        inverse = pow(rows[rank][column], -1, prime)
        for r in range(len(rows)):
            if r != rank and rows[r][column]:
                factor = rows[r][column] * inverse
                rows[r] = [(a - factor * b) % prime for a, b in zip(rows[r], rows[rank], strict=True)]
        rank += 1
    return rank


def test_the_grid_map_matches_across_cuts_and_holds_singular_points(spot: PolyMesh) -> None:
    surface = Bvh.build(spot.points, spot.triangle_points)
    area = face_areas(spot).sum()
    base = make_base(spot, surface, 6000, area / 1000, 180.0)
    field = smooth_field(base.mesh, base.creases)
    cut = cut_mesh(base.mesh, field)
    grid = GridSolver(base.mesh, field, cut, base.creases).solve(float(np.sqrt(area / 1000)))
    topology = base.mesh.topology
    across = turned(grid.uv, grid.turn) + grid.shift
    assert np.abs(across - grid.uv[topology.next[topology.twin]]).max() < 1e-9  # every transition, exactly whole
    singular = np.flatnonzero(field.index[base.mesh.corners])
    assert np.abs(grid.uv[singular] - np.rint(grid.uv[singular])).max() < 1e-9
    assert flipped_share(base.mesh, grid) < 0.02


def test_the_whole_route_on_spot(spot: PolyMesh) -> None:
    result = automatic_quads(spot, AutoSettings(quads=1500))
    mesh, figures = result.mesh, result.figures
    assert mesh.is_quads and figures.nonmanifold_edges == 0 and figures.euler == 2
    assert abs(mesh.n_faces / 1500 - 1) < 0.1 and figures.folded == 0
    assert figures.irregular_percent <= 100 * 1.1 * result.field_singularities / mesh.n_points
    assert figures.jacobian_mean > 0.95
    # libigl says the same of the distance to the source.
    square, _, _ = igl.point_mesh_squared_distance(mesh.points, spot.points, spot.triangle_points.astype(np.int64))
    assert np.sqrt(square).max() < 1e-9 * spot.diagonal
    assert figures.gap_out_mean < 0.5
    assert igl.is_edge_manifold(mesh.triangle_points.astype(np.int64))[0]


def rod(radius: float, long: float, sides: int, along: int, lifted: float) -> PolyMesh:
    """A closed rod of triangles along x."""
    angle = 2 * np.pi * np.arange(sides) / sides
    ends = np.linspace(-long / 2, long / 2, along + 1)
    rings = [np.stack([np.full(sides, x), radius * np.cos(angle), lifted + radius * np.sin(angle)], axis=1) for x in ends]
    middles = np.array([[ends[0], 0, lifted], [ends[-1], 0, lifted]])
    first, after = np.arange(sides * along), np.arange(sides * along) + np.where(np.arange(sides * along) % sides == sides - 1, 1 - sides, 1)
    near, far = np.arange(sides), np.roll(np.arange(sides), -1)
    n = sides * (along + 1)
    caps = [np.stack([np.full(sides, n), far, near], axis=1), np.stack([np.full(sides, n + 1), near, far], axis=1) + [0, n - sides, n - sides]]
    walls = [np.stack([first, after, after + sides], axis=1), np.stack([first, after + sides, first + sides], axis=1)]
    return PolyMesh.from_faces(np.concatenate([*rings, middles]), np.concatenate([*walls, *caps]))


def test_a_part_thinner_than_a_step_is_covered_and_told(monkeypatch: pytest.MonkeyPatch) -> None:
    """A rod .31 round beside a ball, with steps of .15: two sides of it would fall together. Its quads are drawn out, or where that does
    not do its steps made closer. Gaps by libigl."""
    thin = rod(0.05, 4.0, 6, 30, 3.0)
    both = put_side_by_side([icosphere(3), thin])
    for how in ("drawn out", "made closer"):
        result = automatic_quads(both, AutoSettings(quads=600, rows=0.0))
        quads = result.mesh
        assert len(quads.topology.nonmanifold_edges) == 0 and result.figures.folded == 0 and quads.is_quads
        assert any("thinner than a step" in note and how in note for note in result.notes)
        there = int((quads.points[quads.as_quads()].mean(axis=1)[:, 2] > 1.5).sum())
        # What its area is due, or a tube of four even quads around at the least, twice as many; the ball has so many less.
        assert abs(quads.n_faces / 600 - 1) < 0.03 and (abs(there / (600 * 1.26 / 13.8) - 1) < 0.15 if how == "drawn out" else there > 100)
        far = igl.point_mesh_squared_distance(thin.points, quads.points, quads.triangle_points.astype(np.int64))[0]
        assert np.sqrt(far.max()) < 0.01 * both.diagonal
        assert float(np.percentile(scaled_jacobian(quads), 1)) > 0.7
        monkeypatch.setattr(grids, "stout", lambda mesh, wanted: None)


def test_a_surface_too_broken_for_a_grid_is_split_plainly_and_told(monkeypatch: pytest.MonkeyPatch) -> None:
    """Whole numbers by the ten thousand would take all memory: a ball's few count as too many here. Distances by libigl."""
    monkeypatch.setattr(gridmap, "MOST_INTEGERS", 2)
    ball = icosphere(4)
    result = automatic_quads(ball, AutoSettings(quads=300))
    assert any("too broken for a grid" in note for note in result.notes)
    assert result.mesh.is_quads and result.figures.euler == 2 and result.figures.folded == 0
    assert abs(result.mesh.n_faces / 300 - 1) < 0.1
    far = igl.point_mesh_squared_distance(ball.points, result.mesh.points, result.mesh.triangle_points.astype(np.int64))[0]
    assert np.sqrt(far.max()) < 0.02 * ball.diagonal


def test_where_no_grid_fits_the_source_its_outside_is_covered(monkeypatch: pytest.MonkeyPatch) -> None:
    """Every grid on a source as it is told to have failed: a ball is covered from outside, with libigl's distances as small as ever; a
    sheet that encloses nothing, and two balls one in the other, of which the inner cannot be seen, are split plainly."""
    from jacket.core.quads import covering

    grid_for, tried = covering.grid_for, list[bool]()

    def failing(base, *rest):  # type: ignore[no-untyped-def]
        tried.append(base.tears is None)
        found = grid_for(base, *rest)
        return replace(found, quads=None) if base.tears is None else found

    monkeypatch.setattr(covering, "grid_for", failing)
    ball = icosphere(4)
    shell = put_side_by_side([ball, turned_over(ball, 0.6 * ball.points)])
    for source, outside in ((ball, True), (grid(8), False), (shell, False)):
        tried.clear()
        result = automatic_quads(source, AutoSettings(quads=400, rows=0.0))
        assert tried[0] and result.mesh.is_quads and result.figures.folded == 0
        assert any("No grid of quads fits the source as it is" in note for note in result.notes) == outside
        assert any("split there instead" in note for note in result.notes) != outside
        if outside:
            assert euler_characteristic(result.mesh) == 2 and result.figures.irregular_percent < 5
        far = igl.point_mesh_squared_distance(source.points, result.mesh.points, result.mesh.triangle_points.astype(np.int64))[0]
        assert np.sqrt(far.max()) < 0.03 * source.diagonal
    tried.clear()
    automatic_quads(ball, AutoSettings(quads=400, rows=0.0, skin=False))
    assert tried == [True], "no skin was wanted"


def test_holes_and_handles_that_no_row_fits_through_are_closed_and_told() -> None:
    """A ball without two of its triangles, and one with a tunnel of three triangles' girth under its skin: by Euler's formula what
    comes of both is a closed ball, as clean as that of the whole one. Without the mending no grid has their holes."""
    ball = icosphere(4)
    tri = ball.triangle_points
    centre = ball.points[tri].mean(axis=1)
    at = int(np.argmin(np.linalg.norm(centre - [0, 0, 1], axis=1)))
    far = np.linalg.norm(centre - centre[at], axis=1)
    near = int(np.argmin(np.abs(far - 0.2)))
    holed = PolyMesh.from_faces(ball.points, np.delete(tri, [at, near], axis=0))
    # The rims of both holes joined by a tube, corners in opposite order and as near to one another as they come.
    ways = [[tri[near][(k - i) % 3] for i in range(3)] for k in range(3)]
    there = min(ways, key=lambda way: float(np.linalg.norm(ball.points[way] - ball.points[tri[at]], axis=1).sum()))
    tube = [[tri[at][i], tri[at][(i + 1) % 3], there[(i + 1) % 3]] for i in range(3)] + [[tri[at][i], there[(i + 1) % 3], there[i]] for i in range(3)]
    tunnelled = PolyMesh.from_faces(ball.points, np.concatenate([holed.triangle_points, np.array(tube)]))
    assert euler_characteristic(holed) == euler_characteristic(tunnelled) == 0 and len(tunnelled.topology.nonmanifold_edges) == 0
    for source, words in ((holed, "2 holes smaller than a quad were closed"), (tunnelled, "1 handle near")):
        result = automatic_quads(source, AutoSettings(quads=500, rows=0.0))
        assert euler_characteristic(result.mesh) == 2 and len(result.mesh.topology.border_loops) == 0
        assert any(words in note for note in result.notes) and result.figures.irregular_percent < 5 and result.figures.folded == 0
    # Where a row has room to go round it a hole stays.
    wide = PolyMesh.from_faces(ball.points, tri[far > 0.3])
    assert len(automatic_quads(wide, AutoSettings(quads=500, rows=0.0)).mesh.topology.border_loops) == 1


def test_the_same_input_gives_the_same_bytes() -> None:
    one, two = (automatic_quads(icosphere(4), AutoSettings(quads=200)).mesh for _ in range(2))
    assert one.points.tobytes() == two.points.tobytes() and one.corners.tobytes() == two.corners.tobytes()


def test_open_borders_are_kept() -> None:
    ball = icosphere(5)
    middle = ball.points[ball.triangle_points].mean(axis=1)
    half = PolyMesh.from_faces(ball.points, ball.triangle_points[middle[:, 2] > 0.3])
    mesh = automatic_quads(half, AutoSettings(quads=300, rows=0.0)).mesh
    assert mesh.is_quads and euler_characteristic(mesh) == 1 and len(mesh.topology.border_loops) == 1
    rim = mesh.points[mesh.topology.border_points]
    assert np.abs(rim[:, 2] - 0.3).max() < 0.05


def test_refusals_and_cancelling() -> None:
    with pytest.raises(MeshError, match="12 or more"):
        automatic_quads(icosphere(2), AutoSettings(quads=3))
    with pytest.raises(MeshError, match="no surface"):
        automatic_quads(PolyMesh.empty(), AutoSettings(quads=100))

    def stop(fraction: float, what: str) -> None:
        if fraction > 0.3:
            raise Cancelled

    with pytest.raises(Cancelled):
        automatic_quads(icosphere(4), AutoSettings(quads=300), stop)


def test_splitting_counts() -> None:
    """Each n-gon becomes n quads; V' = V + E + F (Catmull and Clark 1978)."""
    box = cube()
    split = split_to_quads(box)
    assert split.n_faces == 24 and split.n_points == 8 + 12 + 6 and split.is_quads


def _torn(mesh: PolyMesh, holes: int, size: int) -> PolyMesh:
    """The mesh with round holes, spread by a seeded generator."""
    rng = np.random.default_rng(8)
    middle = mesh.points[mesh.triangle_points].mean(axis=1)
    gone = np.zeros(mesh.n_faces, bool)
    for _ in range(holes):
        way = rng.normal(size=3)
        gone[np.argsort(-(middle @ way))[:size]] = True
    return PolyMesh.from_faces(mesh.points, mesh.triangle_points[~gone])


def test_a_torn_ball_gets_a_closed_skin_and_clean_quads() -> None:
    """Volume and Euler characteristic of the skin against the ball's 4π/3 and 2."""
    ball = icosphere(4)
    torn = _torn(ball, 30, 10)
    tears = tears_of(torn)
    assert tears.torn and tears.borders > 20 and tears.handles == 0
    assert not tears_of(ball).torn
    skin = closed_skin(Bvh.build(torn.points, torn.triangle_points), 64)
    assert skin is not None
    mesh = PolyMesh.from_faces(*skin)
    assert len(mesh.topology.border_edges) == 0 and euler_characteristic(mesh) == 2
    assert volume(mesh) == pytest.approx(4 / 3 * np.pi, rel=0.03)
    result = automatic_quads(torn, AutoSettings(quads=800, rows=0.0))
    assert result.figures.open_edges == 0 and result.figures.euler == 2 and result.figures.folded == 0
    as_is = make_base(torn, Bvh.build(torn.points, torn.triangle_points), 6000, 0.016, 38.0, skinned=False)
    assert as_is.tears is None and len(as_is.mesh.topology.border_loops) > 20
    assert "torn" in result.notes[0] and abs(result.mesh.n_faces / 800 - 1) < 0.03


def test_what_encloses_nothing_gets_no_skin() -> None:
    """A plate and a bowl have no inside to close over."""
    plate = grid(8)
    assert closed_skin(Bvh.build(plate.points, plate.triangle_points), 48) is None
    ball = icosphere(4)
    bowl = PolyMesh.from_faces(
        ball.points, ball.triangle_points[ball.points[ball.triangle_points].mean(axis=1)[:, 1] < 0]
    )
    assert closed_skin(Bvh.build(bowl.points, bowl.triangle_points), 48) is None


def test_a_source_that_is_inside_out_is_turned_and_that_is_said() -> None:
    """The volume by the divergence theorem: quads over a ball of inward faces face outward."""
    ball = icosphere(3)
    inward = PolyMesh.from_faces(ball.points, ball.triangle_points[:, ::-1])
    made = automatic_quads(inward, AutoSettings(quads=150, rows=0.0))
    corner = made.mesh.points[made.mesh.triangle_points]
    volume = np.einsum("ij,ij->i", corner[:, 0], np.cross(corner[:, 1], corner[:, 2])).sum() / 6
    assert volume == pytest.approx(4 / 3 * np.pi, rel=0.08)
    assert any("1,280 faces ran the wrong way round" in n for n in made.notes)
