"""Mending, placing, symmetry and refitting, against libigl, closed formulas and brute force."""

from __future__ import annotations

import igl
import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from jacket.core.fit.refit import refit
from jacket.core.mesh.edits import faces_turned
from jacket.core.mesh.geometry import face_centres, volume
from jacket.core.mesh.pieces import split_off
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.source import mend, placing
from jacket.core.source.crossings import crossing_pairs
from jacket.core.source.denoise import noise_smoothed
from jacket.core.source.health import examine, nonmanifold_points, spikes
from jacket.core.source.holes import find_holes, holes_closed
from jacket.core.source.rebuild import put_together
from jacket.core.source.reduce import reduced
from jacket.core.source.symmetry import Plane, axis_plane, difference, find_plane, plane_to_x
from jacket.core.space.bvh import Bvh
from jacket.errors import MeshError
from tests.conftest import cube, grid, icosphere, torus


def triangles(mesh: PolyMesh) -> PolyMesh:
    return PolyMesh.from_faces(mesh.points, mesh.triangle_points)


def joined(*meshes: PolyMesh) -> PolyMesh:
    """Several meshes as one, their points apart."""
    offsets = np.cumsum([0] + [m.n_points for m in meshes])
    return PolyMesh.from_faces(
        np.concatenate([m.points for m in meshes]),
        np.concatenate([m.triangle_points + o for m, o in zip(meshes, offsets, strict=False)]),
    )


def cap_removed(height: float, level: int = 4) -> PolyMesh:
    ball = icosphere(level)
    tri = ball.triangle_points
    return put_together(ball, np.flatnonzero(~(ball.points[tri][:, :, 2] > height).all(axis=1)))


# ---- counting ----------------------------------------------------------------------------------------


@pytest.mark.parametrize("seed", range(6))
def test_counts_agree_with_libigl_on_spoilt_meshes(seed: int, spot: PolyMesh) -> None:
    """Faces left out, doubled, turned over and joined at points, at random; more meshes in bench/health.py."""
    rng = np.random.default_rng(seed)
    base = (spot, triangles(torus(40, 25)), icosphere(3))[seed % 3]
    tri = base.triangle_points[rng.random(base.n_faces) > 0.04 * (seed + 1)]
    if seed % 2:
        tri = np.concatenate([tri, tri[:3, ::-1]])
    mesh = PolyMesh.from_faces(base.points, tri)
    health, faces = examine(mesh), tri.astype(np.int64)
    result = igl.is_edge_manifold(faces)
    manifold = result[0] if isinstance(result, tuple) else bool(result)
    assert (health.nonmanifold_edges == 0) == manifold
    assert health.euler == len(np.unique(faces)) - len(igl.edges(faces)) + len(faces)
    assert health.area == pytest.approx(igl.doublearea(base.points, faces).sum() / 2)
    if manifold:
        used = np.unique(faces)
        tied = ~np.asarray(igl.is_vertex_manifold(faces)).ravel()
        assert set(nonmanifold_points(mesh).tolist()) == set(used[tied[used]].tolist())
        if not tied[used].any():
            assert health.borders == len(igl.boundary_loop_all(faces))
    labels = igl.facet_components(faces)
    assert health.parts == len(np.unique(labels[1] if isinstance(labels, tuple) else labels))


def test_faces_that_lose_a_corner_count_as_without_area_and_for_nothing_else() -> None:
    ball = icosphere(2)
    spoilt = PolyMesh.from_faces(ball.points, np.concatenate([ball.triangle_points, [[5, 5, 9], [7, 7, 7]]]))
    health = examine(spoilt)
    assert health.degenerate_faces == 2 and health.euler == 2 and health.nonmanifold_edges == health.borders == 0


# ---- holes -------------------------------------------------------------------------------------------


