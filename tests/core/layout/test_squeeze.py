"""Shapes moved apart and squeezed exactly, against shapely."""

from __future__ import annotations

import numpy as np
import pytest
import shapely

from jacket.core.layout.greedy import Greedy, Lay
from jacket.core.layout.parting import Lying, Room, close_pairs, descend
from jacket.core.layout.search import SMALLER, Freedom, Search
from jacket.core.layout.shapes import Shape, border_places, chained, signed_distances, stock_of
from jacket.core.layout.squeeze import Outlines, Squeeze


def closed(points: np.ndarray) -> np.ndarray:
    """(S, 2, 2) segments of a closed line."""
    return np.stack([points, np.roll(points, -1, axis=0)], axis=1)


def star(radius: float, points: int = 5, depth: float = 0.5) -> np.ndarray:
    angle = np.linspace(0, 2 * np.pi, 2 * points, endpoint=False)
    r = radius * np.where(np.arange(2 * points) % 2, depth, 1.0)
    return closed(np.stack([r * np.cos(angle), r * np.sin(angle)], axis=1))


def ring(outer: float, inner: float) -> np.ndarray:
    """A square with a square hole."""
    square = np.array([[-1.0, -1], [1, -1], [1, 1], [-1, 1]])
    return np.concatenate([closed(outer * square), closed(inner * square[::-1])])


def polygon(segments: np.ndarray) -> shapely.Geometry:
    return shapely.polygonize(list(shapely.linestrings(segments))).geoms[0] if len(segments) else shapely.Polygon()


def drawn(outlines: Outlines, lying: Lying, scale: np.ndarray) -> list[shapely.Geometry]:
    laid = outlines.laid(lying, scale)
    return [polygon(laid[a:b]) for a, b in zip(outlines.start[:-1], outlines.start[1:], strict=True)]


@pytest.mark.parametrize("shape", [star(40), ring(30, 12), star(25, 3, 0.3)])
def test_signed_distances_are_shapelys(shape: np.ndarray) -> None:
    low = shape.min(axis=(0, 1)) - 6
    width, height = (np.ptp(shape.reshape(-1, 2), axis=0) + 12).astype(int) + 1
    field = signed_distances(shape, low, 1.0, int(width), int(height))
    lines = shapely.union_all(shapely.linestrings(shape))
    body = shapely.Polygon(shape[:, 0]) if len(shape) != 8 else shapely.Polygon(shape[:4, 0], [shape[4:, 0]])
    places = np.stack(np.meshgrid(np.arange(width), np.arange(height)), axis=-1) + low
    far = shapely.distance(lines, shapely.points(places))
    theirs = np.where(shapely.contains(body, shapely.points(places)), -far, far)
    near = np.abs(theirs) < 1.9
    assert np.abs(field - theirs)[near].max() < 1e-4
    # Further away a node of the band stands for the border.
    assert np.abs(field - theirs).max() < 1.2 and (np.sign(field) == np.sign(theirs))[np.abs(theirs) > 1e-6].all()


def test_border_places_follow_the_border_and_stand_for_its_length() -> None:
    shape = star(50, 7)
    shuffled = np.random.default_rng(1).permutation(shape)
    again = chained(shuffled)
    assert np.array_equal(again[:-1, 1], again[1:, 0]) and np.array_equal(again[-1, 1], again[0, 0])
    for spacing in (3.0, 100.0):
        places, weight = border_places(again, spacing)
        line = shapely.linearrings(again[:, 0])
        assert shapely.distance(line, shapely.points(places)).max() < 1e-9
        assert weight.sum() == pytest.approx(line.length)
    # Corners are among them, however few places are wanted.
    assert len(border_places(again, 100.0)[0]) == 14


