"""Curves carried between the sheet and the form, against cylinders and planes by formula, and through a general reader of SVG."""

from __future__ import annotations

from pathlib import Path
from xml.etree import ElementTree

import numpy as np
import pytest

from jacket.core.mesh.pieces import put_side_by_side
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.steering import Guide
from jacket.core.uv.curves import onto_form, onto_sheet, thinned
from jacket.core.uv.sheets import ONE_SHEET, Sheet
from jacket.document.islands import with_island_numbers
from jacket.document.state import JacketObject, SourceObject, State
from jacket.errors import FormatError
from jacket.formats.curves import read_drawn_curves
from jacket.jobs.picture import guide_curves, layout_pictures
from tests.host import Headless

AROUND, HIGH = 64, 10


def wrapped_label() -> PolyMesh:
    """Half of a cylinder of radius 1 and height 2 about Y, unrolled onto the sheet from (0.1, 0.2) to (0.9, 0.7)."""
    turn, up = (a.ravel() for a in np.meshgrid(np.linspace(0, np.pi, AROUND + 1), np.linspace(0, 2, HIGH + 1)))
    i, j = (a.ravel() for a in np.meshgrid(np.arange(AROUND), np.arange(HIGH)))
    a = j * (AROUND + 1) + i
    mesh = PolyMesh.from_faces(np.stack([np.cos(turn), up, -np.sin(turn)], axis=1), np.stack([a, a + 1, a + AROUND + 2, a + AROUND + 1], axis=1))
    uv = np.stack([0.1 + 0.8 * turn / np.pi, 0.2 + 0.25 * up], axis=1)
    return mesh.with_uv(uv[mesh.corners])


def test_a_slanted_line_becomes_a_helix_and_comes_back() -> None:
    """x = cos t, z = −sin t, y linear in t: a helix lies flat as a straight line (a cylinder is developable)."""
    mesh = wrapped_label()
    line = np.array([[0.2, 0.3], [0.8, 0.6]])
    (helix,) = onto_form([line], mesh)
    turn = np.arctan2(-helix[:, 2], helix[:, 0])
    assert np.allclose(helix[:, 1], 4 * (0.3 + (turn / np.pi * 0.8 - 0.1) / 0.6 * 0.3 - 0.2), atol=2e-3)
    # Places lie on the faces, which are chords of the circle.
    assert (np.hypot(helix[:, 0], helix[:, 2]) > np.cos(np.pi / AROUND / 2) - 1e-6).all()
    (back,) = onto_sheet([helix], mesh)
    assert len(back) <= 4 and np.allclose(back[[0, -1]], line, atol=1e-4)


def test_curves_end_at_the_border_of_an_island_and_go_on_at_the_next() -> None:
    mesh = wrapped_label()
    pieces = onto_form([np.array([[0.0, 0.3], [1.0, 0.3]]), np.array([[0.0, 0.9], [1.0, 0.9]])], mesh)
    assert len(pieces) == 1
    assert np.allclose(pieces[0][[0, -1], 0], [1, -1], atol=0.03) and np.allclose(pieces[0][:, 1], 0.4, atol=1e-9)
    # Two labels a pen's width apart on the sheet, far apart on the form.
    assert mesh.uv is not None
    left, right = (mesh.with_uv(mesh.uv * [0.5, 1] + [shift, 0]) for shift in (0.0, 0.402))
    both = put_side_by_side([left, right.with_points(right.points + [9, 0, 0])])
    pieces = onto_form([np.array([[0.2, 0.3], [0.8, 0.3]])], both)
    assert len(pieces) == 2 and pieces[0][:, 0].max() < 2 < 7 < pieces[1][:, 0].min()
    assert onto_form([np.array([[0.2, 0.3], [0.8, 0.3]])], mesh.with_uv(np.full((mesh.n_corners, 2), np.nan))) == []


