"""The tool Decal and what becomes of decals: laid, moved, sized, turned, kept, delivered, without a window."""

from __future__ import annotations

import os
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from jacket.core.bake.decals import Decal
from jacket.document.document import Document
from jacket.document.edits import decals as steps
from jacket.document.edits.layers import copy_layer, join_layers, mirror_layer
from jacket.document.edits.sources import place_source
from jacket.document.islands import with_island_numbers
from jacket.document.state import JacketObject, SourceObject, State
from jacket.errors import FormatError, JacketError
from jacket.formats.deliver.laid import checked_stencil, stencil_of, with_decals
from jacket.formats.project.records import load_project, save_project
from jacket.stages.deliver import pressing
from jacket.stages.deliver.commands import deliver_to
from jacket.stages.deliver.tools.decal import LayOn
from jacket.stages.deliver.tools.probe import Probe
from jacket.stages.deliver.wearing import dressed
from jacket.tools.events import Pointer
from jacket.tools.view import FlatCamera
from tests.core.bake.test_decals import SHEET, lying, plate
from tests.hands import STRAIGHT_ON, Hand
from tests.stages.deliver.test_deliver_stage import program


def painted(path: Path, colour: object = (200, 30, 60), size: tuple[int, int] = (64, 32)) -> str:
    Image.new("RGB", size, colour).save(path)
    return str(path)


def hand(picture: str = "", mesh: object = None) -> Hand:
    """Decal over a square of 2 units, seen straight on."""
    flat = plate() if mesh is None else mesh
    square = flat.with_points(flat.points * [2, 2, 1] - [1, 1, 0])  # type: ignore[attr-defined]
    state = State((SourceObject(1, "s", square),), (JacketObject(2, "j", square),), active=2, next_id=3)
    return Hand(Document(with_island_numbers(State(), state)), LayOn, STRAIGHT_ON, picture=picture)


def laid(h: Hand) -> Decal:
    return h.document.require_jacket().decals[-1]


def test_a_click_lays_drags_move_size_and_turn(tmp_path: Path) -> None:
    """Positions and angles are those of the plane it lies on; every gesture is one step."""
    h = hand(painted(tmp_path / "plate.png"))
    h.hover((0.2, 0.1, 0))
    assert h.tool.ghost.what == "Lay plate on" and len(h.tool.ghost.lines) == 4
    h.click((0.2, 0.1, 0))
    d = laid(h)
    assert np.allclose(d.place, (0.2, 0.1, 0)) and d.width == 2 * d.height and np.allclose(d.up, (0, 1, 0))
    h.drag([(0.25, 0.12, 0), (-0.25, 0.32, 0)])
    assert np.allclose(laid(h).place, (-0.3, 0.3, 0), atol=1e-9) and len(h.document.require_jacket().decals) == 1
    corner = laid(h).corners()[2]
    middle = np.array(laid(h).place)
    h.drag([corner, middle + 2 * (corner - middle)])
    assert laid(h).width == pytest.approx(2 * d.width) and laid(h).height == pytest.approx(2 * d.height)
    knob = h.tool._knob(h.at(middle), laid(h))
    h.drag([knob, middle + np.array([-0.5, 0.5, 0])])
    assert np.allclose(laid(h).up, np.array([-1, 1, 0]) / np.sqrt(2), atol=1e-9)
    for wanted in (2 * d.width, 2 * d.width, d.width):
        assert laid(h).width == pytest.approx(wanted)
        h.document.undo()
    assert np.allclose(laid(h).place, (0.2, 0.1, 0))
    h.document.undo()
    assert not h.document.require_jacket().decals


def test_escape_space_wheel_and_backspace(tmp_path: Path) -> None:
    h = hand(painted(tmp_path / "a.png"))
    h.click((0, 0, 0))
    h.tool.settings.picture = painted(tmp_path / "b.png")
    steps.lay_decal(h.document, 2, lying(0.3, 0.3, name="b", place=(0.0, 0.0, 0.0), path=h.tool.settings.picture))
    h.tool.settings.decal = -1
    h.hover((0.05, 0.02, 0))
    assert h.tool.ghost.what == "Move b"
    h.space()
    assert h.tool.ghost.what == "Move a"
    pointer = h.at((0.05, 0.02, 0))
    h.tool.press(pointer)
    h.tool.move(h.at((0.5, 0.5, 0)))
    assert h.tool.busy and h.tool.cancel() and not h.tool.busy
    assert np.allclose(h.document.require_jacket().decals[0].place, 0, atol=1e-9)
    wide = h.document.require_jacket().decals[0].width
    assert h.tool.ctrl_wheel(2, pointer)
    assert h.document.require_jacket().decals[0].width == pytest.approx(wide * 1.06**2)
    h.backspace((0.05, 0.02, 0))
    assert [d.name for d in h.document.require_jacket().decals] == ["b"]


def test_without_a_picture_and_on_locked_layers_nothing_is_laid(tmp_path: Path) -> None:
    h = hand()
    h.hover((0, 0, 0))
    assert h.tool.ghost.what == "No picture in hand"
    with pytest.raises(JacketError, match="no picture in hand"):
        h.click((0, 0, 0))
    h.tool.settings.picture = str(tmp_path / "gone.png")
    with pytest.raises(FormatError):
        h.click((0, 0, 0))
    (tmp_path / "text.png").write_text("not a picture")
    with pytest.raises(FormatError, match="no picture that can be read"):
        checked_stencil(tmp_path / "text.png")
    assert stencil_of(str(tmp_path / "text.png")) is None
    assert not h.document.require_jacket().decals and not h.document.in_gesture
    with pytest.raises(JacketError, match="cannot lie in"):
        steps.lay_decal(h.document, 2, lying(role="height"))
    with pytest.raises(JacketError, match="gone meanwhile"):
        steps.drop_decal(h.document, 2, 7)


