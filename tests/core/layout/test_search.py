"""Packing with answers that are known, and what the search promises."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
import shapely
from PIL import Image, ImageDraw

from jacket.core.layout.greedy import turn_matrix
from jacket.core.layout.margins import close_islands, least_margin
from jacket.core.layout.pack import PackSettings, pack, pack_layers
from jacket.core.layout.parting import Lying, Room, best_tried, descend, settled
from jacket.core.layout.pieces import Bonds, Layer
from jacket.core.layout.rooms import CHOICE, Covered, best_places
from jacket.core.layout.search import Found, Team
from jacket.core.layout.shapes import Shape, stock_of
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.islands import Islands, texel_densities
from jacket.core.uv.sheets import Sheet, Sheets
from jacket.errors import MeshError
from jacket.jobs.pack import PackLayer, pack_at_density, sheets_of

# Side lengths of the simple perfect squared square of lowest order, 112 a side (Duijvestijn, "Simple perfect squared
# square of lowest order", J. Combin. Theory B 25, 1978).
SQUARES = (50, 42, 37, 35, 33, 29, 27, 25, 24, 19, 18, 17, 16, 15, 11, 9, 8, 7, 6, 4, 2)
# Radius of n equal circles in a unit square, best known (E. Specht, "The best known packings of equal circles in a
# square"; values as published there, from memory to six digits).
CIRCLES = {5: 0.207107, 10: 0.148205, 16: 0.125}


def flat(*outlines: np.ndarray) -> PolyMesh:
    """Polygons as one face each, mapped beside one another at their own size."""
    points, faces, at = [], [], 0
    for k, outline in enumerate(outlines):
        points.append(np.c_[outline, np.full(len(outline), float(k))])
        faces.append(np.arange(at, at + len(outline)))
        at += len(outline)
    mesh = PolyMesh.from_faces(np.concatenate(points), faces)
    return mesh.with_uv(mesh.points[mesh.corners][:, :2] / 1000)


def square(side: float) -> np.ndarray:
    return side * np.array([[0.0, 0], [1, 0], [1, 1], [0, 1]])


def circle(n: int = 48) -> np.ndarray:
    turn = np.linspace(0, 2 * np.pi, n, endpoint=False)
    return np.stack([np.cos(turn), np.sin(turn)], axis=1)


def forms(islands: Islands) -> list[shapely.Geometry]:
    """Islands of one face each as shapely polygons, in pixels of their sheets far apart."""
    mesh = islands.mesh
    return [shapely.Polygon(islands.places[mesh.starts[f] : mesh.starts[f + 1]]) for f in range(mesh.n_faces)]


def proven(mesh: PolyMesh, uv: np.ndarray, sheets: Sheets) -> float:
    """The least distance that shapely finds between islands; nothing lies outside, and on a raster four times as fine as
    the sheet no cell is touched by two islands."""
    islands = Islands.of(mesh, sheets).with_uv(uv)
    drawn = forms(islands)
    for k, sheet in enumerate(sheets):
        here = [f for f, s in zip(drawn, islands.sheet_of, strict=True) if s == k]
        low = sheet.origin * (1 << 15)
        room = shapely.box(*(low + sheet.rim - 1e-9), *(low + sheet.size - sheet.rim + 1e-9))
        assert all(room.covers(f) for f in here)
    tree = shapely.STRtree(drawn)
    least = np.inf
    for k, form in enumerate(drawn):
        for j in tree.query(form.buffer(64)):
            if j != k:
                least = min(least, form.distance(drawn[j]))
    for k, sheet in enumerate(sheets):
        size = (4 * sheet.width, 4 * sheet.height)
        seen = np.zeros(size[::-1], bool)
        for form, s in zip(drawn, islands.sheet_of, strict=True):
            if s == k and sheet.gap >= 1:
                image = Image.new("1", size)
                at = (np.array(form.exterior.coords) - sheet.origin * (1 << 15)) * 4
                # Drawn with its outline three cells wide, so no cell that it touches is left out.
                ImageDraw.Draw(image).polygon([tuple(p) for p in at.tolist()], fill=1, outline=1, width=3)
                mine = np.asarray(image)
                assert not (mine & seen).any()
                seen |= mine
    return float(least)


def test_equal_squares_fill_the_sheet_but_for_the_margins() -> None:
    """Nine equal squares: the side is (sheet − 2 edge − 2 margin) / 3 exactly."""
    mesh = flat(*[square(1.0)] * 9)
    sheets = (Sheet(width=256, height=256, margin=4.0),)
    done = pack(Islands.of(mesh, sheets), PackSettings("quarter", steps=60))
    assert done.density == pytest.approx((256 - 2 * 4 - 2 * 4) / 3, rel=1e-4)
    assert proven(mesh, done.uv, sheets) == pytest.approx(4.0, abs=1e-3)


def test_the_perfect_square_comes_near_its_exact_scale() -> None:
    """Twenty-one squares that tile a square of 112: more than nine tenths of the exact scale are reached, none is overstepped."""
    mesh = flat(*[square(float(s)) for s in SQUARES])
    sheets = (Sheet(width=1024, height=1024, margin=0.5, edge=0.5),)
    done = pack(Islands.of(mesh, sheets), PackSettings("quarter", steps=90))
    exact = 1024 / 112
    assert 0.9 * exact < done.density < exact
    assert proven(mesh, done.uv, sheets) >= 0.5 - 1e-9


@pytest.mark.parametrize("count", sorted(CIRCLES))
def test_equal_circles_come_near_the_best_known_packings(count: int) -> None:
    mesh = flat(*[circle()] * count)
    sheets = (Sheet(width=512, height=512, margin=0.0),)
    done = pack(Islands.of(mesh, sheets), PackSettings(steps=60))
    best = CIRCLES[count]
    assert 0.85 * (512 * best) ** 2 < done.density**2 <= (512 * best / np.cos(np.pi / 48)) ** 2
    proven(mesh, done.uv, sheets)


def lumps(count: int, seed: int) -> list[np.ndarray]:
    rng = np.random.default_rng(seed)
    out = []
    for _ in range(count):
        turn = np.sort(rng.uniform(0, 2 * np.pi, 14))
        r = rng.uniform(0.35, 1.0, 14) * rng.uniform(0.5, 2.0)
        out.append(np.stack([r * np.cos(turn), r * np.sin(turn)], axis=1))
    return out


def test_the_margin_is_met_and_not_exceeded_and_a_search_beats_the_first_layout() -> None:
    mesh = flat(*lumps(12, 1))
    for size, margin in ((1024, 4.0), (300, 7.5)):
        sheets = (Sheet(width=size, height=size, margin=margin),)
        islands = Islands.of(mesh, sheets)
        first, done = pack(islands, PackSettings(steps=0)), pack(islands, PackSettings(steps=12))
        assert done.use > first.use * 1.02 and proven(mesh, first.uv, sheets) >= margin - 1e-9
        assert margin <= proven(mesh, done.uv, sheets) < margin + 0.5
        # One density for all, the one that is told.
        density = texel_densities(islands.with_uv(done.uv))
        assert density == pytest.approx(done.density, rel=1e-9)


def test_the_same_input_seed_and_steps_give_the_same_result_to_the_bit() -> None:
    mesh = flat(*lumps(9, 2))
    islands = Islands.of(mesh, sheets_of(512, margin=4))
    one, two = (pack(islands, PackSettings(steps=6, seed=3)).uv for _ in range(2))
    assert np.array_equal(one, two)
    assert not np.array_equal(one, pack(islands, PackSettings(steps=6, seed=4)).uv)


def test_quarter_and_none_turn_so_only_and_mirroring_is_asked_for() -> None:
    mesh = flat(*lumps(8, 3))
    islands = Islands.of(mesh, sheets_of(512, margin=3))
    for turn, mirrored in (("none", False), ("quarter", False), ("quarter", True), ("free", True)):
        done = islands.with_uv(pack(islands, PackSettings(turn, mirrored, steps=8)).uv)
        for f in range(mesh.n_faces):
            a, b = (i.places[mesh.starts[f] : mesh.starts[f + 1]] @ [1, 1j] for i in (islands, done))
            plain = (b[1] - b[0]) / (a[1] - a[0])
            over = (b[1] - b[0]) / np.conj(a[1] - a[0])
            flipped = abs((b[2] - b[1]) - plain * (a[2] - a[1])) > 1e-6 * abs(b[2] - b[1])
            assert mirrored or not flipped
            angle = np.angle(over if flipped else plain)
            if turn != "free":
                step = np.pi / 2 if turn == "quarter" else 2 * np.pi
                assert abs((angle + step / 2) % step - step / 2) < 1e-7


def test_watching_shows_ever_better_layouts_and_ends_when_it_is_good_enough() -> None:
    islands = Islands.of(flat(*lumps(10, 4)), sheets_of(512, margin=3))
    uses: list[float] = []

    def watch(glimpse) -> bool:
        uses.append(glimpse.use)
        assert np.isfinite(glimpse.uvs()[0]).all()
        return len(uses) < 3

    done = pack_layers([Layer(islands, Bonds.none(islands.count))], PackSettings(steps=500), watch=watch)
    assert len(uses) == 3 and uses == sorted(uses) and done.steps < 500
    assert done.use > 0.98 * uses[-1] and least_margin(islands.with_uv(done.uv)).pixels >= 3


# ---- bonds ---------------------------------------------------------------------------------------------------------


def test_stacks_move_as_one_groups_stay_together_weights_are_kept_and_locks_too() -> None:
    mesh = flat(*lumps(10, 5))
    sheets = sheets_of(512, margin=3)
    islands = Islands.of(mesh, sheets)
    bonds = Bonds.none(10)
    bonds.weigh[2] = 2.0
    bonds.group[[3, 4, 5]] = 0
    locked = islands.with_uv(islands.uv * 0.02 + 0.5)
    bonds.locked[9] = True
    done = pack_layers([Layer(locked, bonds)], PackSettings(steps=8))
    out = locked.with_uv(done.uv)
    own = out.corner_labels == 9
    assert np.array_equal(done.uv[own], locked.uv[own])
    density = np.array([np.sqrt(f.area / a) for f, a in zip(forms(out), islands.surface_area, strict=True)])
    assert density[2] / density[0] == pytest.approx(2.0) and density[1] == pytest.approx(density[0])
    drawn = forms(out)
    # The group hangs together: grown by a few margins its islands are one piece.
    assert shapely.union_all([drawn[k].buffer(12) for k in (3, 4, 5)]).geom_type == "Polygon"
    assert len(close_islands(out)) == 0
    # A stack: the second lies on the first as before.
    stacked = Islands.of(flat(*[square(1.0)] * 2, *lumps(4, 6)), sheets)
    stack = Bonds.none(6)
    stack.stack[[0, 1]] = 7
    uv = pack_layers([Layer(stacked, stack)], PackSettings(steps=6)).uv
    assert np.abs(uv[:4] - uv[4:8]).max() < 1e-12
    assert len(close_islands(stacked.with_uv(uv), stack.stack)) == 0


def test_islands_are_laid_in_the_holes_of_others() -> None:
    """A frame that fills nearly the whole sheet, and four tiles that only fit inside it."""
    outer, inner = square(10.0) - 5, (square(8.0) - 4)[::-1]
    ring = [np.array([outer[k], outer[(k + 1) % 4], inner[3 - (k + 1) % 4], inner[3 - k]]) for k in range(4)]
    at = {tuple(p): n for n, p in enumerate(np.concatenate([outer, inner]).tolist())}
    faces = [[at[tuple(p)] for p in quad.tolist()] for quad in ring]
    points = np.c_[np.array(list(at)), np.zeros(8)]
    tiles = [square(2.4) + [20 + 3 * k, 0] for k in range(4)]
    whole = np.concatenate([points, *[np.c_[t, np.full(4, 1.0)] for t in tiles]])
    mesh = PolyMesh.from_faces(whole, [*faces, *[list(range(8 + 4 * k, 12 + 4 * k)) for k in range(4)]])
    mesh = mesh.with_uv(mesh.points[mesh.corners][:, :2] / 100)
    islands = Islands.of(mesh, sheets_of(512, margin=4))
    done = pack(islands, PackSettings("quarter", steps=10))
    assert done.density > 0.97 * (512 - 8) / 10
    assert least_margin(islands.with_uv(done.uv)).pixels >= 4


def test_a_density_is_kept_on_as_many_sheets_as_it_takes() -> None:
    mesh = flat(*lumps(12, 7))
    total = float(Islands.of(mesh).surface_area.sum())
    density = np.sqrt(2.6 * 256 * 256 / total)
    done = pack_at_density([PackLayer(mesh)], Sheet(width=256, height=256, margin=3.0), PackSettings(steps=10, density=density))
    assert len(done.sheets) >= 3 and [s.tile for s in done.sheets] == [1001 + k for k in range(len(done.sheets))]
    assert done.result.density == pytest.approx(density, rel=1e-9) and min(done.result.uses) > 0
    assert proven(mesh, done.result.uv, done.sheets) >= 3 - 1e-9
    with pytest.raises(MeshError, match="do not fit, at"):
        pack(Islands.of(mesh, sheets_of(256, margin=3)), PackSettings(steps=5, density=density))
    with pytest.raises(MeshError, match="too large"):
        pack_at_density([PackLayer(mesh)], Sheet(width=64, height=64, margin=3.0), PackSettings(steps=2, density=1.2 * density))
    with pytest.raises(MeshError, match="more than 0"):
        pack(Islands.of(mesh), PackSettings(density=0.0))


def test_several_layers_share_a_sheet_that_is_not_square_and_a_margin_counts_at_its_mip_level() -> None:
    one, two = flat(*lumps(5, 8)), flat(*lumps(4, 9))
    sheets = sheets_of(512, 256, margin=1.5, mip=2, edge=1.0)
    assert sheets[0].gap == 6.0 and sheets[0].rim == 4.0
    layers = [Islands.of(m, sheets) for m in (one, two)]
    done = pack_layers([Layer(i, Bonds.none(i.count)) for i in layers], PackSettings(steps=8))
    drawn = [f for i, uv in zip(layers, done.uvs, strict=True) for f in forms(i.with_uv(uv))]
    least = min(a.distance(b) for k, a in enumerate(drawn) for b in drawn[k + 1 :])
    assert 6.0 <= least < 6.5 and all(shapely.box(4, 4, 508, 252).covers(f) for f in drawn)
    assert done.uses[0] == pytest.approx(sum(f.area for f in drawn) / (512 * 256))


def test_one_island_is_packed_as_large_as_it_goes_and_then_nothing_more_is_tried() -> None:
    """A thin strip fits into a square largest along the diagonal; however many steps there may be, the search ends."""
    long = flat(np.array([[0.0, 0], [1, 0], [0, 0.02]]))
    sheets = sheets_of(512, margin=4)
    done = pack(Islands.of(long, sheets), PackSettings(steps=10**9))
    laid = Islands.of(long, sheets).with_uv(done.uv)
    corners = laid.places
    length = np.linalg.norm(corners[1] - corners[0])
    # The margin is left at both ends.
    assert 0.96 * np.sqrt(2) * 504 < length < np.sqrt(2) * 504 and done.steps < 200


def test_what_shapes_cover_is_kept_by_shape_and_summed_up_by_weight() -> None:
    """Against depths by shapely: a disc and a square on two sheets, moved, turned, grown and shrunk in between. A depth is that of the nearest node
    of a field, half a diagonal of its cells away at most."""
    disc, plate = 30 * circle(), square(40.0) - 20
    shapes = [Shape.of(np.stack([p, np.roll(p, -1, axis=0)], axis=1), 1.0, 2.0, 0.5, 10.0) for p in (disc, plate, disc)]
    room = Room(np.array([[128.0, 96], [96, 96]]), np.array([4.0, 4.0]), np.array([2.0, 2.0]))
    covered = Covered(stock_of(shapes), room, 4.0)
    lying = Lying(np.array([[40.0, 40], [80, 50], [50, 50]]), np.array([0.0, 0.3, 0.0]), np.ones(3), np.array([0, 0, 1]))
    weights, size = np.array([1.0, 2.5, 1.0]), np.ones(3)
    for change in (0, 1, 2, 3):
        if change == 1:
            lying.middle[1], lying.turn[1], lying.sheet[2] = [70.0, 30.0], 1.1, 0
        if change == 2:
            size = np.array([1.4, 1.4, 1.0])
        if change == 3:
            size = np.array([1.1, 1.2, 1.0])
        for sheet, high, wide in ((0, 24, 32), (1, 24, 24)):
            found = covered.over(2, sheet, weights, size, lying)
            row, column = np.mgrid[:high, :wide]
            middle = shapely.points(4.0 * column + 2, 4.0 * row + 2)
            expected = np.zeros((high, wide))
            for k, outline in enumerate((disc, plate)):
                if lying.sheet[k] == sheet:
                    turned = outline * size[k] @ turn_matrix(lying.turn[k]).T + lying.middle[k]
                    form = shapely.Polygon(turned)
                    depth = np.where(shapely.contains(form, middle), shapely.distance(form.exterior, middle), -shapely.distance(form, middle))
                    expected += weights[k] * np.maximum(depth + 4.0, 0.0)
            assert found.shape == (high, wide) and (np.abs(found - expected) <= 0.25 + np.sqrt(0.5) * 0.5 * size.max() * weights[:2].max()).all()


@pytest.mark.parametrize("seed", range(3))
def test_runs_of_a_border_that_lie_far_are_passed_over_without_a_difference(seed: int) -> None:
    """The energy of shapes that lie too close, against SciPy's interpolation of their fields at every place of their borders."""
    from scipy.ndimage import map_coordinates

    random = np.random.default_rng(seed)
    star = np.stack([np.cos(t := np.arange(20) * np.pi / 10), np.sin(t)], axis=1) * np.where(np.arange(20) % 2, 12.0, 34.0)[:, None]
    shapes = [Shape.of(np.stack([p, np.roll(p, -1, axis=0)], axis=1), 1.0, 1.0, 0.5, 10.0) for p in (30 * circle(), square(40.0) - 20, star)]
    size, room = random.uniform(0.7, 1.3, 3), Room(np.array([[400.0, 400]]), np.array([4.0]), np.array([0.0]))
    lying = Lying(random.uniform(180, 220, (3, 2)), random.uniform(0, 6, 3), np.array([1.0, -1, 1]), np.zeros(3, np.int64))
    pairs = np.array([[0, 1], [0, 2], [1, 2]])
    energy, worst, share, _ = descend(pairs, np.ones(3), np.ones(3, bool), np.ones(3, bool), size, lying, stock_of(shapes), room, 0, 0.1)

    def world(k: int) -> np.ndarray:
        return (shapes[k].border * [lying.flip[k], 1] * size[k]) @ turn_matrix(lying.turn[k]).T + lying.middle[k]

    deepest = 0.0
    for (i, j), told in zip(pairs.tolist(), share, strict=True):
        total = 0.0
        for a, b in ((i, j), (j, i)):
            own = ((world(a) - lying.middle[b]) @ turn_matrix(lying.turn[b])) / size[b] * [lying.flip[b], 1]
            cells = (own - shapes[b].low) / shapes[b].cell
            far = map_coordinates(shapes[b].field.astype(float), cells.T[::-1], order=1, cval=1e3) * size[b]
            miss = np.maximum(4.0 - far, 0.0)
            deepest = max(deepest, float(miss.max()))
            total += float((shapes[a].weight * size[a] * miss**2).sum())
        assert told == pytest.approx(total, rel=1e-4)
    assert energy == pytest.approx(share.sum()) and worst == pytest.approx(deepest, abs=1e-3) and worst > 5