def test_thinning_keeps_within_the_chord() -> None:
    """A polygon in a circle of radius 1 strays from it by the sagitta 1 − cos(half the angle)."""
    turn = np.linspace(0, np.pi, 400)
    arc = np.stack([np.cos(turn), np.sin(turn), 0 * turn], axis=1)
    few = thinned(arc, 0.01)
    step = np.diff(np.arctan2(few[:, 1], few[:, 0]))
    assert 5 < len(few) < 40 and (1 - np.cos(step / 2) <= 0.0101).all()


def program() -> Headless:
    mesh = wrapped_label()
    state = State((SourceObject(1, "s", PolyMesh.from_faces(mesh.points, mesh.triangle_points)),), (JacketObject(2, "label", mesh),), active=2, next_id=3,
                  sheets=(Sheet(width=512, height=256, margin=2.0),))  # fmt: skip
    return Headless(with_island_numbers(State(), state))


def test_what_is_drawn_over_the_layout_picture_lies_on_the_form(tmp_path: Path) -> None:
    """A bend of the SVG (a cubic of the standard's 8.3.6) over a sheet that is not square, beside the islands of the picture."""
    p = program()
    drawing = tmp_path / "drawn.svg"
    layout_pictures([(p.document.require_jacket().mesh, {})], drawing, p.document.state.sheets)
    text = drawing.read_text().replace("</svg>", '<path d="M102.4,179.2 C200,179.2 300,179.2 409.6,179.2" stroke="#000" fill="none"/></svg>')
    drawing.write_text(text)
    (curve,) = read_drawn_curves(drawing, p.document.state.sheet)
    assert np.allclose(curve[:, 1], 0.3, atol=1e-9) and np.allclose(curve[[0, -1], 0], [0.2, 0.8], atol=1e-9)
    p.front.filing.picture = str(drawing)
    p.do("curves-to-form")
    (guide,) = p.document.state.guides
    assert not guide.closed and np.allclose(guide.points[:, 1], 0.4, atol=1e-6) and p.stage.id == "topology"
    p.document.undo()
    assert not p.document.state.guides


def test_guides_are_drawn_in_the_layout_picture(tmp_path: Path) -> None:
    """Read by a general reader of XML: the straight line that a helix is, in pixels from the upper left."""
    p = program()
    turn = np.linspace(0.3, 2.6, 30)
    helix = Guide(np.stack([np.cos(turn), 0.5 + 0.2 * turn, -np.sin(turn)], axis=1))
    state = p.document.state.with_(guides=(helix,))
    layout_pictures([(p.document.require_jacket().mesh, {})], tmp_path / "out.svg", state.sheets, curves=guide_curves(state))
    rows = [e for e in ElementTree.parse(tmp_path / "out.svg").iter() if e.get("class") == "curves"]
    at = np.array([[float(v) for v in word[1:].split(",")] for word in rows[0].get("d", "").replace("M", "L").split()])
    wanted = np.stack([0.1 + 0.8 * turn[[0, -1]] / np.pi, 0.2 + 0.25 * (0.5 + 0.2 * turn[[0, -1]])], axis=1) * [512, 256]
    assert len(rows) == 1 and np.allclose(at[[0, -1]], np.array([0, 256]) + wanted * [1, -1], atol=0.6)


@pytest.mark.parametrize("text", ["no svg", "<svg", "<svg xmlns='http://www.w3.org/2000/svg' width='10' height='10'/>",
                                  "<svg xmlns='http://www.w3.org/2000/svg' width='0' height='0'><path d='M0,0 L1,1'/></svg>",
                                  "<svg xmlns='http://www.w3.org/2000/svg' width='9' height='9'><path d='Mx C9'/></svg>"])  # fmt: skip
def test_what_is_no_drawing_is_a_sentence(tmp_path: Path, text: str) -> None:
    (tmp_path / "d.svg").write_text(text)
    with pytest.raises(FormatError, match=r"d\.svg (is no drawing|holds no curves)"):
        read_drawn_curves(tmp_path / "d.svg", ONE_SHEET[0])