def test_over_the_sheet_it_follows_the_place_on_the_form(tmp_path: Path) -> None:
    """u and v of the square are its x and y: a drag of a quarter of the sheet is half a unit on the form."""
    h = hand(painted(tmp_path / "plate.png"))
    camera = FlatCamera(np.array([0.5, 0.5]), 400.0, 500, 500)

    def over(u: float, v: float) -> Pointer:
        x, y = camera.project(np.array([u, v]))[0]
        return Pointer(float(x), float(y), flat=camera)

    for act, spot in ((h.tool.hover, (0.5, 0.5)), (h.tool.press, (0.5, 0.5)), (h.tool.move, (0.75, 0.5)), (h.tool.release, (0.75, 0.5))):
        act(over(*spot))
    assert np.allclose(laid(h).place, (0.5, 0.0, 0.0), atol=1e-6)


def test_decals_go_with_their_form_and_stay_in_the_project(tmp_path: Path) -> None:
    h = hand(painted(tmp_path / "plate.png"))
    h.click((0.2, 0.1, 0))
    save_project(h.document.state, tmp_path / "a.jacket")
    assert load_project(tmp_path / "a.jacket").jackets[0].decals == h.document.require_jacket().decals
    matrix = np.diag([2.0, 2.0, 2.0, 1.0])
    matrix[:3, 3] = (1, 2, 3)
    place_source(h.document, "move", 1, matrix)
    assert np.allclose(laid(h).place, (1.4, 2.2, 3.0))
    h.document.undo()
    mirror_layer(h.document, 0)
    assert np.allclose(laid(h).place, (-0.2, 0.1, 0)) and laid(h).width < 0
    h.document.undo()
    copy_layer(h.document)
    join_layers(h.document)
    assert len(h.document.require_jacket().decals) == 1


def test_maps_have_them_where_the_islands_lie_and_are_delivered(tmp_path: Path) -> None:
    """The colour map of a delivery is plain but for the decal; a picture that is gone stops the delivery with a sentence."""
    p = program()
    path = painted(tmp_path / "plate.png")
    pressing.take_stencil(p, path)
    pressing.lay_from_view(p)
    assert p.display.lit and p.document.require_jacket().decals[0].eye > 0
    pressing.mirror_decal(p)
    pressing.turn_decal(p, 90)
    pressing.top_decal(p)
    assert p.document.require_jacket().decals[0].width < 0
    deliver_to(p, tmp_path / "out", "thing")
    colour = np.asarray(Image.open(tmp_path / "out" / "thing-colour.png")).astype(int)
    red = (np.abs(colour - (200, 30, 60)).max(axis=2) <= 1).mean()
    assert 0.02 < red < 0.4
    assert {tuple(c) for c in colour.reshape(-1, 3)[:50]} == {tuple(colour[0, 0])}
    Path(path).unlink()
    deliver_to(p, tmp_path / "again", "thing")
    assert "plate.png of a decal on box is not there" in p.front.said[-1]
    assert not (tmp_path / "again").exists()
    pressing.take_off(p)
    deliver_to(p, tmp_path / "again", "thing")


def test_a_picture_that_changes_on_disk_is_seen_on_the_form_again(tmp_path: Path) -> None:
    """The look of a layer is the same object until the file changes."""
    h = hand(painted(tmp_path / "plate.png"))
    h.click((0, 0, 0))
    layer, state = h.document.require_jacket(), h.document.state
    first = dressed(None, layer, state)
    assert first is not None and dressed(None, layer, state) is first and (first.sheets[0].maps["colour"].pixels == (200, 30, 60)).all(axis=2).any()
    painted(tmp_path / "plate.png", (10, 90, 200))
    os.utime(tmp_path / "plate.png", ns=(1, 1))
    again = dressed(None, layer, state)
    assert again is not None and (again.sheets[0].maps["colour"].pixels == (10, 90, 200)).all(axis=2).any()


def test_maps_that_no_decal_touches_stay_the_same_objects(tmp_path: Path) -> None:
    path = painted(tmp_path / "plate.png")
    away = lying(0.1, 0.1, place=(9.0, 9.0, 9.0), path=path)
    assert with_decals((), [(plate(), (away,))], (SHEET,)) == ()
    made = with_decals((), [(plate(), (lying(path=path),))], (SHEET,))
    assert set(made[0].maps) == {"colour"}
    again = with_decals(made, [(plate(), (away,))], (SHEET,))
    assert again[0] is made[0]


def test_probe_reads_the_decal_and_the_own_picture_that_are_shown(tmp_path: Path) -> None:
    """Nothing is baked: the pictures alone are read, the decal over what lies under it."""
    h = hand(painted(tmp_path / "plate.png"))
    h.click((0, 0, 0))
    own = replace(h.document.require_jacket(), pictures=(("roughness", painted(tmp_path / "rough.png", (51, 51, 51))),))
    probe = Probe(h.document, h.tool.settings)
    h.document.apply("pictures", h.document.state.with_(jackets=(own,)))
    probe.hover(h.at((0.02, 0.02, 0)))
    said = f"{probe.ghost.what} · {probe.ghost.how}"
    assert "colour #c81e3c" in said and "roughness 0.20" in said
    probe.hover(h.at((0.9, 0.9, 0)))
    assert "colour #c81e3c" not in f"{probe.ghost.what} · {probe.ghost.how}"