@pytest.mark.parametrize("height", [0.97, 0.9, 0.7, 0.5])
def test_a_removed_cap_comes_back_as_a_sphere(height: float) -> None:
    """Watertight after, every point of the fill within 2 % of the radius (common practice, no source)."""
    holed = cap_removed(height)
    done = holes_closed(holed, 100.0)
    radius = np.linalg.norm(done.comes.reshape(-1, 3), axis=1)
    assert np.abs(radius - 1).max() < 0.02
    health = examine(done.mesh)
    assert health.sound and health.euler == 2 and health.volume == pytest.approx(4 / 3 * np.pi, rel=0.01)
    assert np.array_equal(done.mesh.points[: holed.n_points], holed.points)


def test_only_holes_up_to_the_wanted_length_are_closed() -> None:
    ball = icosphere(4)
    z = ball.points[ball.triangle_points][:, :, 2]
    holed = PolyMesh.from_faces(ball.points, ball.triangle_points[~((z > 0.95).all(axis=1) | (z < -0.5).all(axis=1))])
    lengths = [h.perimeter for h in find_holes(holed)]
    assert len(lengths) == 2 and lengths == sorted(lengths)
    done = holes_closed(holed, lengths[0] * 1.01)
    assert "1 hole closed" in done.said and "1 larger stay" in done.said
    assert examine(done.mesh).borders == 1
    assert "that small" in holes_closed(holed, lengths[0] * 0.5).said
    with pytest.raises(MeshError, match="more than nought"):
        holes_closed(holed, 0)


def test_holes_keep_what_the_mesh_carries() -> None:
    holed = cap_removed(0.9)
    colours = np.tile(np.array([[200, 10, 10, 255]], np.uint8), (holed.n_points, 1))
    holed = holed.with_(
        point_data={"colour": colours}, face_data={"group": np.zeros(holed.n_faces, np.int32)}, groups=("a",)
    )
    closed = holes_closed(holed, 10).mesh
    assert (closed.point_data["colour"][:, 0] == 200).all() and len(closed.point_data["colour"]) == closed.n_points
    assert closed.face_data["group"].min() == -1 and (closed.face_data["group"] == 0).sum() == holed.n_faces


def test_a_long_ragged_border_closes_without_doubling() -> None:
    """A border of over 260 points, with tips of single triangles, closes to a manifold surface (libigl agrees)."""
    ball = icosphere(6)
    rng = np.random.default_rng(4)
    z = ball.points[ball.triangle_points].mean(axis=1)[:, 2]
    ragged = PolyMesh.from_faces(ball.points, ball.triangle_points[z + rng.normal(0, 0.004, len(z)) < 0.2])
    ragged = mend.nonmanifold_split(mend.parts_kept(ragged, 1).mesh).mesh
    assert max(len(h.points) for h in find_holes(ragged)) > 260
    done = holes_closed(ragged, 1e9).mesh
    health = examine(done)
    tri = done.triangle_points.astype(np.int64)
    assert health.borders == 0 and igl.is_edge_manifold(tri)[0] and health.duplicate_faces == 0


# ---- parts, repeats, welding -------------------------------------------------------------------------


def test_the_largest_parts_stay() -> None:
    parts = [icosphere(3), PolyMesh.from_faces(icosphere(1).points + 3, icosphere(1).triangle_points),
             PolyMesh.from_faces(cube().points - 3, cube().triangle_points)]  # fmt: skip
    several = joined(*parts)
    assert examine(several).parts == 3 and examine(several).part_faces == (1280, 80, 12)
    done = mend.parts_kept(several, 2)
    assert examine(done.mesh).part_faces == (1280, 80) and len(done.goes) == 12
    assert mend.parts_kept(several, 9).nothing
    rest = mend.faces_dropped(several, np.arange(1280))
    assert examine(rest.mesh).part_faces == (80, 12)
    with pytest.raises(MeshError, match="Nothing would be left"):
        mend.faces_dropped(several, np.arange(several.n_faces))


