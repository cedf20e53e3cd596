"""UV sets: several side by side, each with coordinates, cuts and pins of its own."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.seams.cuts import cut_edges, sew_edges
from jacket.core.uv.islands import Islands
from jacket.core.uv.sets import (
    border_flags,
    flat_points,
    island_labels,
    piece_labels,
    set_added,
    set_removed,
    set_renamed,
    uv_set,
    with_active,
)
from jacket.errors import EditRefused
from jacket.jobs.unwrap import unwrap
from tests.conftest import cube, grid


def two_sets() -> PolyMesh:
    mesh = grid(4)
    mesh = mesh.with_uv(mesh.points[mesh.corners][:, :2] / 4, "first")
    return cut_edges(set_added(mesh, "second"), np.array([mesh.topology.find_edge(10, 11)]))


def test_sets_have_cuts_and_coordinates_of_their_own() -> None:
    mesh = two_sets()
    assert mesh.uv_sets == ("first", "second") and mesh.active_uv == "second" and mesh.uv is None
    assert len(uv_set(mesh, "first").cuts) == 0 and uv_set(mesh, "second").cuts.tolist() == [[10, 11]]
    back = with_active(mesh, "first")
    assert back.uv is not None and len(back.cuts) == 0 and back.points is mesh.points
    copied = set_added(back, "third", "first")
    assert np.array_equal(copied.uv, back.uv) and copied.active_uv == "third"


def test_renaming_and_removing() -> None:
    mesh = set_renamed(two_sets(), "first", "albedo")
    assert mesh.uv_sets == ("albedo", "second") and mesh.active_uv == "second"
    assert uv_set(mesh, "albedo").uv is not None and "uv:first" not in mesh.corner_data
    mesh = set_removed(mesh, "second")
    assert mesh.uv_sets == ("albedo",) and mesh.active_uv == "albedo" and "cut:second" not in mesh.marks
    mesh = set_removed(mesh, "albedo")
    assert mesh.uv_sets == () and mesh.active_uv == "" and mesh.uv is None


@pytest.mark.parametrize(
    ("act", "words"),
    [
        (lambda m: set_added(m, "first"), "already"),
        (lambda m: set_added(m, "  "), "needs a name"),
        (lambda m: set_added(m, "a/b"), "slash"),
        (lambda m: set_added(m, "x", "nowhere"), "no UV set nowhere"),
        (lambda m: set_renamed(m, "nowhere", "x"), "no UV set nowhere"),
        (lambda m: set_removed(m, "nowhere"), "no UV set nowhere"),
        (lambda m: with_active(m, "nowhere"), "no UV set nowhere"),
    ],
)
def test_what_cannot_be_is_refused_in_a_sentence(act, words: str) -> None:  # type: ignore[no-untyped-def]
    with pytest.raises(EditRefused, match=words):
        act(two_sets())


def test_islands_end_where_cut_or_apart_and_pieces_where_cut() -> None:
    cut = cut_edges(cube(), np.arange(12))
    assert piece_labels(cut)[0] == 6
    flat = unwrap(cut).mesh
    sewn = sew_edges(flat, np.arange(12))
    # Sewing does not move what lies apart on the sheet: six islands still, and one piece that would open as one.
    assert island_labels(sewn)[0] == 6 and piece_labels(sewn)[0] == 1
    assert border_flags(sewn).all() and len(sewn.cuts) == 0
    assert Islands.of(sewn).border_corners.size == 24


def test_flat_points_are_the_points_of_the_sheet() -> None:
    """A closed cube cut along all edges falls into six squares of four points; uncut it has its eight."""
    fans, first = flat_points(cube())
    assert len(first) == 8 and np.array_equal(cube().corners[first][fans], cube().corners)
    assert len(flat_points(cut_edges(cube(), np.arange(12)))[1]) == 24
