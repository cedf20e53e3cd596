"""Sheets: tiles by the UDIM convention, non-square ones, several at once."""

from __future__ import annotations

import io

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as some
from PIL import Image
from shapely.geometry import Polygon
from shapely.ops import unary_union

from jacket.core.flatten.stretch import measure_stretch
from jacket.core.layout.margins import least_margin
from jacket.core.layout.pack import PackSettings
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.seams.cuts import cut_edges
from jacket.core.uv.islands import Islands, texel_densities
from jacket.core.uv.sheets import Sheet, checked_sheets, free_tile, from_pixel_places, pixel_places, sheet_at
from jacket.errors import MeshError
from jacket.formats.deliver.picture import layout_png
from jacket.jobs.pack import pack, sheets_of
from jacket.jobs.unwrap import unwrap
from tests.conftest import cube


def box(sheets) -> PolyMesh:  # type: ignore[no-untyped-def]
    mesh = split_to_quads(split_to_quads(cube()))
    ends = mesh.points[mesh.topology.edge_points]
    # Edges of the box: both ends on two of its sides at once.
    sides = ((ends == 0) | (ends == 1)).all(axis=1).sum(axis=1)
    return unwrap(cut_edges(mesh, np.flatnonzero(sides == 2)), sheets=sheets).mesh


def test_tiles_follow_the_udim_convention() -> None:
    """Tile = 1001 + u + 10 v, u in 0..9 (common practice; OpenUSD's UDIM rules for asset paths say the same)."""
    for tile, origin in ((1001, (0, 0)), (1002, (1, 0)), (1010, (9, 0)), (1011, (0, 1)), (1101, (0, 10))):
        assert Sheet(tile=tile).origin.tolist() == list(origin)
    assert free_tile((Sheet(tile=1001), Sheet("b", tile=1003))) == 1002
    sheets = (Sheet(), Sheet("b", 1012))
    places = np.array([[0.5, 0.5], [1.2, 1.9], [1.2, 0.9], [np.nan, 0]])
    assert sheet_at(sheets, places).tolist() == [0, 1, -1, -1]


@settings(max_examples=40, deadline=None)
@given(
    some.integers(16, 4096), some.integers(16, 4096), some.integers(1001, 1100), some.floats(0, 1), some.floats(0, 1)
)
def test_pixel_places_go_there_and_back(width: int, height: int, tile: int, u: float, v: float) -> None:
    sheets = (Sheet("x", tile, width, height),)
    uv = np.array([[u, v]]) + sheets[0].origin
    which = np.zeros(1, np.int32)
    assert np.allclose(from_pixel_places(pixel_places(uv, which, sheets), which, sheets), uv, atol=1e-9)
    assert np.allclose(sheets[0].pixels(uv), [[u * width, v * height]], atol=1e-6)


@pytest.mark.parametrize(
    ("sheets", "words"),
    [
        ((), "no sheet"),
        ((Sheet(width=8),), "8 pixels"),
        ((Sheet(margin=400.0),), "margin of 400"),
        ((Sheet(tile=7),), "Tile 7"),
        ((Sheet("a"), Sheet("b")), "tile 1001"),
        ((Sheet("a"), Sheet("a", 1002)), "called a"),
    ],
)
def test_sheets_that_make_no_sense_are_refused(sheets, words: str) -> None:  # type: ignore[no-untyped-def]
    with pytest.raises(MeshError, match=words):
        checked_sheets(sheets)


@pytest.mark.parametrize(("width", "height", "count"), [(1024, 512, 1), (512, 2048, 1), (256, 256, 3)])
def test_packing_is_true_to_shape_apart_and_inside(width: int, height: int, count: int) -> None:
    """On sheets that are not square and on several at once; overlaps and insides by shapely."""
    sheets = sheets_of(width, height, 6.0, count)
    done = pack(box(sheets), sheets, PackSettings(turn="quarter", spread=count > 1))
    islands = Islands.of(done.mesh, sheets)
    assert (islands.sheet_of >= 0).all() and measure_stretch(done.mesh, islands.places).dirichlet == pytest.approx(1)
    density = texel_densities(islands)
    assert density.max() / density.min() < 1.001
    shapes = []
    for k in range(islands.count):
        faces = islands.faces(k)
        sheet = sheets[int(islands.sheet_of[k])]
        at = sheet.pixels(done.mesh.uv)
        shape = unary_union([Polygon(at[done.mesh.starts[f] : done.mesh.starts[f + 1]]) for f in faces.tolist()])
        low_x, low_y, high_x, high_y = shape.bounds
        assert low_x >= 6 - 1e-6 and low_y >= 6 - 1e-6 and high_x <= width - 6 + 1e-6 and high_y <= height - 6 + 1e-6
        shapes.append((int(islands.sheet_of[k]), shape))
    for i, (on, a) in enumerate(shapes):
        for other, b in shapes[:i]:
            assert on != other or a.distance(b) >= 6 - 1e-6
    assert least_margin(islands).pixels >= 6 - 1e-6
    if count > 1:
        assert len(set(islands.sheet_of.tolist())) > 1


def test_a_layout_picture_for_each_sheet_has_its_size_and_what_lies_there() -> None:
    sheets = sheets_of(256, 128, 4.0, 2)
    mesh = pack(box(sheets), sheets, PackSettings(spread=True)).mesh
    islands = Islands.of(mesh, sheets)
    for k in range(2):
        picture = np.asarray(Image.open(io.BytesIO(layout_png([(mesh, None)], sheets, k))))
        assert picture.shape == (128, 256, 3)
        covered = (np.abs(picture.astype(int) - [244, 240, 232]).max(axis=2) > 3).mean()
        # Outlines are drawn strong, over a pixel to each side, and smoothed.
        rim = sum(np.linalg.norm(np.diff(islands.pixel_outline(i), axis=1), axis=2).sum()
                  for i in np.flatnonzero(islands.sheet_of == k).tolist()) / (256 * 128)  # fmt: skip
        assert islands.use(k) - 0.01 < covered < islands.use(k) + 3 * rim