def test_repeats_and_faces_without_area_go_and_no_slit_opens() -> None:
    ball = icosphere(3)
    tri = ball.triangle_points.tolist()
    a, b, c = tri[7]
    # A point in the middle of a side, with the flat sliver that a careless cut leaves there.
    points = np.concatenate([ball.points, [(ball.points[a] + ball.points[b]) / 2]])
    m = len(points) - 1
    spoilt = PolyMesh.from_faces(
        points, [t for k, t in enumerate(tri) if k != 7] + [[a, m, c], [m, b, c], [a, b, m]] + tri[20:23]
    )
    before = examine(spoilt)
    assert before.degenerate_faces == 1 and before.duplicate_faces == 3
    done = mend.repeats_dropped(spoilt)
    after = examine(done.mesh)
    assert after.degenerate_faces == after.duplicate_faces == after.borders == after.nonmanifold_edges == 0
    assert after.sound and after.volume == pytest.approx(examine(ball).volume, rel=1e-12)
    assert mend.repeats_dropped(ball).nothing


def test_welding_closes_cracks_within_the_distance() -> None:
    ball = icosphere(3)
    soup = PolyMesh.from_faces(ball.points[ball.corners], np.arange(ball.n_corners).reshape(-1, 3))
    rng = np.random.default_rng(0)
    cracked = soup.with_points(soup.points + rng.uniform(-1e-4, 1e-4, soup.points.shape))
    assert examine(cracked).parts == 1280
    done = mend.points_welded(cracked, 1e-3)
    health = examine(done.mesh)
    assert health.sound and health.points == ball.n_points and health.faces == 1280
    assert mend.points_welded(soup, 0.0).mesh.n_points == ball.n_points
    with pytest.raises(MeshError):
        mend.points_welded(ball, -1.0)


# ---- winding and manifoldness ------------------------------------------------------------------------


def test_winding_is_made_even_and_outward() -> None:
    """Afterwards libigl's own orientation finds nothing to turn, and volumes are those of closed formulas."""
    ball, box = triangles(icosphere(3)), triangles(cube())
    box = box.with_points(box.points + 4)
    mixed = joined(ball, box)
    rng = np.random.default_rng(2)
    flip = rng.random(mixed.n_faces) < 0.4
    spoilt = faces_turned(mixed, flip)
    assert examine(spoilt).winding_edges > 100
    done = mend.turned_outward(spoilt)
    assert examine(done.mesh).winding_edges == examine(done.mesh).inside_out_parts == 0
    assert np.array_equal(np.sort(done.mesh.triangle_points, axis=1), np.sort(mixed.triangle_points, axis=1))
    oriented, patches = igl.bfs_orient(done.mesh.triangle_points.astype(np.int64))
    assert len(np.unique(patches)) == 2
    assert volume(done.mesh) == pytest.approx(volume(mixed), rel=1e-12)
    inside_out = faces_turned(mixed, np.arange(mixed.n_faces) < ball.n_faces)
    assert examine(inside_out).inside_out_parts == 1 and examine(inside_out).winding_edges == 0
    assert volume(mend.turned_outward(inside_out).mesh) == pytest.approx(volume(mixed), rel=1e-12)
    assert mend.turned_outward(mixed).nothing and len(oriented) == mixed.n_faces


@pytest.mark.parametrize(("height", "inside"), [(-0.7, True), (-0.2, False)])
def test_what_is_open_at_a_small_cut_has_an_inside_too(height: float, inside: bool) -> None:
    """A unit ball cut off flat: the opening over the area left is (1 - h^2) / (2 - 2 h), the cap's area 2 pi h (Archimedes): .15 and .40."""
    ball = triangles(icosphere(4))
    cut = split_off(ball, np.flatnonzero(face_centres(ball)[:, 1] > height))[1]
    over = joined(cut, ball.with_points(ball.points + 40))
    wrong = faces_turned(over, np.arange(over.n_faces) < cut.n_faces)
    assert examine(over).inside_out_parts == 0 and examine(wrong).inside_out_parts == inside
    done = mend.turned_outward(wrong)
    assert done.nothing != inside and np.array_equal(done.mesh.triangle_points, (over if inside else wrong).triangle_points)


def test_uvs_turn_with_their_faces() -> None:
    flat = grid(2).with_uv(np.random.default_rng(0).random((16, 2)))
    turned = faces_turned(flat, np.array([True, False, False, True]))
    assert np.array_equal(turned.corners[:4], flat.corners[3::-1]) and np.array_equal(turned.uv[:4], flat.uv[3::-1])


