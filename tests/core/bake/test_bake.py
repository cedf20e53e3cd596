"""Maps of forms whose answers are known."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from bench.baking import seam_steps
from jacket.core.bake import cage
from jacket.core.bake.bake import BakeOptions, Group, SheetBake, bake_sheet, point_values
from jacket.core.bake.cage import STRAIGHT, cage_ways, found_reach, target_of
from jacket.core.bake.cast import BEHIND, HIT, MISSED
from jacket.core.bake.dense import Dense
from jacket.core.bake.maps import MAPS, Baked, directions, id_colours
from jacket.core.bake.points import curvature_at_points, sky_at_points, thickness_at_points
from jacket.core.bake.texels import border_sides, covered_texels, spread_origin, texel_places
from jacket.core.mesh.diagonals import short_diagonals
from jacket.core.mesh.geometry import dihedral_angles
from jacket.core.mesh.materials import Material
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.shading import HARD, hard_by_angle
from jacket.core.space.bvh import Bvh
from jacket.core.uv.sheets import Sheet
from jacket.jobs.bake import BakeLayer, BakeSettings, bake
from tests.core.bake.forms import ball, boxed, grid, mapped_grid, torus, tube

SIZE = 128


def baked(
    jacket: PolyMesh, source: PolyMesh | Dense, kinds: tuple[str, ...], reach: float, options: BakeOptions = BakeOptions(samples=1),
    size: int = SIZE, gutter: float = 1.5,
) -> tuple[dict[str, Baked], SheetBake]:  # fmt: skip
    dense = source if isinstance(source, Dense) else Dense.of([("source", source)])
    sheet = SheetBake.blank(size, size, kinds)
    group = Group(target_of(jacket, Sheet(), (size, size), reach), dense, point_values(dense, kinds, options))
    return bake_sheet([group], sheet, options, gutter=gutter), sheet


def places_on(jacket: PolyMesh, size: int, gutter: float = 0.0) -> tuple[np.ndarray, np.ndarray]:
    """(H, W) the triangle under each texel from the top, and its place (H, W, 3) in space."""
    tri = short_diagonals(jacket)
    at = texel_places(jacket, tri, np.zeros(2), np.full(2, float(size)))
    which = covered_texels(at, border_sides(jacket.uv, tri), size, size, gutter)
    j, i = np.nonzero(which >= 0)
    t = which[j, i]
    xy = np.stack([i + 0.5, j + 0.5], axis=1)
    e1, e2, d = at[t, 1] - at[t, 0], at[t, 2] - at[t, 0], xy - at[t, 0]
    area = e1[:, 0] * e2[:, 1] - e1[:, 1] * e2[:, 0]
    b = (d[:, 0] * e2[:, 1] - d[:, 1] * e2[:, 0]) / area
    c = (e1[:, 0] * d[:, 1] - e1[:, 1] * d[:, 0]) / area
    p = jacket.points[jacket.corners[tri[t]]]
    out = np.full((size, size, 3), np.nan)
    out[size - 1 - j, i] = (1 - b - c)[:, None] * p[:, 0] + b[:, None] * p[:, 1] + c[:, None] * p[:, 2]
    return which[::-1], out


def degrees(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    return 2 * np.degrees(np.arcsin(np.clip(np.linalg.norm(a - b, axis=-1) / 2, 0, 1)))


def decoded(jacket: PolyMesh, normals: np.ndarray, size: int) -> np.ndarray:
    """Tangent space back to space as mikktspace.h prescribes: x · T + y · w · N × T + z · N, all as interpolated."""
    target = target_of(jacket, Sheet(), (size, size), 0.1)
    which = covered_texels(target.at, target.sides, size, size, 0.0)
    out = np.full((size, size, 3), np.nan)
    for j, i in zip(*np.nonzero(which >= 0), strict=True):
        t = which[j, i]
        e = target.at[t, 1:] - target.at[t, 0]
        b = np.linalg.solve(e.T, np.array([i + 0.5, j + 0.5]) - target.at[t, 0])
        frame = np.tensordot(np.array([1 - b.sum(), *b]), target.frames[t], 1)
        x, y, z = normals[size - 1 - j, i]
        v = x * frame[0] + y * target.signs[t] * np.cross(frame[1], frame[0]) + z * frame[1]
        out[size - 1 - j, i] = v / np.linalg.norm(v)
    return out


def test_a_ball_baked_onto_a_cube_decodes_to_the_ball() -> None:
    """A ball's normal is its place. Sixteen bits keep it to thousandths of a degree, eight to their floor: half a step of
    1/127.5 in each of three numbers, about .18° on average."""
    jacket, source = boxed(4, False), ball(48)
    dense = Dense.of([("ball", source)])
    exact = source.points[source.triangle_points[dense.tree.order]].reshape(-1, 9).astype(np.float32)
    maps, sheet = baked(jacket, replace(dense, leaf_normals=exact), ("normal", "object", "position"), 0.9)
    on = (sheet.state > 0) & (places_on(jacket, SIZE)[0] >= 0)
    assert (sheet.state[on] == HIT).all()
    truth = np.asarray(maps["position"].pixels, float)
    truth /= np.maximum(np.linalg.norm(truth, axis=2, keepdims=True), 1e-9)
    world = degrees(directions(maps["object"]), truth)[on]
    tangent = degrees(decoded(jacket, directions(maps["normal"]), SIZE), truth)[on]
    assert world.mean() < 0.002 and world.max() < 0.02
    assert tangent.mean() < 0.002 and tangent.max() < 0.02
    eight = maps["normal"].eight() / 255.0 * 2 - 1
    off = degrees(decoded(jacket, eight / np.linalg.norm(eight, axis=2, keepdims=True), SIZE), truth)[on]
    assert 0.1 < off.mean() < 0.22 and off.max() < 0.6


def test_a_mesh_baked_onto_itself_is_plain_blue() -> None:
    """Its own normals are (0, 0, 1) in its own frames: (128, 128, 255) in every texel, hard edges or none."""
    for quads in (boxed(4, True), hard_by_angle(boxed(4, False), 30)):
        tri = short_diagonals(quads)
        jacket = PolyMesh.from_faces(quads.points, np.asarray(quads.corners[tri]), marks=dict(quads.marks)).with_uv(quads.uv[tri].reshape(-1, 2))
        maps, _ = baked(jacket, jacket, ("normal", "height"), 0.05)
        blue = maps["normal"].eight()[places_on(jacket, SIZE)[0] >= 0]
        assert (np.abs(blue.astype(int) - (128, 128, 255)) <= 1).all() and (blue == (128, 128, 255)).all(axis=1).mean() > 0.9
        assert np.abs(maps["height"].pixels[places_on(jacket, SIZE)[0] >= 0]).max() < 1e-6


def test_height_is_that_of_a_sine() -> None:
    """A sheet that waves by a known height over a flat jacket, in units of the jacket, signed."""
    jacket = mapped_grid(3)
    points, quads = grid(200)
    points[:, 2] = 0.05 * np.sin(np.pi * points[:, 0]) * np.cos(np.pi * points[:, 1])
    maps, sheet = baked(jacket, PolyMesh.from_faces(points, quads), ("height",), 0.1)
    which, place = places_on(jacket, SIZE)
    on = which >= 0
    known = 0.05 * np.sin(np.pi * place[..., 0]) * np.cos(np.pi * place[..., 1])
    assert np.abs(maps["height"].pixels[..., 0] - known)[on].max() < 2e-5
    assert maps["height"].low == pytest.approx(-0.05, rel=1e-2) and maps["height"].high == -maps["height"].low
    assert (sheet.state[on] == HIT).all()


def test_the_nearest_of_both_ways_is_kept_and_faces_that_look_along_count_first() -> None:
    """Two sheets above and one below: the nearer wins although the farther stands in front; a nearer one that is turned
    away gives way to one that looks along, and counts where nothing else is met."""
    jacket = mapped_grid(2)
    points, quads = grid(1)

    def sheets(*heights: float) -> PolyMesh:
        rows = [points + (0, 0, abs(h) * np.sign(h)) for h in heights]
        return PolyMesh.from_faces(np.concatenate(rows), np.concatenate([quads + 4 * k for k in range(len(heights))]))

    def height(source: PolyMesh) -> tuple[float, int]:
        maps, sheet = baked(jacket, source, ("height",), 0.5)
        return float(np.median(maps["height"].pixels[sheet.state > 0])), int(np.median(sheet.state[sheet.state > 0]))

    assert height(sheets(0.3, 0.1)) == (pytest.approx(0.1), HIT)
    assert height(sheets(0.3, -0.2)) == (pytest.approx(-0.2), HIT)
    turned = sheets(0.3, 0.1)
    flipped = PolyMesh.from_faces(turned.points, np.concatenate([np.asarray(turned.corners)[:4].reshape(1, 4), quads[:, ::-1] + 4]))
    assert height(flipped) == (pytest.approx(0.3), HIT)
    away = PolyMesh.from_faces(points + (0, 0, 0.1), quads[:, ::-1])
    assert height(away) == (pytest.approx(0.1), BEHIND)
    assert height(sheets(0.7)) == (pytest.approx(0.0), MISSED)


def test_half_a_ball_on_the_ground_has_a_known_occlusion() -> None:
    """A point of a plane at distance d from the middle of a half ball of radius r on it sees the ball under the form factor
    r² / d² · cos of its middle's height; for the half ball above the horizon: (1/π)(arctan(1/√x) − √x... ) is avoided by
    integrating the cosine over the sky by quadrature here (Howell, Menguc and Siegel, Thermal Radiation Heat Transfer, 2010)."""
    plane, quads = grid(40, 12.0)
    plane = plane[:, [0, 2, 1]] * (1, 1, -1)
    dome = ball(24)
    points = np.concatenate([plane, dome.points])
    faces = [*quads.tolist(), *(np.asarray(dome.triangle_points) + len(plane)).tolist()]
    dense = Dense.of([("both", PolyMesh.from_faces(points, faces))])
    far = np.linalg.norm(plane, axis=1)
    pick = np.flatnonzero((far > 1.3) & (far < 4))
    found, _ = sky_at_points(dense, 256)
    known = 1 - _half_ball_share(far[pick])
    assert np.abs(found[pick] - known).mean() < 0.006


def _half_ball_share(far: np.ndarray, n: int = 400) -> np.ndarray:
    """Share of the cosine-weighted sky that a unit ball whose middle lies on the plane at a distance covers: by midpoints
    over azimuth and the square of the sine."""
    azimuth = (np.arange(n) + 0.5) / n * 2 * np.pi
    square = (np.arange(n) + 0.5) / n
    a, s = np.meshgrid(azimuth, np.sqrt(square))
    along = np.cos(a) * s
    # The ray meets the ball where its way to the middle passes closer than 1.
    return np.array([((along > 0) & (d * d * (1 - along**2) < 1)).mean() for d in far])


def test_the_ground_and_the_reach_limit_the_sky() -> None:
    dense = Dense.of([("ball", ball(10))])
    under = np.argmin(dense.tree.points[:, 1])
    free, bent = sky_at_points(dense, 64)
    assert free.min() > 0.98 and np.abs(bent - dense.normals).max() < 0.3
    grounded, _ = sky_at_points(dense, 64, ground=True)
    assert grounded[under] < 0.05 and grounded[np.argmax(dense.tree.points[:, 1])] > 0.98
    near, _ = sky_at_points(dense, 64, ground=True, reach=1e-6)
    assert near[dense.tree.points[:, 1] > -0.99].min() > 0.98


def test_sources_cover_one_another_unless_each_is_alone() -> None:
    small = ball(8, 0.5)
    dense = Dense.of([("inner", small), ("shell", ball(12))])
    together, _ = sky_at_points(dense, 32)
    alone, _ = sky_at_points(dense, 32, alone=True)
    assert together[: small.n_points].max() < 0.05 and alone[: small.n_points].min() > 0.98


def test_thickness_of_a_ball() -> None:
    """From a point of a unit ball the chord at an angle θ to the inner normal is 2 cos θ; its cosine-weighted mean is 4/3."""
    found = thickness_at_points(Dense.of([("ball", ball(24))]), 128, 4.0)
    assert found.mean() * 4 == pytest.approx(4 / 3, rel=0.02)


@pytest.mark.parametrize(
    ("form", "known"),
    [(ball(24, 2.0), lambda p: np.full(len(p), 0.5)), (tube(0.5, 96, 40), lambda p: np.full(len(p), 1.0)),
     (torus(2.0, 0.5, 160, 64), lambda p: _torus_curvature(p, 2.0, 0.5))],
    ids=["ball", "tube", "torus"],
)  # fmt: skip
def test_mean_curvature_is_that_of_the_formulas(form: PolyMesh, known) -> None:  # type: ignore[no-untyped-def]
    """1/r on a ball, 1/2r on a tube, (R + 2 r cos v) / (2 r (R + r cos v)) on a torus (do Carmo, Differential Geometry of
    Curves and Surfaces, 1976); convex is positive."""
    dense = Dense.of([("form", form)])
    inside = np.abs(form.points[:, 2]) < 1.5
    error = np.abs(curvature_at_points(dense) - known(form.points))[inside]
    assert np.median(error) < 0.03 * known(form.points).max()
    inverted = Dense.of([("form", PolyMesh.from_faces(form.points, np.asarray(form.triangle_points)[:, ::-1]))])
    assert np.allclose(curvature_at_points(inverted), -curvature_at_points(dense), atol=1e-6)


def _torus_curvature(p: np.ndarray, big: float, small: float) -> np.ndarray:
    cos = (np.hypot(p[:, 0], p[:, 1]) - big) / small
    return (big + 2 * small * cos) / (2 * small * (big + small * cos))


def test_gutters_make_the_step_across_seams_vanish() -> None:
    """Where two islands meet along a seam, what bilinear filtering reads on either side agrees (common practice: a step that
    shows is one over about a degree)."""
    jacket, source = boxed(4, False), ball(48)
    steps = {}
    for gutter in (0.0, 1.5):
        maps, _ = baked(jacket, source, ("object",), 0.9, BakeOptions(samples=2), 256, gutter)
        steps[gutter] = _seam_steps(jacket, directions(maps["object"])).mean()
    assert steps[1.5] < 0.35 * steps[0.0] and steps[1.5] < 0.3


def _seam_steps(jacket: PolyMesh, normals: np.ndarray) -> np.ndarray:
    topology, uv, size = jacket.topology, jacket.uv, len(normals)
    a = topology.edge_corner
    b = topology.twin[a]
    ends = np.stack([uv[a], uv[topology.next[a]]], axis=1), np.stack([uv[topology.next[b]], uv[b]], axis=1)
    seam = np.abs(ends[0] - ends[1]).max(axis=(1, 2)) > 1e-9
    along = np.linspace(0.02, 0.98, 25)[None, :, None]
    read = [_bilinear(normals, e[seam][:, :1] * (1 - along) + e[seam][:, 1:] * along, size) for e in ends]
    return degrees(read[0], read[1])


def _bilinear(image: np.ndarray, uv: np.ndarray, size: int) -> np.ndarray:
    x, y = uv[..., 0] * size - 0.5, (1 - uv[..., 1]) * size - 0.5
    i, j = np.floor(x).astype(int), np.floor(y).astype(int)
    fx, fy = (x - i)[..., None], (y - j)[..., None]
    v = (image[j, i] * (1 - fx) + image[j, i + 1] * fx) * (1 - fy) + (image[j + 1, i] * (1 - fx) + image[j + 1, i + 1] * fx) * fy
    return v / np.linalg.norm(v, axis=-1, keepdims=True)


def test_ids_colours_and_opacity_follow_what_is_met() -> None:
    """A source of two halves: material by x, its colours, points coloured, a hole where nothing is met."""
    points, quads = grid(20)
    middle = points[quads].mean(axis=1)
    keep = ~((np.abs(middle[:, 0]) < 0.45) & (np.abs(middle[:, 1]) < 0.45))
    quads, middle = quads[keep], middle[keep]
    looks = (Material("left", (0.9, 0.1, 0.1, 1.0)), Material("right", (0.1, 0.2, 0.9, 1.0)))
    source = PolyMesh.from_faces(points, quads, materials=looks).with_(face_data={"material": (middle[:, 0] > 0).astype(np.int32)})
    jacket = mapped_grid(2)
    maps, sheet = baked(jacket, source, ("id-material", "colour", "opacity"), 0.05)
    which, place = places_on(jacket, SIZE)
    solid = (which >= 0) & (np.abs(place[..., :2]).max(axis=2) > 0.52) & (np.abs(place[..., 0]) > 0.03)
    hole = (which >= 0) & (np.abs(place[..., :2]).max(axis=2) < 0.38)
    table = dict(maps["id-material"].legend)
    ids = maps["id-material"].eight()
    right = place[..., 0] > 0
    assert (ids[solid & right] == table["right"]).all() and (ids[solid & ~right] == table["left"]).all()
    assert np.abs(maps["colour"].eight()[solid & right] - np.rint(np.array(looks[1].colour[:3]) * 255)).max() <= 1
    assert (maps["opacity"].eight()[solid] == 255).all() and (maps["opacity"].eight()[hole] == 0).all()
    assert (sheet.state[hole] == MISSED).all()
    # What no ray met takes the id of what is next to it, so that nothing black bleeds in.
    assert ids[hole].any(axis=1).all()


def test_rays_follow_the_faces_where_that_is_painted() -> None:
    """On a cube averaged ways slant at edges; straightened they stand on the faces."""
    cube = boxed(2, False)
    slanted = cage_ways(cube)
    straight = cage_ways(cube.with_(point_data={STRAIGHT: np.ones(cube.n_points)}))
    from jacket.core.mesh.geometry import face_normals

    facing = face_normals(cube)[cube.face_of_corner]
    assert np.allclose(straight, facing) and np.einsum("ij,ij->i", slanted, facing).min() < 0.8


def test_the_reach_is_found_from_the_gap() -> None:
    """A ball of radius 1.1 around a round jacket of radius 1: half more than .1; bounded on a jacket far too small."""
    jacket = boxed(12, True)
    far = ball(24, 1.1)
    found = found_reach(jacket, Bvh.build(far.points, far.triangle_points))
    assert 0.14 < found < 0.2
    # Of two surfaces the nearer counts at every place, wherever each of them is far.
    halves = [PolyMesh.from_faces(far.points, tri) for tri in np.split(np.asarray(far.triangle_points), 2)]
    both = [Bvh.build(h.points, h.triangle_points) for h in halves]
    assert found_reach(jacket, *both) == pytest.approx(found) and found_reach(jacket, both[0]) > 1.5 * found
    wide = ball(24, 9.0)
    assert found_reach(jacket, Bvh.build(wide.points, wide.triangle_points)) == pytest.approx(0.08 * jacket.diagonal)


def test_spreading_takes_the_nearest_and_ends_where_it_should() -> None:
    """Against SciPy's exact distances (scipy.ndimage.distance_transform_edt)."""
    from scipy.ndimage import distance_transform_edt

    rng = np.random.default_rng(4)
    covered = rng.random((60, 80)) > 0.985
    origin = spread_origin(covered, 6)
    exact = distance_transform_edt(~covered)
    j, i = np.mgrid[:60, :80]
    far = np.hypot(origin // 80 - j, origin % 80 - i)
    assert np.abs(far - exact)[origin >= 0].max() < 0.7 and (exact[origin < 0] > 5.3).all()
    assert (spread_origin(covered, -1) >= 0).all()


def test_id_colours_stay_apart_and_every_map_has_a_ground() -> None:
    table = id_colours(24).astype(int)
    far = np.abs(table[:, None] - table[None]).max(axis=2)[~np.eye(24, dtype=bool)]
    assert far.min() >= 12
    blank = SheetBake.blank(4, 2, tuple(MAPS))
    assert all(blank.pixels[k].shape == (2, 4, MAPS[k].channels) for k in MAPS)


def test_past_a_soft_seam_the_gutter_has_what_lies_there_on_the_form(monkeypatch: pytest.MonkeyPatch) -> None:
    """A ball as six islands: what both sides of a seam read of its normals differs less where the gutter goes on over the seam
    than where each side is carried on as a plane. A cube's hard edges keep what their own side has."""
    dense, sheets = [BakeLayer("ball", ball(40))], (Sheet(width=64, height=64, margin=1.0),)
    settings = BakeSettings(("object",), reach=40.0, options=BakeOptions(samples=2))
    ball_like = boxed(2, True)
    cube_like = boxed(3, False)
    cube_like = cube_like.with_mark(HARD, cube_like.topology.edge_points[dihedral_angles(cube_like) > 45])

    def both() -> tuple[float, np.ndarray]:
        soft = bake([BakeLayer("b", ball_like)], dense, sheets, settings)
        hard = bake([BakeLayer("c", cube_like)], [BakeLayer("cube", boxed(1, False))], sheets, settings).of("object")
        assert hard is not None
        return float(seam_steps(ball_like, soft).mean()), hard.pixels.copy()

    step, hard = both()
    monkeypatch.setattr(cage, "neighbours", lambda points, sides: np.full(len(sides), -1, np.int32))
    plain, same = both()
    assert step < 0.8 * plain
    assert np.array_equal(hard, same)