def test_overlapping_shapes_come_apart() -> None:
    """What the descent calls parted is parted for shapely, within what the field leaves out."""
    rng = np.random.default_rng(3)
    segments = [star(rng.uniform(20, 40), int(rng.integers(3, 7)), 0.6) for _ in range(8)]
    shapes = [Shape.of(s, 1.0, 2.0, 1.0, 10.0) for s in segments]
    room = Room(np.array([[256.0, 256]]), np.array([3.0]), np.array([2.0]))
    lying = Lying(np.array([[60.0 + 68 * (k % 3), 60 + 68 * (k // 3)] for k in range(8)]) + rng.uniform(-6, 6, (8, 2)), rng.uniform(0, 6, 8), np.ones(8), np.zeros(8, np.int64))
    active, size = np.ones(8, bool), np.ones(8)
    stock = stock_of(shapes)
    for _ in range(30):
        pairs = close_pairs(active, size, lying, stock, room, 30.0)
        _, worst, _, _ = descend(pairs, np.ones(len(pairs)), active, np.ones(len(active), bool), size, lying, stock, room, 60, 0.05)
        if worst <= 0.05:
            break
    assert worst <= 0.05
    forms = drawn(Outlines.of([s.segments for s in shapes]), lying, size)
    assert min(a.distance(b) for k, a in enumerate(forms) for b in forms[k + 1 :]) > 3.0 - 0.6
    assert all(shapely.box(1.5, 1.5, 254.5, 254.5).contains(f) for f in forms)


def test_the_squeeze_ends_exactly_at_the_margin_and_nothing_grows_further() -> None:
    """Four squares on a square sheet: the greatest scale is known, (side − 2 edge − margin) / 2 of each."""
    square = closed(np.array([[-50.0, -50], [50, -50], [50, 50], [-50, 50]]))
    outlines = Outlines.of([square] * 4)
    room = Room(np.array([[256.0, 256]]), np.array([6.0]), np.array([4.0]))
    middle = np.array([[66.0, 64], [190, 66], [63, 189], [188, 192]])
    lying = Lying(middle, np.array([0.02, -0.01, 0.03, 0.0]), np.ones(4), np.zeros(4, np.int64))
    done = Squeeze(outlines, room, np.zeros(4, bool), np.ones(4, bool)).enlarged(lying, 0.95)
    assert done is not None
    assert done[1] == pytest.approx((256 - 2 * 4 - 6) / 2 / 100, rel=2e-4)
    forms = drawn(outlines, done[0], np.full(4, done[1]))
    least = min(a.distance(b) for k, a in enumerate(forms) for b in forms[k + 1 :])
    assert 6.0 <= least < 6.001 and all(shapely.box(4, 4, 252, 252).contains(f) for f in forms)


def test_a_shape_grows_in_the_hole_of_another_and_fixed_ones_stay() -> None:
    outlines = Outlines.of([ring(100, 60), star(40, 8, 0.9)])
    room = Room(np.array([[256.0, 256]]), np.array([5.0]), np.array([2.0]))
    lying = Lying(np.array([[128.0, 128], [120, 133]]), np.zeros(2), np.ones(2), np.zeros(2, np.int64))
    done = Squeeze(outlines, room, np.array([True, False]), np.ones(2, bool)).enlarged(lying, 1.0)
    assert done is not None and np.array_equal(done[0].middle[0], [128, 128])
    hole = shapely.box(68, 68, 188, 188)
    inner = drawn(outlines, done[0], np.array([1.0, done[1]]))[1]
    assert hole.contains(inner) and 5.0 <= inner.distance(hole.exterior) < 5.001
    assert done[1] > 1.3


def test_what_settling_tells_holds_of_where_shapes_have_come_to_lie() -> None:
    """Two discs that overlap by half throw each other apart, one of them onto a third that was out of reach at first: it is
    looked at too before anything is told."""
    disc = closed(60 * np.stack([np.cos(np.linspace(0, 2 * np.pi, 24, endpoint=False)), np.sin(np.linspace(0, 2 * np.pi, 24, endpoint=False))], axis=1))
    room = Room(np.array([[512.0, 256]]), np.array([3.0]), np.array([2.0]))
    lying = Lying(np.array([[70.0, 128], [130, 128], [281, 128]]), np.zeros(3), np.ones(3), np.zeros(3, np.int64))
    stock = stock_of([Shape.of(disc, 1.0, 2.0, 1.0, 10.0)] * 3)
    search = Search(stock, room, Freedom(np.zeros(3, int)), lying, 1.0, np.zeros(3, bool))
    told = search.settle(lying, 1.0, np.ones(3, bool), 60)[1]
    assert told == pytest.approx(search.settle(lying, 1.0, np.ones(3, bool), 0)[1], abs=1e-9)


@pytest.mark.parametrize("until", [np.inf, 0.0])
def test_what_lies_too_close_in_a_slot_is_led_out_of_it_in_small_steps(until: float) -> None:
    """No short step has the margin, nor does shrinking help: the slot's walls come nearer with the shape whose slot it is. With no time
    left nothing grows."""
    jaw = np.array([[-60.0, -50], [60, -50], [60, -28], [-20, -20], [-20, 20], [60, 28], [60, 50], [-60, 50]])
    # Beside walls that part by a tenth of the way; a margin of 4 across them lacks 0.3 on either side.
    reach = 4 * np.sqrt(1.01) - 0.3
    bit = np.array([[-10, -21 + reach], [30, -25 + reach], [30, 25 - reach], [-10, 21 - reach]])
    outlines = Outlines.of([closed(jaw), closed(bit - [10, 0])])
    room = Room(np.array([[256.0, 256]]), np.array([4.0]), np.array([4.0]))
    lying = Lying(np.array([[128.0, 128], [138, 128]]), np.zeros(2), np.ones(2), np.zeros(2, np.int64))
    forms = drawn(outlines, lying, np.ones(2))
    assert forms[0].distance(forms[1]) == pytest.approx(4 - 0.3 / np.sqrt(1.01), abs=1e-6)
    done = Squeeze(outlines, room, np.zeros(2, bool), np.zeros(2, bool)).enlarged(lying, 1.0, trust=0.4, rounds=60, until=until)
    assert done is not None
    forms = drawn(outlines, done[0], np.full(2, done[1]))
    assert forms[0].distance(forms[1]) >= 4.0 and done[0].middle[1, 0] - done[0].middle[0, 0] > 10.5
    assert done[1] > 1.0 if until > 0 else done[1] <= 1.0


def test_a_layout_closer_than_is_allowed_is_parted_first() -> None:
    """Laid by the middles of cells, lumps lie denser than with the margin kept, and closer by less than two cells; a search parts them
    at nearly that size, by shapely's distances."""
    rng = np.random.default_rng(3)
    turns = np.sort(rng.uniform(0, 2 * np.pi, (70, 12)), axis=1)
    outlines = [closed(np.stack([np.cos(t), np.sin(t)], axis=1) * rng.uniform(0.4, 1, (12, 1)) * rng.uniform(15, 40)) for t in turns]
    areas = np.array([polygon(o).area for o in outlines])
    side, margin = np.array([512.0, 512]), 4.0
    plain, close = (Greedy(outlines, areas, side, margin, margin, [8] * len(outlines), close=c) for c in (False, True))
    first, ahead = plain.best(), close.best()
    assert first is not None and ahead is not None and ahead.scale > 1.02 * first.scale

    def lying(lay: Lay) -> Lying:
        return Lying(lay.middle.copy(), lay.turn.copy(), np.ones(70), np.zeros(70, np.int64))

    def least(lying: Lying, scale: float) -> float:
        drawn_ = drawn(Outlines.of(outlines), lying, np.full(70, scale))
        return min(a.distance(b) for k, a in enumerate(drawn_) for b in drawn_[k + 1 :])

    assert least(lying(first), first.scale) >= margin
    assert margin - 2 * close.cell < least(lying(ahead), ahead.scale) < margin
    shapes = [Shape.of(o, a, 2.0, 1.0, 10.0) for o, a in zip(outlines, areas, strict=True)]
    room = Room(side[None], np.array([margin]), np.array([margin]))
    search = Search(stock_of(shapes), room, Freedom(np.zeros(70, int)), lying(first), first.scale, np.zeros(70, bool))
    search.ahead = lying(ahead), ahead.scale
    found = next(f for f, _ in zip(search.steps(), range(12), strict=False) if f.scale > first.scale)
    smaller = np.log(found.scale / ahead.scale) / np.log(SMALLER)
    assert smaller == pytest.approx(round(smaller), abs=1e-6) and smaller < 6
    assert least(found.lying, found.scale) > margin - 0.6