def test_nonmanifold_edges_and_points_come_apart() -> None:
    leaves = PolyMesh.from_faces(
        [[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, -1, 0], [0, 0, 1]], [[0, 1, 2], [1, 0, 3], [0, 1, 4]]
    )
    tie = PolyMesh.from_faces([[0, 0, 0], [1, 0, 0], [0, 1, 0], [-1, 0, 0], [0, -1, 0]], [[0, 1, 2], [0, 3, 4]])
    assert examine(leaves).nonmanifold_edges == 1 and nonmanifold_points(tie).tolist() == [0]
    for mesh in (leaves, tie):
        tri = mend.nonmanifold_split(mesh).mesh.triangle_points.astype(np.int64)
        assert igl.is_edge_manifold(tri)[0] and np.all(igl.is_vertex_manifold(tri))
    assert mend.nonmanifold_split(icosphere(2)).nothing
    box = cube()
    touching = joined(box, box.with_points(box.points + np.ptp(box.points, axis=0) * [1, 1, 0]))
    done = mend.nonmanifold_split(touching).mesh
    assert examine(touching).nonmanifold_edges == 1 and examine(done).borders == 0 and done.n_points == 16


# ---- noise and reducing ------------------------------------------------------------------------------


def test_smoothing_takes_noise_and_keeps_a_box_sharp() -> None:
    points, tri = cube().points - 0.5, cube().triangle_points
    from jacket.core.quads.base import _halved_edges

    for _ in range(4):
        points, tri = _halved_edges(points, tri)
    rng = np.random.default_rng(1)
    noisy = PolyMesh.from_faces(points + rng.normal(0, 0.004, points.shape), tri)
    done = noise_smoothed(noisy, 8, 50.0).mesh

    def rough(mesh: PolyMesh) -> float:
        """Root mean square distance to the true box's surface."""
        q = np.abs(mesh.points) - 0.5
        outside = np.linalg.norm(np.maximum(q, 0), axis=1) + np.minimum(q.max(axis=1), 0)
        return float(np.sqrt((outside**2).mean()))

    assert rough(done) < 0.4 * rough(noisy)
    corner = np.linalg.norm(np.abs(done.points) - 0.5, axis=1).min()
    assert corner < 0.01 and volume(done) == pytest.approx(1.0, rel=0.01)
    with pytest.raises(MeshError):
        noise_smoothed(noisy, 0, 50)


def test_reducing_keeps_every_border_edge() -> None:
    holed = cap_removed(0.6)
    done = reduced(holed, 1500)
    light = done.mesh
    assert 1400 <= light.n_faces <= 1530 and examine(light).borders == 1

    def rim(mesh: PolyMesh) -> set:
        ends = mesh.points[mesh.topology.edge_points[mesh.topology.border_edges]].round(12)
        return {frozenset(map(tuple, e)) for e in ends.tolist()}

    assert rim(light) == rim(holed)
    assert reduced(holed, 10**6).nothing


# ---- placing -----------------------------------------------------------------------------------------


def test_axes_units_and_measures() -> None:
    box = triangles(cube()).with_points(cube().points * [1, 2, 3])
    for axis in placing.UP_AXES:
        matrix = placing.up_axis_turn(axis)
        direction = np.zeros(3)
        direction["xyz".index(axis[-1])] = -1 if axis[0] == "-" else 1
        assert np.allclose(matrix[:3, :3] @ direction, [0, 1, 0]) and np.linalg.det(matrix) == pytest.approx(1)
        assert set(np.abs(matrix).ravel()) <= {0.0, 1.0}  # quarter turns are exact
    assert placing.unit_scaling("inches")[0, 0] == 0.0254
    assert placing.measured_scaling(box.points[0], box.points[1], 5.0)[1, 1] == pytest.approx(5.0)
    stood = placing.placed(box, placing.centring(box) @ placing.standing(box))
    assert stood.points[:, 1].min() == 0 and np.allclose(stood.points[:, [0, 2]].mean(axis=0), 0)
    for bad in (0.0, -1.0, np.nan):
        with pytest.raises(MeshError):
            placing.scaling(bad)
    with pytest.raises(MeshError):
        placing.unit_scaling("cubits")
    mirrored = placing.placed(box, np.diag([-1.0, 1, 1, 1]))
    assert volume(mirrored) == pytest.approx(volume(box))


