"""Flat parts and back: lengths of a cylinder by formula, there and back without change, and what lies astray."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.mesh.geometry import face_areas
from jacket.core.seams.cuts import cut_edges
from jacket.core.uv.islands import Islands
from jacket.core.uv.parts import flat_parts, wrapped
from jacket.core.uv.projections import projected
from jacket.core.uv.sheets import Sheet
from jacket.document.islands import with_island_numbers
from jacket.document.state import JacketObject, SourceObject, State
from jacket.errors import EditRefused
from tests.conftest import grid
from tests.core.flatten.test_editing import dome
from tests.hands import tube
from tests.host import Headless

SHEET = Sheet(width=1024, height=512)
AROUND = 96


def unrolled():  # type: ignore[no-untyped-def]
    """A tube of radius 1 and height 4, laid on a sheet twice as wide as high."""
    mesh = tube(around=AROUND, along=8)
    return projected(mesh, np.ones(mesh.n_faces, bool), "cylinder", SHEET)


def test_a_tube_lies_flat_as_wide_as_it_is_round() -> None:
    """2π r by h, with the areas of the faces; islands are apart, UVs go along."""
    mesh = unrolled()
    flat = flat_parts(mesh, (SHEET,))
    span = np.ptp(flat.points, axis=0)
    assert span[2] == 0 and span[0] / span[1] == pytest.approx(2 * np.pi / 4, rel=1e-9)
    assert face_areas(flat).sum() == pytest.approx(face_areas(mesh).sum()) and np.array_equal(flat.uv, mesh.uv)
    assert flat.n_points == mesh.n_points + 9  # the line that is cut stands twice
    cut = cut_edges(dome(), np.array([dome().topology.n_edges // 2], np.int32))
    assert len(Islands.of(flat_parts(cut)).labels) == cut.n_faces
    with pytest.raises(EditRefused, match="Nothing lies on the sheet"):
        flat_parts(grid(3))


def test_wrapping_the_flat_parts_gives_the_form_again_and_heights_stand_on_it() -> None:
    mesh = unrolled()
    flat = flat_parts(mesh, (SHEET,))
    back = wrapped(flat.points, mesh, (SHEET,))
    assert back.off.max() < 1e-9
    there = np.zeros((mesh.n_corners, 3))
    there[:] = mesh.points[mesh.corners]
    again = np.zeros_like(there)
    again[:] = back.points[flat.corners]
    assert np.abs(again - there).max() < 1e-9
    # A quarter over the flat parts is a quarter out of the tube: radius 1¼.
    high = wrapped(flat.points + [0, 0, 0.25], mesh, (SHEET,)).points
    assert np.allclose(np.hypot(high[:, 0], high[:, 2]), 1.25, atol=1e-6)
    # Just past the seam it goes on round: the surface has no end there for who hangs over.
    edge = flat.points[flat.points[:, 0] > flat.points[:, 0].max() - 1e-9] + [0.02, 0, 0]
    over = wrapped(edge, mesh, (SHEET,))
    assert np.allclose(over.off, 0.02) and np.allclose(np.hypot(over.points[:, 0], over.points[:, 2]), 1, atol=1e-3)
    with pytest.raises(EditRefused, match="lie over no island"):
        wrapped(flat.points + [50.0, 0, 0], mesh, (SHEET,))


def test_layers_and_sources_are_wrapped_and_undone() -> None:
    """A plate laid over the flat tube goes round it; wrapping needs somebody to go round."""
    mesh = unrolled()
    plate = grid(8)
    middle = flat_parts(mesh, (SHEET,)).points.mean(axis=0)
    plate = plate.with_points((plate.points - plate.points.mean(axis=0)) * 0.1 + middle + [0, 0, 0.1])
    state = State((SourceObject(1, "plate", plate),), (JacketObject(2, "tube", mesh), JacketObject(3, "strap", plate)), active=2, next_id=4, sheets=(SHEET,))
    p = Headless(with_island_numbers(State(), state))
    p.do("flat-parts")
    assert [j.name for j in p.document.state.jackets] == ["tube", "tube flat", "strap"] and p.document.last_step == "islands as flat parts"
    assert p.document.state.jackets[1].islands == p.document.state.jackets[0].islands
    p.document.undo()
    p.document.amend(p.document.state.with_(active=3))
    p.do("wrap-layer")
    strap = p.document.state.jackets[1].mesh
    assert np.allclose(np.hypot(strap.points[:, 0], strap.points[:, 2]), 1.1, atol=2e-3)
    p.do("wrap-source")
    source = p.document.state.sources[0].mesh
    assert np.allclose(source.points, strap.points)
    p.document.undo()
    p.document.undo()
    assert np.array_equal(p.document.state.jackets[1].mesh.points, plate.points)
    q = Headless(State((), (JacketObject(3, "strap", plate),), active=3))
    assert not q.commands["wrap-layer"].available(q.document.state)
    q.do("flat-parts")
    assert "Nothing lies on the sheet yet" in q.front.said[-1] and len(q.document.state.jackets) == 1
