"""Suggested seams: every part opens, developable forms without warping in the least pieces, limbs by rings."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.spatial import cKDTree

from jacket.core.checks.layout import flatten_checks, seam_checks
from jacket.core.flatten.stretch import measure_stretch
from jacket.core.flatten.unwrap import unwrap
from jacket.core.layout.apart import laid_apart
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.walks import euler_characteristic, face_parts
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.seams import cutting
from jacket.core.seams.cuts import cut_edges, sharp_edges
from jacket.core.seams.hiding import led_hidden
from jacket.core.seams.measure import seam_figures, turning_points
from jacket.core.seams.networks import network_share, sharp_network
from jacket.core.seams.sewing import hinge_share, partner_threads
from jacket.core.seams.sky import open_sky
from jacket.core.seams.suggest import Wishes, opened, suggest_seams
from jacket.core.seams.work import SuggestSettings
from jacket.core.uv.chart import charts_of
from jacket.core.uv.islands import Islands
from jacket.core.uv.sets import cut_flags, island_labels
from jacket.core.uv.sheets import ONE_SHEET
from tests.conftest import cube, grid, icosphere, torus


def box(levels: int = 2) -> PolyMesh:
    mesh = cube()
    for _ in range(levels):
        mesh = split_to_quads(mesh)
    return mesh


def prism(sides: int, along: int = 4, top: float = 1.0) -> PolyMesh:
    """An upright prism (or part of a cone) with n-gons as ends."""
    angle = 2 * np.pi * np.arange(sides) / sides
    rings = [np.stack([(1 + (top - 1) * k / along) * np.cos(angle), np.full(sides, 2.0 * k / along),
                       (1 + (top - 1) * k / along) * np.sin(angle)], axis=1) for k in range(along + 1)]  # fmt: skip
    faces = [[k * sides + (i + 1) % sides, k * sides + i, (k + 1) * sides + i, (k + 1) * sides + (i + 1) % sides]
             for k in range(along) for i in range(sides)]  # fmt: skip
    faces += [list(range(sides)), list(range((along + 1) * sides - 1, along * sides - 1, -1))]
    return PolyMesh.from_faces(np.concatenate(rings), faces)


@pytest.mark.parametrize("make", [
    lambda: box(3), lambda: torus(36, 18), lambda: split_to_quads(icosphere(2)), lambda: icosphere(2),
])  # fmt: skip
def test_suggested_islands_all_open(make) -> None:  # type: ignore[no-untyped-def]
    mesh = suggest_seams(make())
    flat, islands = unwrap(mesh)
    assert islands and all(i.flat and not i.overlaps for i in islands)
    assert not [c for c in seam_checks(flat) + flatten_checks(flat) if c.level == "wrong"]
    # A cut graph leaves disks: Euler characteristic 1 and one border each.
    assert all(euler_characteristic(c.mesh) == 1 and len(c.border) == 1 for c in charts_of(mesh))


@pytest.mark.parametrize(("mesh", "pieces"), [
    (box(2), 1), (prism(6), 1), (prism(5, top=0.6), 1), (prism(48, 8), 3), (prism(48, 8, top=0.5), 3), (grid(6), 1),
])  # fmt: skip
def test_developable_forms_open_without_warping(mesh: PolyMesh, pieces: int) -> None:
    """A box unfolds to a cross and prisms to a strip with both ends hinged on, in one piece where the sheet is no matter; a round can or
    a part of a cone needs its ends apart. Energy 1, since all are developable."""
    cut = suggest_seams(mesh, SuggestSettings(longest=np.inf))
    flat, islands = unwrap(cut)
    assert len(islands) == pieces
    assert measure_stretch(flat, Islands.of(flat).places).dirichlet == pytest.approx(1, abs=1e-6)


def limbs(*tips: list[float]) -> PolyMesh:
    """A ball with three long arms, as quads: points of a ball drawn out towards three places."""
    ball = icosphere(3)
    points = ball.points.copy()
    for tip in tips or ([1, 0, 0], [0, 1, 0], [0, 0, 1]):
        near = np.clip((ball.points @ np.array(tip, float) - 0.9) / 0.1, 0, None)
        points += 14 * near[:, None] ** 0.8 * np.array(tip) * 0.35
    return split_to_quads(ball.with_points(points))


def test_limbs_are_cut_by_rings_and_lines() -> None:
    mesh = limbs()
    told: list[str] = []
    cut = suggest_seams(mesh, watch=lambda kind, points: told.append(kind))
    flat, islands = unwrap(cut)
    figures = seam_figures(mesh, cut_flags(cut), open_sky(mesh))
    assert 2 <= len(islands) <= 6 and all(i.flat and not i.overlaps for i in islands)
    assert "tips" in told and "ring" in told and figures.turns <= 10
    assert measure_stretch(flat, Islands.of(flat).places).dirichlet <= 1.07


def test_where_few_rings_open_nothing_more_are_tried_before_patches(monkeypatch: pytest.MonkeyPatch) -> None:
    """With a wish for one island told to fail, the cuts are those of the usual wish and not the patches, which are many."""
    from jacket.core.seams import suggest

    mesh, way = limbs(), suggest.cut_one_way
    usual = suggest_seams(mesh)

    def failing(work, network, keep):  # type: ignore[no-untyped-def]
        return None if work.settings.most == 1 else way(work, network, keep)

    monkeypatch.setattr(suggest, "cut_one_way", failing)
    assert np.array_equal(suggest_seams(mesh, SuggestSettings(most=1)).cuts, usual.cuts)
    monkeypatch.setattr(suggest, "cut_one_way", lambda work, network, keep: None)
    assert island_labels(suggest_seams(mesh))[0] > island_labels(usual)[0] > 1


def test_cuts_that_are_kept_and_edges_that_are_never_cut() -> None:
    mesh = split_to_quads(icosphere(2))
    plain = cut_flags(suggest_seams(mesh))
    assert plain.any()
    never = plain.copy()
    keep = np.zeros_like(plain)
    keep[mesh.topology.point_edges[1][:1]] = True
    keep &= ~never
    other = cut_flags(suggest_seams(mesh, wishes=Wishes(keep=keep, never=never)))
    assert not (other & never).any() and other[keep].all()
    assert all(i.flat for i in unwrap(mesh.with_cuts(mesh.topology.edge_points[other]))[1])


def test_both_sides_of_a_mirror_are_cut_alike() -> None:
    """An icosphere is symmetric in all three coordinate planes, and so are two arms across one of them and one in it."""
    mesh = limbs([1, 0, 0], [-1, 0, 0], [0, 1, 0])
    cut = suggest_seams(mesh, SuggestSettings(mirror="x"))
    flags = cut_flags(cut)
    middle = mesh.points[mesh.topology.edge_points].mean(axis=1)
    far, mate = cKDTree(middle).query(middle * [-1, 1, 1])
    assert far.max() < 1e-6 and flags.any()
    assert flags[mate[flags]].mean() >= 0.9
    assert all(i.flat and not i.overlaps for i in unwrap(cut)[1])


def test_turns_and_how_much_is_seen() -> None:
    """A staircase across a grid turns at each of its inner points; a way straight on nowhere; on a plane all is seen alike."""
    mesh = grid(6)
    topology = mesh.topology
    stairs = [(0, 1), (1, 8), (8, 9), (9, 16), (16, 17), (17, 24)]
    cut = np.zeros(topology.n_edges, bool)
    cut[[topology.find_edge(*pair) for pair in stairs]] = True
    assert turning_points(mesh, cut).tolist() == [8, 9, 16, 17]
    figures = seam_figures(mesh, cut, open_sky(mesh))
    # The first of them lies on the border, which is open anyway.
    assert figures.turns == pytest.approx(100 * 4 / 5) and figures.seen == pytest.approx(1) and figures.edges == 5
    straight = np.zeros(topology.n_edges, bool)
    straight[[topology.find_edge(k, k + 1) for k in range(21, 27)]] = True
    assert seam_figures(mesh, straight, np.ones(mesh.n_points)).turns == 0


def test_cartons_are_told_from_organic_forms(spot: PolyMesh) -> None:
    assert network_share(box(2), sharp_network(box(2))) == pytest.approx(1)
    assert network_share(spot, sharp_network(spot)) < 0.25
    cut = suggest_seams(box(3))
    assert seam_figures(cut, cut_flags(cut), np.ones(cut.n_points)).sharp == pytest.approx(1)


def test_what_does_not_open_is_cut_as_little_as_it_takes() -> None:
    """A torus with a ring cut round it is a tube: one line more makes a disk. A closed ball needs a line, a plate with a hole
    nothing."""
    ring = torus(36, 18)
    around = [ring.topology.find_edge(k, (k + 1) % 18) for k in range(18)]
    cut, pieces = opened(cut_edges(ring, np.array(around)))
    more = cut_flags(cut)
    more[around] = False
    assert pieces == 1 and charts_of(cut)[0].is_disk
    ends = np.bincount(ring.topology.edge_points[more].ravel())
    assert (ends == 1).sum() == 2 or more.sum() == 36  # one way from border to border
    ball = split_to_quads(icosphere(1))
    assert charts_of(opened(ball)[0])[0].is_disk
    plate = grid(5)
    holed = PolyMesh.from_faces(plate.points, [plate.face(f) for f in range(25) if f != 12])
    assert opened(holed)[1] == 0


def test_seams_are_led_where_they_are_seen_less() -> None:
    """Straight across a grid whose middle rows are in full view: round by the hidden side it costs less, the pieces stay two."""
    mesh = grid(30, 10)
    row = np.array([mesh.topology.find_edge(155 + k, 156 + k) for k in range(30)])
    cut = np.zeros(mesh.topology.n_edges, bool)
    cut[row] = True
    shown = np.where(np.abs(mesh.points[:, 1] - 5) < 1.5, 1.0, 0.0)
    border = mesh.topology.border_points
    led = led_hidden(mesh, cut, row, np.where(border, 0.0, shown))
    # Its ends lie on the border, where they stay; between them it goes through what is hidden.
    assert led.moved == 1 and led.after < 0.5 * led.before and led.longer <= 1.8
    assert island_labels(mesh.with_cuts(mesh.topology.edge_points[led.cut]))[0] == 2
    still = led_hidden(mesh, cut, row, np.ones(mesh.n_points))
    assert still.moved == 0 and (still.cut == cut).all()


def test_threads_join_the_sides_of_each_seam() -> None:
    flat, _ = unwrap(cut_edges(box(1), sharp_edges(box(1), 45)))
    islands = Islands.of(flat.with_uv(laid_apart(Islands.of(flat), ONE_SHEET[0])))
    flat = islands.mesh
    threads = partner_threads(flat, flat.uv, islands.borders)
    # Six faces of a box meet along twelve edges; each joins the middles of its two sides, which lie on two islands.
    assert threads.shape == (12, 2, 2)
    boxes = islands.boxes
    own = [[k for k in range(6) if (boxes[k, :2] - 1e-9 <= p).all() and (p <= boxes[k, 2:] + 1e-9).all()] for p in threads[:, 0]]
    assert all(own)


def test_specks_of_noise_are_no_walls() -> None:
    """A ball whose points were shaken has hundreds of sharp little rings round single faces; a box keeps all its edges."""
    ball = icosphere(4)
    rng = np.random.default_rng(0)
    noisy = ball.with_points(ball.points * (1 + 0.045 * rng.uniform(-1, 1, (ball.n_points, 1))))
    network = sharp_network(noisy)
    count, labels = face_parts(noisy, network)
    assert count <= 100 or np.bincount(labels).min() > 4
    assert sharp_network(box(3)).sum() == 12 * 8


def test_strips_longer_than_the_sheet_are_cut_across() -> None:
    """A slender tube opens into one strip of 2π by 60; its length is told by shapely's smallest rectangle. The sheet is taken to be
    filled to three quarters, *common practice* for what packing reaches."""
    import shapely

    around, along = 24, 120
    angle, height = 2 * np.pi * np.arange(around) / around, np.linspace(0, 60, along + 1)
    points = np.stack([np.tile(np.cos(angle), along + 1), np.repeat(height, around), np.tile(np.sin(angle), along + 1)], axis=1)
    faces = [[k * around + (i + 1) % around, k * around + i, (k + 1) * around + i, (k + 1) * around + (i + 1) % around]
             for k in range(along) for i in range(around)]  # fmt: skip
    tube = PolyMesh.from_faces(points, np.array(faces))
    side = np.sqrt(2 * np.pi * 60 / 0.75)
    for longest, fewest, most in ((np.inf, 1, 1), (SuggestSettings().longest, 3, 4), (0.5, 3, 6)):
        cut = suggest_seams(tube, SuggestSettings(longest=longest))
        flat, islands = unwrap(cut)
        assert fewest <= len(islands) <= most and all(i.flat for i in islands)
        of = Islands.of(flat)
        for k in range(of.count):
            box = shapely.MultiPoint(of.places[of.corner_labels == k]).minimum_rotated_rectangle
            pixels = np.sqrt(of.pixel_area[k] / of.surface_area[k])
            sides = np.linalg.norm(np.diff(np.array(box.exterior.coords), axis=0), axis=1) / pixels
            # What is less than four times as long as wide is no strip.
            wide = float(of.surface_area[k]) / sides.max()
            assert sides.max() <= max(longest * side, 4 * wide) * (1 + 1e-6)


def comb(teeth: int) -> PolyMesh:
    """A bar of cubes with every other one carrying a tooth two cubes high, as the squares of its outside."""
    return outside_of({(x, 0, 0) for x in range(2 * teeth - 1)} | {(2 * k, y, 0) for k in range(teeth) for y in (1, 2)})


def outside_of(cells: set[tuple[int, int, int]]) -> PolyMesh:
    """The squares of the outside of some unit cubes."""
    corners = {
        (1, 0, 0): [(1, 0, 0), (1, 1, 0), (1, 1, 1), (1, 0, 1)], (-1, 0, 0): [(0, 0, 0), (0, 0, 1), (0, 1, 1), (0, 1, 0)],
        (0, 1, 0): [(0, 1, 0), (0, 1, 1), (1, 1, 1), (1, 1, 0)], (0, -1, 0): [(0, 0, 0), (1, 0, 0), (1, 0, 1), (0, 0, 1)],
        (0, 0, 1): [(0, 0, 1), (1, 0, 1), (1, 1, 1), (0, 1, 1)], (0, 0, -1): [(0, 0, 0), (0, 1, 0), (1, 1, 0), (1, 0, 0)],
    }  # fmt: skip
    squares = [np.array(ring) + cell for cell in sorted(cells) for way, ring in corners.items()
               if tuple(np.add(cell, way)) not in cells]  # fmt: skip
    points, where = np.unique(np.concatenate(squares), axis=0, return_inverse=True)
    return PolyMesh.from_faces(points.astype(float), where.reshape(-1, 4))


def test_islands_of_many_walls_are_compact_and_nothing_hangs_on_by_a_short_edge() -> None:
    """Where walls of a comb are sewn, the island fills its hull (as shapely tells) and each seam that was sewn is a fair part of the way
    round; who wants few islands gets fewer of them."""
    import shapely
    from shapely.ops import unary_union

    mesh = comb(4)
    walls = face_parts(mesh, sharp_network(mesh))[1]
    cut = suggest_seams(mesh)
    flat, islands = unwrap(cut)
    labels = island_labels(flat)[1]
    assert all(i.flat and not i.overlaps for i in islands) and 3 < len(islands) < walls.max() + 1
    sewn = 0
    for k in range(len(islands)):
        faces = np.flatnonzero(labels == k)
        drawn = unary_union([shapely.Polygon(flat.uv[flat.starts[f] : flat.starts[f + 1]]).buffer(1e-9) for f in faces])
        if len(np.unique(walls[faces])) > 1:
            sewn += 1
            assert drawn.area >= 0.85 * drawn.convex_hull.area
            # Without its narrowest square nothing falls off: a tail hangs on by one edge.
            assert shapely.get_num_geometries(drawn.buffer(-0.49 * np.sqrt(drawn.area / len(faces)))) == 1
    assert sewn > 2
    assert len(unwrap(suggest_seams(mesh, SuggestSettings(most=4)))[1]) < len(islands)


def test_a_long_bar_that_has_to_be_cut_across_comes_in_compact_islands(monkeypatch: pytest.MonkeyPatch) -> None:
    """A bar of 50 by 8 by 1, open at its ends, has walls too long for its sheet; their pieces, cut each where it suits itself, are not
    folded on into steps: every island fills its hull, as shapely tells."""
    import shapely
    from shapely.ops import unary_union

    # Nothing is cut for the sheet.
    monkeypatch.setattr(cutting, "use_of", lambda mesh, cut, parts: 0.5)
    bar = outside_of({(x, y, 0) for x in range(50) for y in range(8)})
    along = bar.points[bar.as_quads()][:, :, 0]
    bar = PolyMesh.from_faces(bar.points, bar.as_quads()[np.ptp(along, axis=1) > 0])
    flat, islands = unwrap(suggest_seams(bar))
    labels = island_labels(flat)[1]
    assert all(i.flat and not i.overlaps for i in islands) and 2 <= len(islands) <= 10
    for k in range(len(islands)):
        drawn = unary_union([shapely.Polygon(flat.uv[flat.starts[f] : flat.starts[f + 1]]).buffer(1e-9) for f in np.flatnonzero(labels == k)])
        assert drawn.area >= 0.85 * drawn.convex_hull.area


def test_how_much_of_the_way_round_the_smaller_part_a_chain_is() -> None:
    """Of a square of 6 by 6 a column of 6 squares is cut off: 6 of the 14 edges round it, by counting; and nothing is cut along a slit."""
    mesh = grid(6)
    topology = mesh.topology
    ends = mesh.points[topology.edge_points]
    length = np.linalg.norm(ends[:, 1] - ends[:, 0], axis=1)
    line = np.isclose(ends[:, :, 0], mesh.points[:, 0].min() + length.min()).all(axis=1)
    chain = np.flatnonzero(line)
    sides = np.stack([mesh.face_of_corner[topology.edge_corner], mesh.face_of_corner[topology.twin[topology.edge_corner]]], axis=1)
    assert len(chain) == 6
    assert hinge_share(mesh, sides, line, chain, length) == pytest.approx(6 / 14)
    slit = line.copy()
    slit[chain[0]] = False
    assert hinge_share(mesh, sides, slit, chain[1:], length) == 1.0