@pytest.mark.parametrize("seed", range(5))
def test_upright_by_three_points_and_by_the_flat_foot(seed: int) -> None:
    """A turned half ball stands on its disk again (turns by SciPy's Rotation)."""
    half = icosphere(4)
    points = half.points.copy()
    points[:, 1] = np.maximum(points[:, 1], -0.1)  # pressed flat at y = −0.1
    turn = Rotation.random(random_state=seed).as_matrix()
    lying = PolyMesh.from_faces(points @ turn.T + 3, half.triangle_points)
    ground = np.array([[0.5, -0.1, 0], [-0.4, -0.1, 0.3], [0, -0.1, -0.5]]) @ turn.T + 3
    for matrix in (placing.upright_by_points(lying, ground), placing.upright_by_flat(lying)):
        up = matrix[:3, :3] @ turn @ np.array([0, 1.0, 0])
        assert np.allclose(up, [0, 1, 0], atol=1e-6)
        assert placing.moved(lying.points, matrix)[:, 1].min() == pytest.approx(0, abs=1e-6)
    with pytest.raises(MeshError, match="one line"):
        placing.upright_by_points(lying, np.array([[0, 0, 0], [1, 1, 1], [2, 2, 2.0]]))


def test_of_many_points_one_a_cell_finds_the_same_foot() -> None:
    """The disk of a half ball is π r² of the 3 π r² of its hull."""
    half = icosphere(7)
    points = half.points * np.where(half.points[:, 1:2] < 0, [1.0, 0.0, 1.0], 1.0)
    assert len(points) > placing.MANY
    direction, share = placing.largest_flat(points)
    assert np.allclose(direction, [0, -1, 0], atol=1e-9) and share == pytest.approx(1 / 3, abs=0.02)


def test_a_ball_has_no_flat_part() -> None:
    with pytest.raises(MeshError, match="no flat part"):
        placing.upright_by_flat(icosphere(5))


# ---- symmetry ----------------------------------------------------------------------------------------


@pytest.mark.parametrize("seed", range(4))
def test_the_mirror_plane_of_spot_is_found_wherever_it_stands(seed: int, spot: PolyMesh) -> None:
    turn = Rotation.random(random_state=seed).as_matrix()
    stray = spot.with_points(spot.points @ turn.T + [1.0, -2.0, 0.5])
    plane = find_plane(stray, Bvh.build(stray.points, stray.triangle_points))
    assert np.degrees(np.arccos(min(1, abs(plane.normal @ turn[:, 0])))) < 0.5  # spot is symmetric about its x
    assert plane.mean < 0.2
    back = placing.moved(stray.points, plane_to_x(plane))
    assert difference(stray.with_points(back), Bvh.build(back, stray.triangle_points), axis_plane("x")).mean() < 0.2


def test_the_difference_is_the_distance_of_the_mirrored_point() -> None:
    """A ball whose middle lies a tenth off the plane: mirrored points lie |2 · 0.1 · n| off, at most 0.2."""
    ball = icosphere(5)
    away = ball.with_points(ball.points + [0.1, 0, 0])
    far = difference(away, Bvh.build(away.points, away.triangle_points), axis_plane("x"))
    mirrored = Plane(np.array([1.0, 0, 0]), 0.0).mirrored(away.points)
    exact = np.abs(np.linalg.norm(mirrored - [0.1, 0, 0], axis=1) - 1) / away.diagonal * 100
    assert np.abs(far - exact).max() < 0.05 and exact.max() == pytest.approx(0.2 / away.diagonal * 100, rel=0.01)


# ---- self-intersections and spikes ---------------------------------------------------------------------