@pytest.mark.parametrize(("seed", "step"), [(0, 1), (1, 2), (2, 3), (3, 2)])
def test_the_cheapest_turnings_are_those_of_trying_every_place(seed: int, step: int) -> None:
    """A triangle on a map of random costs, against all places and turnings summed up by NumPy."""
    random = np.random.default_rng(seed)
    covered = random.uniform(0.1, 3.0, (40, 50)).astype(np.float32)
    border = np.array([[-20.0, -12.0], [24.0, -10.0], [2.0, 26.0]])
    probed = random.dirichlet([1, 1, 1], 40) @ border
    turns, flips, cell, shift = np.arange(16) * np.pi / 8, np.where(np.arange(16) % 3, 1.0, -1.0), 4.0, 0.3
    found = best_places(covered, cell, probed, border, turns, flips, 2.0, 200.0, 160.0, step, shift, np.inf)
    least = []
    for turn, flip in zip(turns, flips, strict=True):
        shape, inner = ((p * [flip, 1]) @ turn_matrix(turn).T for p in (border, probed))
        ways = []
        for low, high in zip(2.0 - shape.min(axis=0), [200.0, 160.0] - shape.max(axis=0) - 2.0, strict=True):
            between = np.arange(low + shift * step * cell, high, step * cell)
            ways.append(np.concatenate([[low], between, [high]]))
        x, y = (grid.ravel() for grid in np.meshgrid(*ways))
        column, row = ((at[:, None] + inner[:, k]) // cell for k, at in enumerate((x, y)))
        least.append(float(covered[row.astype(int), column.astype(int)].sum(axis=1).min()))
    cheapest = np.argsort(least)[:CHOICE]
    assert found[cheapest, 0] == pytest.approx(np.array(least)[cheapest], rel=1e-4)
    # What is told of the others is a place of theirs too, or nothing.
    told = np.isfinite(found[:, 0])
    assert (found[told, 0] >= np.array(least)[told] - 1e-3).all() and set(cheapest.tolist()) <= set(np.flatnonzero(told).tolist())


def test_a_shape_is_put_where_settling_costs_least() -> None:
    """Of places on another disc, over the edge of the sheet and in the open, with its own on a third; what each would cost is told
    by settling there alone."""
    disc = 40 * circle()
    shape = Shape.of(np.stack([disc, np.roll(disc, -1, axis=0)], axis=1), 1.0, 2.0, 1.0, 10.0)
    stock, room = stock_of([shape] * 3), Room(np.array([[400.0, 300]]), np.array([4.0]), np.array([2.0]))
    start = Lying(np.array([[60.0, 60], [150, 60], [70, 66]]), np.zeros(3), np.ones(3), np.zeros(3, np.int64))
    last, places = np.array([False, False, True]), np.array([[0, 150, 62, 0.1, 1.0], [0, 395, 150, 0.2, 1.0], [0, 300, 200, 0.3, -1.0], [0, 62, 60, 0, 1.0]])
    rest = (np.zeros((0, 0)), np.ones(3, bool), np.ones(3))
    costs = []
    for place in places:
        lying = start.copied()
        lying.middle[2], lying.turn[2], lying.flip[2] = place[1:3], place[3], place[4]
        costs.append(settled(last, *rest, lying, stock, room, 1, 0.1, 24.0)[0])
    assert int(np.argmin(costs)) == 2 and costs[2] == 0 and min(costs[:2]) > 0
    lying = start.copied()
    best_tried(2, places, *rest, lying, stock, room, 1, 0.1, 24.0)
    assert lying.middle[2].tolist() == [300, 200] and (lying.turn[2], lying.flip[2]) == (0.3, -1.0)
    assert np.array_equal(lying.middle[:2], start.middle[:2])
    # Where it lies well it stays.
    again = lying.copied()
    best_tried(2, places[:2], *rest, again, stock, room, 1, 0.1, 24.0)
    assert np.array_equal(again.middle, lying.middle) and np.array_equal(again.turn, lying.turn)


def test_searches_tell_one_another_only_after_the_rounds_they_have_alone() -> None:
    class Told:
        """A search whose best grows by its pace with each step, and which notes what it was told."""

        def __init__(self, pace: float) -> None:
            self.pace, self.step, self.told = pace, 0, list[int]()
            self._best = Found(Lying(*(np.zeros((0, 2)), *(np.zeros(0) for _ in range(3)))), 1.0)

        @property
        def best(self) -> Found:
            return self._best

        @best.setter
        def best(self, found: Found) -> None:
            self.told.append(self.step)
            self._best = found

        def steps(self):  # type: ignore[no-untyped-def]
            for self.step in range(1, 13):
                self._best = replace(self._best, scale=self._best.scale + self.pace)
                yield self._best

    quick, slow = Told(0.2), Told(0.1)
    seen = [found.scale for found in Team([quick, slow], 2, alone=3).steps()]  # type: ignore[list-item]
    assert slow.told == [8, 10, 12] and quick.told == [], "after three rounds of two steps each alone"
    assert np.allclose(seen, 1.0 + 0.2 * np.arange(2, 13, 2))
    assert np.isclose(slow.best.scale, quick.best.scale)
