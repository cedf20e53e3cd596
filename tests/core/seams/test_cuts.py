"""Cutting and sewing."""

from __future__ import annotations

import numpy as np

from jacket.core.flatten.unwrap import unwrap
from jacket.core.layout.pack import pack
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.seams.cuts import (
    cut_edges,
    sew_edges,
    sharp_edges,
    uv_border_pairs,
)
from jacket.core.seams.turning import Turning
from jacket.core.seams.ways import loop_between
from jacket.core.uv.islands import Islands
from jacket.core.uv.sets import cut_flags, island_labels
from jacket.jobs.pack import sheets_of
from tests.conftest import cube, grid


def box(levels: int = 2) -> PolyMesh:
    mesh = cube()
    for _ in range(levels):
        mesh = split_to_quads(mesh)
    return mesh


def test_cutting_and_sewing() -> None:
    sheet = grid(6)
    turning, none = Turning.of(sheet), np.zeros(sheet.topology.n_edges, bool)
    row = loop_between(sheet, turning, sheet.topology.find_edge(21, 22), none, True)
    cut = cut_edges(sheet, row)
    assert island_labels(cut)[0] == 2 and len(cut.cuts) == 6
    # A crossing loop now stops at the first one; borders are never marked.
    column = loop_between(cut, turning, cut.topology.find_edge(3, 10), cut_flags(cut), True)
    assert len(column) == 3
    assert len(cut_edges(sheet, sheet.topology.border_edges).cuts) == 0
    assert island_labels(sew_edges(cut, row[:1]))[0] == 1
    assert len(sharp_edges(box(), 45)) == 12 * 4


def test_uv_cuts_are_read_back() -> None:
    mesh = cut_edges(box(), sharp_edges(box(), 45))
    flat, _ = unwrap(mesh)
    packed = flat.with_uv(pack(Islands.of(flat, sheets_of(256, margin=4))).uv)
    assert np.array_equal(uv_border_pairs(packed, packed.uv), packed.cuts)


def test_a_cut_that_gapes_at_one_end_only_is_a_cut() -> None:
    """Two faces beside each other that meet on the sheet at one point and stand apart at the other, like a V, either way."""
    pair = grid(2, 1)
    for end in (1, 4):
        uv = pair.points[pair.corners][:, :2] / 4
        right = np.flatnonzero((pair.face_of_corner == 1) & (pair.corners == end))
        uv[right] += [0.05, 0]
        assert uv_border_pairs(pair, uv).tolist() == [[1, 4]]
    assert uv_border_pairs(pair, pair.points[pair.corners][:, :2] / 4).tolist() == []