def test_crossings_against_brute_force() -> None:
    """Two balls through each other, and a crumpled sheet: pairs as every edge against every triangle gives them
    (Möller and Trumbore 1997)."""
    ball = icosphere(2)
    two = joined(ball, ball.with_points(ball.points + [0.7, 0.2, 0.1]))
    sheet = triangles(grid(9))
    rng = np.random.default_rng(3)
    crumpled = sheet.with_points(sheet.points + rng.normal(0, 1.2, sheet.points.shape))
    for mesh in (two, crumpled):
        found = crossing_pairs(Bvh.build(mesh.points, mesh.triangle_points))
        assert len(found) > 20 and set(map(tuple, found.tolist())) == _brute(mesh)
    assert len(crossing_pairs(Bvh.build(ball.points, ball.triangle_points))) == 0


def _brute(mesh: PolyMesh) -> set:
    tri, out = mesh.triangle_points, set()
    corner = mesh.points[tri]
    for s in range(len(tri)):
        for k in range(3):
            p, q = corner[s, k], corner[s, (k + 1) % 3]
            ends = {int(tri[s, k]), int(tri[s, (k + 1) % 3])}
            e1, e2, d = corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0], q - p
            h = np.cross(d, e2)
            det = (e1 * h).sum(axis=1)
            with np.errstate(all="ignore"):
                f = p - corner[:, 0]
                u = (f * h).sum(axis=1) / det
                g = np.cross(f, e1)
                v, t = (g @ d) / det, (g * e2).sum(axis=1) / det
            u, v, t = np.nan_to_num(u, nan=-1), np.nan_to_num(v, nan=-1), np.nan_to_num(t, nan=-1)
            for o in np.flatnonzero((u > 0) & (v > 0) & (u + v < 1) & (t > 0) & (t < 1)).tolist():
                if not ends & set(tri[o].tolist()) and len(set(tri[s].tolist()) & set(tri[o].tolist())) < 2:
                    out.add((min(s, o), max(s, o)))
    return out


def test_a_needle_is_a_spike_and_a_cone_of_forty_degrees_is_not() -> None:
    """The angles round the tip of a cone of opening 2a add up to 2π sin a."""
    for opening, wanted in ((15.0, 1), (40.0, 0)):
        k = np.arange(64) * 2 * np.pi / 64
        rim = np.stack([np.cos(k), 0 * k, np.sin(k)], axis=1) * np.tan(np.radians(opening / 2))
        cone = PolyMesh.from_faces(np.concatenate([rim, [[0, 1, 0]]]), [[(i + 1) % 64, i, 64] for i in range(64)])
        assert len(spikes(cone)) == wanted


# ---- refitting ---------------------------------------------------------------------------------------


def test_a_jacket_keeps_its_quads_and_follows_the_new_source() -> None:
    """A torus is stretched: points lie on the new surface where the stretch takes them; quads, UVs and seams stay."""
    old, jacket = torus(160, 80), torus(32, 16)
    uv = np.random.default_rng(0).random((jacket.n_corners, 2))
    jacket = jacket.with_uv(uv).with_cuts(jacket.topology.edge_points[:20])

    stretch = [1.15, 1.05, 1.2]
    source = triangles(old.with_points(old.points * stretch))
    surface = Bvh.build(source.points, source.triangle_points)
    done = refit(jacket, surface, source.diagonal, Bvh.build(old.points, old.triangle_points))
    assert np.array_equal(done.mesh.corners, jacket.corners) and np.array_equal(done.mesh.uv, uv)
    assert np.array_equal(done.mesh.cuts, jacket.cuts)
    far, *_ = igl.point_mesh_squared_distance(done.mesh.points, source.points, source.triangle_points.astype(np.int64))
    assert np.sqrt(far.max()) < 1e-9 * source.diagonal and len(done.poor) == 0
    assert done.moved.max() > 2 and examine(done.mesh).sound is examine(jacket).sound
    assert np.abs(done.mesh.points - jacket.points * stretch).max() < 0.02


