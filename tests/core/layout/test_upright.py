"""Islands with straight sides stand along the sheet; the others turn as they like."""

from __future__ import annotations

import numpy as np
import pytest
import shapely

from jacket.core.layout.greedy import turn_matrix
from jacket.core.layout.margins import least_margin
from jacket.core.layout.pack import PackSettings, pack, pack_layers
from jacket.core.layout.pieces import Bonds, Layer, sides_at
from jacket.core.uv.islands import Islands
from jacket.jobs.pack import sheets_of
from tests.core.layout.test_search import circle, flat, lumps


def segments(outline: np.ndarray) -> np.ndarray:
    return np.stack([outline, np.roll(outline, -1, axis=0)], axis=1)


def off_axes(outline: np.ndarray) -> float:
    """Radians between the sheet's sides and the smallest box round an outline, as shapely finds it."""
    corners = np.array(shapely.minimum_rotated_rectangle(shapely.Polygon(outline)).exterior.coords)
    side = np.diff(corners, axis=0)[0]
    return float(abs((np.arctan2(side[1], side[0]) + np.pi / 4) % (np.pi / 2) - np.pi / 4))


BAR, ELL = np.array([[0.0, 0], [4, 0], [4, 1], [0, 1]]), np.array([[0.0, 0], [3, 0], [3, 1], [1, 1], [1, 2.5], [0, 2.5]])
ROUND = np.linspace(-np.pi / 2, np.pi / 2, 13)
SLOT = np.concatenate([[[0.0, 1], [0, -1]], np.stack([3 + np.cos(ROUND), np.sin(ROUND)], axis=1)])
"""A bar with one round end: seven tenths of its border are straight."""


@pytest.mark.parametrize("outline", [BAR, ELL, SLOT])
def test_sides_are_told_as_the_smallest_box_lies(outline: np.ndarray) -> None:
    """The smallest box of a shape with long straight sides lies along them (Freeman and Shapira 1975: along an edge of the hull)."""
    for angle in np.linspace(-0.7, 0.7, 8):
        turned = outline @ turn_matrix(angle).T
        found = sides_at(segments(turned), 0.0)
        assert found is not None and off_axes(turned @ turn_matrix(-found).T) < 1e-9
        # A side in two pieces, one of them bent by two degrees, is still one of the straight ones, and they all count by length.
        assert sides_at(segments(turned)[::-1], 0.0) == pytest.approx(found, abs=1e-12)


def test_round_and_crooked_shapes_have_no_sides() -> None:
    triangle = np.array([[0.0, 0], [1, 0], [0.5, 0.75**0.5]])
    for outline in (circle(), circle(8), circle(6), triangle, *lumps(6, 4)):
        assert sides_at(segments(outline), shapely.Polygon(outline).area) is None


def test_a_box_with_wavering_sides_has_sides() -> None:
    """A rectangle whose sides go in and out by 6° and more all along still fills most of its box; as a ring it does not."""
    along = np.linspace(0, 1, 13)[:-1]
    rim = np.concatenate([np.stack([along, 0 * along], 1), np.stack([1 + 0 * along, along], 1), np.stack([1 - along, 1 + 0 * along], 1), np.stack([0 * along, 1 - along], 1)])
    wave = rim + 0.01 * np.where(np.arange(len(rim)) % 2, 1, -1)[:, None] * np.repeat([[0, 1], [1, 0], [0, 1], [1, 0]], 12, axis=0)
    turned = wave @ turn_matrix(0.4).T
    area = shapely.Polygon(turned).area
    assert sides_at(segments(turned), area) == pytest.approx(0.4, abs=0.02) and sides_at(segments(turned), 0.8 * area) is None


@pytest.mark.parametrize("mirrored", [False, True])
def test_straight_islands_stand_and_the_others_turn(mirrored: bool) -> None:
    crooked = lumps(5, 8)
    straight = [o @ turn_matrix(0.3 + k).T for k, o in enumerate((BAR, ELL, SLOT, BAR * 0.5, ELL * 0.7))]
    mesh = flat(*straight, *crooked)
    sheets = sheets_of(512, margin=3)
    islands = Islands.of(mesh, sheets)
    done = islands.with_uv(pack(islands, PackSettings(mirrored=mirrored, steps=10)).uv)
    laid = [done.places[mesh.starts[f] : mesh.starts[f + 1]] for f in range(mesh.n_faces)]
    assert max(off_axes(o) for o in laid[: len(straight)]) < 1e-7
    assert max(off_axes(o) for o in laid[len(straight) :]) > 1e-3
    assert least_margin(done).pixels >= 3
    # Freely they do not stand, and by quarters they turn from how they lie.
    free = islands.with_uv(pack(islands, PackSettings("free", steps=10)).uv)
    assert max(off_axes(free.places[mesh.starts[f] : mesh.starts[f + 1]]) for f in range(len(straight))) > 1e-3


def test_a_group_with_a_straight_island_stands_by_it() -> None:
    mesh = flat(BAR @ turn_matrix(0.4).T, *lumps(4, 9))
    islands = Islands.of(mesh, sheets_of(512, margin=3))
    bonds = Bonds.none(5)
    bonds.group[:3] = 1
    done = islands.with_uv(pack_layers([Layer(islands, bonds)], PackSettings(steps=6)).uv)
    assert off_axes(done.places[mesh.starts[0] : mesh.starts[1]]) < 1e-7
    assert least_margin(done).pixels >= 3


def test_what_is_longer_than_the_sheet_lies_across_its_corners() -> None:
    """A bar of 20 by 1 alone is largest along the diagonal; beside islands that are large enough it stands."""
    bar = BAR * [5.0, 1.0]
    for others, stands in (([], False), (lumps(8, 3), False), ([6 * o for o in lumps(8, 3)], True)):
        mesh = flat(bar, *others)
        islands = Islands.of(mesh, sheets_of(512, margin=3))
        done = islands.with_uv(pack(islands, PackSettings(steps=3)).uv)
        assert (off_axes(done.places[mesh.starts[0] : mesh.starts[1]]) < 1e-7) == stands