def test_a_local_change_moves_only_its_place(spot: PolyMesh) -> None:
    """Spot's head swells by a third: points far from it stay, those on it go with it."""
    centre, reach = spot.points[np.argmax(spot.points[:, 2])], 0.5
    far = np.linalg.norm(spot.points - centre, axis=1)
    swell = 1 + 0.33 * np.clip(1 - far / reach, 0, 1)[:, None] ** 2
    wanted = centre + (spot.points - centre) * swell
    source = spot.with_points(wanted)
    done = refit(
        spot, Bvh.build(wanted, spot.triangle_points), source.diagonal, Bvh.build(spot.points, spot.triangle_points)
    )
    moved, drift = np.linalg.norm(wanted - spot.points, axis=1), np.linalg.norm(done.mesh.points - wanted, axis=1)
    assert drift[far > 1.5 * reach].max() < 0.01 and drift.mean() < 0.35 * moved[far < reach].mean()
    assert len(done.poor) < 0.01 * spot.n_points


def test_what_cannot_be_refitted_is_listed() -> None:
    """Half of the source is gone: points over the part that is missing end up on its rim and are named."""
    ball, jacket = icosphere(4), icosphere(2)
    half = PolyMesh.from_faces(
        ball.points, ball.triangle_points[ball.points[ball.triangle_points].mean(axis=1)[:, 0] < 0.2]
    )
    done = refit(
        jacket,
        Bvh.build(half.points, half.triangle_points),
        ball.diagonal,
        Bvh.build(ball.points, ball.triangle_points),
    )
    lost = np.flatnonzero(jacket.points[:, 0] > 0.6)
    assert np.isin(lost, done.poor).mean() > 0.9 and len(done.poor) < 0.6 * jacket.n_points
    same = refit(jacket, Bvh.build(ball.points, ball.triangle_points), ball.diagonal)
    assert len(same.poor) == 0
    with pytest.raises(MeshError):
        refit(PolyMesh.empty(), Bvh.build(ball.points, ball.triangle_points), 1.0)


def test_lifted_points_keep_their_distance() -> None:
    ball, jacket = icosphere(4), icosphere(2)
    lifted = jacket.points.copy()
    lifted[5] *= 1.2
    big = ball.with_points(ball.points * 1.1)
    done = refit(
        jacket.with_points(lifted),
        Bvh.build(big.points, big.triangle_points),
        big.diagonal,
        Bvh.build(ball.points, ball.triangle_points),
    )
    radius = np.linalg.norm(done.mesh.points, axis=1)
    assert radius[5] == pytest.approx(1.3, abs=0.03) and np.abs(np.delete(radius, 5) - 1.1).max() < 0.02


def test_reducing_a_thin_tube_never_pinches_it() -> None:
    """The link condition (Dey, Edelsbrunner, Guha and Nekhayev, "Topology preserving edge contraction", 1999): down to as
    few triangles as can be, an open tube keeps its two borders and is manifold."""
    n, m = 3, 60
    u = np.arange(n) * 2 * np.pi / n
    points = np.array([[0.05 * np.cos(a), 0.05 * np.sin(a), z] for z in np.linspace(0, 1, m) for a in u])
    quads = [[i * n + j, i * n + (j + 1) % n, (i + 1) * n + (j + 1) % n, (i + 1) * n + j] for i in range(m - 1) for j in range(n)]
    tube = PolyMesh.from_faces(points, quads)
    for wanted in (60, 20, 6, 4):
        few = reduced(tube, wanted).mesh
        assert len(few.topology.nonmanifold_edges) == 0 and len(few.topology.border_loops) == 2
        assert igl.euler_characteristic(few.triangle_points.astype(np.int64)) == 0


def test_of_points_in_one_place_the_first_keeps_what_hangs_on_it() -> None:
    two = put_together(cube(), np.arange(6))
    doubled = PolyMesh.from_faces(np.concatenate([two.points, two.points]), np.concatenate([two.corners.reshape(-1, 4), two.corners.reshape(-1, 4)[:1] + 8]),
                                  point_data={"colour": np.arange(64, dtype=np.uint8).reshape(16, 4)})  # fmt: skip
    joined_mesh = mend.points_joined(doubled)
    assert joined_mesh.n_points == 8 and np.array_equal(joined_mesh.point_data["colour"], np.arange(32).reshape(8, 4))
