"""The Deliver stage in the real window: maps seen while they are baked, lit, wiped, probed, delivered and taken in."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QCheckBox, QComboBox, QLabel, QLineEdit, QPushButton, QWidget

from jacket.commands import beside
from jacket.core import derive
from jacket.core.store import STORE
from jacket.core.uv.sheets import Sheet
from jacket.document.document import Document
from jacket.document.edits import layers
from jacket.document.islands import with_island_numbers
from jacket.document.state import JacketObject, SourceObject, State
from jacket.formats.deliver.profiles import profile_named
from jacket.qt.app import make_app, settle
from jacket.qt.scene import lit as scene_lit
from jacket.qt.window import Window
from jacket.settings import Settings
from jacket.settings.store import profile_dir
from jacket.stages.deliver.values import DeliverValues
from tests.conftest import gone
from tests.core.bake.forms import boxed
from tests.jobs.test_intake import bumpy


@pytest.fixture
def window(qtbot) -> Iterator[Window]:  # type: ignore[no-untyped-def]
    make_app(["test"])
    box = boxed(6, True)
    jacket = box.with_points(box.points * (1.0, 1.6, 0.7) + (0.0, 0.3, 0.1))
    state = State((SourceObject(1, "bumps", bumpy()),), (JacketObject(2, "box", jacket),), active=2, next_id=3,
                  sheets=(Sheet(width=256, height=256, margin=2.0),))  # fmt: skip
    made = Window(Document(with_island_numbers(State(), state)), Settings())
    made.show()
    qtbot.waitExposed(made)
    made.show_stage("deliver")
    made.frame(True)
    assert settle(made, 60)
    yield made
    gone(made)


def picture(window: Window) -> np.ndarray:
    """The form view's pixels."""
    assert settle(window, 60)
    image = window.form.grabFramebuffer().convertToFormat(window.form.grabFramebuffer().Format.Format_RGB888)
    rows = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.bytesPerLine())[:, : 3 * image.width()]
    return rows.reshape(image.height(), image.width(), 3).astype(int)


def test_dense_and_light_stand_side_by_side_and_are_pointed_at_alike(window: Window) -> None:
    """Both whole: each half shows what the middle of the view does, and either half picks the same place."""
    program, form = window.program, window.form
    program.show(replace(program.display, lit=True))
    whole = picture(window)
    program.show(replace(program.display, apart=True))
    halves = picture(window)
    w = whole.shape[1]
    assert form.apart and not form.unfinished
    # The light mesh is the same picture, a quarter of the width to the left; what hangs over the chips and the line is left out.
    rows, span = slice(60, whole.shape[0] - 60), w // 4 - 12
    light, once = halves[rows, w // 4 - span : w // 4 + span], whole[rows, w // 2 - span : w // 2 + span]
    assert (np.abs(light - once).max(axis=2) > 12).mean() < 0.03
    dense = halves[rows, 3 * w // 4 - span : 3 * w // 4 + span]
    # As large on the other side, and bumpy.
    there = [(np.abs(half - half[0, 0]).max(axis=2) > 12).mean() for half in (light, dense)]
    assert there[0] > 0.05 and there[1] == pytest.approx(there[0], rel=0.1) and (np.abs(dense - light).max(axis=2) > 12).mean() > 0.005
    left, right = (form.pointer(QPointF(x, 200.0), Qt.KeyboardModifier.NoModifier) for x in (form.width() / 4 + 7, 3 * form.width() / 4 + 7))
    assert left.x == right.x == pytest.approx(form.width() / 2 + 7)
    assert form.project(form.camera.target)[0, 0] == pytest.approx(form.width() / 4)
    program.show(replace(program.display, apart=False))
    assert np.abs(picture(window) - whole).max() <= 2


def test_baked_lit_wiped_probed_delivered_and_taken_in(window: Window, tmp_path: Path) -> None:
    program = window.program
    program.put(DeliverValues, "rays", 8)
    plain = picture(window)
    program.run(program.commands["bake"])
    assert settle(window, 120) and program.baked is not None and program.baked.whole and program.display.lit
    lit = picture(window)
    assert np.abs(lit - plain).mean() > 5
    texts = [w.text() for w in window.panel.findChildren(QLabel)]
    assert texts.count("made") == 2

    # A click on a row shows that map alone, in both views; another click shows all at work again.
    row = next(b for b in window.panel.findChildren(QPushButton) if b.accessibleName() == "Normal")
    row.click()
    assert program.display.map == "normal" and window.flat.scene.skins
    blue = picture(window)
    middle = blue[blue.shape[0] // 2, blue.shape[1] // 2]
    assert middle[2] > 180
    next(b for b in window.panel.findChildren(QPushButton) if b.accessibleName() == "Normal").click()
    assert program.display.map == ""
    assert np.abs(picture(window) - lit).mean() < 0.5

    # From afar smaller pictures are shown: the sheet's mean colours in the end.
    sharp = picture(window)
    program.show(replace(program.display, mip=6))
    assert np.abs(picture(window) - sharp).mean() > 0.3
    program.show(replace(program.display, mip=0))

    # A drag with Look turns the light; the wipe shows the dense mesh beside the light one.
    window.resize(1280, 800)
    before = picture(window)
    skins = window.form.scene.skins
    _drag(window, QPoint(200, 300), QPoint(380, 300))
    assert window.form.scene.skins and all(a is b for a, b in zip(window.form.scene.skins, skins, strict=True))
    assert program.tool_settings.lamp_turn == pytest.approx(90.0, abs=3)
    assert np.abs(picture(window) - before).mean() > 0.5
    light = picture(window)
    program.run(program.commands["wipe"])
    both = picture(window)
    half = both.shape[1] // 2
    assert np.abs(both[:, : half - 4] - light[:, : half - 4]).mean() < 0.5
    # In one light the light mesh with its maps looks nearly like the dense one.
    assert 0 < np.abs(both[:, half + 4 :] - light[:, half + 4 :]).mean() < 6

    program.take_tool("probe")
    at = QPoint(window.form.width() // 3, window.form.height() // 2)
    QTest.mouseMove(window.form, at)
    QTest.qWait(60)
    assert settle(window, 60)
    assert "normal" in window.form.overlay.ghost.what

    window.filing.deliver_to(tmp_path / "out")
    assert settle(window, 120) and (tmp_path / "out" / "box-normal.png").is_file()
    program.run(program.commands["take-in"])
    assert settle(window, 120) and program.delivered.taken.excess < 0.1
    assert any("over the floor" in w.text() for w in window.panel.findChildren(QLabel))

    # Degrees off the dense mesh, for this view and no other; the picture follows the camera, and goes with what it is about.
    program.show(replace(program.display, map="difference"))
    assert settle(window, 60) and window.differing.seen is not None
    first = window.differing.seen
    assert 0 < first.mean < program.delivered.taken.bare and abs(first.mean - program.delivered.taken.views.mean) < 1.5
    window.form.drag_camera("turn", 60, 0)
    window.form._camera_moved()
    assert settle(window, 60) and window.differing.seen is not first
    program.show(replace(program.display, map=""))
    assert settle(window, 60) and window.differing.seen is None

    # An edit makes the maps stale, and that is said where they stand.
    program.run(program.commands["hard-along-islands"])
    assert settle(window, 60)
    assert [w.text() for w in window.panel.findChildren(QLabel)].count("stale") == 2


def test_where_an_own_picture_says_nothing_is_there_nothing_is_drawn(window: Window, tmp_path: Path) -> None:
    program = window.program
    program.show(replace(program.display, lit=True))
    whole = picture(window)
    Image.new("L", (8, 8), 0).save(tmp_path / "holes.png")
    layers.put_picture(program.document, 2, "opacity", str(tmp_path / "holes.png"))
    empty = picture(window)
    ground = empty[4, empty.shape[1] // 2]
    middle = whole.shape[0] // 2, whole.shape[1] // 2
    assert np.abs(empty[middle] - ground).max() <= 2 < np.abs(whole[middle] - ground).max()


def _field(window: Window, name: str) -> QWidget:
    return next(w for w in window.panel.findChildren(QWidget) if w.accessibleName() == name and w.isVisible())


def _typed(window: Window, name: str, text: str) -> None:
    field = _field(window, name)
    assert isinstance(field, QLineEdit)
    field.setText(text)
    field.editingFinished.emit()
    assert settle(window, 30)


def test_a_profile_of_ones_own_is_changed_in_its_card(window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("JACKET_HOME", str(tmp_path))
    program = window.program
    said: list[str] = []
    monkeypatch.setattr(window, "say", said.append)
    window.ask_text = lambda *a: "Ours"  # type: ignore[method-assign]
    program.run(program.commands["own-profile"])
    assert settle(window, 30)
    _typed(window, "Name", "Our engine")
    _typed(window, "Units a metre", "100")
    _typed(window, "Triangles at most", "500")
    _typed(window, "Name of picture 1", "{name}-n.png")
    _typed(window, "Channels of picture 2", "occlusion, 1, 0.5")
    box = _field(window, "PLY")
    assert isinstance(box, QCheckBox)
    box.click()
    assert settle(window, 30)
    up = _field(window, "Up")
    assert isinstance(up, QComboBox)
    up.setCurrentIndex(1)
    up.activated.emit(1)
    assert settle(window, 30)
    _field(window, "Leave out picture 4").click()  # type: ignore[attr-defined]
    assert settle(window, 30)
    read = profile_named("ours", profile_dir())
    assert (read.label, read.scale, read.up, read.limits.triangles, "ply" in read.files) == ("Our engine", 100.0, "z", 500, True)
    assert read.pictures[0].name == "{name}-n.png" and read.pictures[1].parts == ("occlusion", "1", "0.5") and len(read.pictures) == 3
    # What makes no sense is said, and the file and the card stay as they were.
    _typed(window, "Name of picture 1", "what/ever")
    assert profile_named("ours", profile_dir()) == read and any("what/ever" in s for s in said)
    assert _field(window, "Name of picture 1").text() == "{name}-n.png"  # type: ignore[attr-defined]
    assert any(c.id == "triangles" and c.level == "wrong" for c in window.strip.checks) or settle(window, 30)
    program.run(program.commands["drop-profile"])
    assert program.values(DeliverValues).profile == "y-up-metres" and (profile_dir() / "ours.toml.aside").is_file()


def _drag(window: Window, start: QPoint, end: QPoint) -> None:
    QTest.mousePress(window.form, Qt.MouseButton.LeftButton, pos=start)
    for k in range(1, 7):
        QTest.mouseMove(window.form, start + (end - start) * k / 6)
        QTest.qWait(20)
    QTest.mouseRelease(window.form, Qt.MouseButton.LeftButton, pos=end)


def test_stopping_a_bake_brings_the_last_maps_back(window: Window) -> None:
    program = window.program
    program.put(DeliverValues, "rays", 8)
    program.run(program.commands["bake"])
    assert settle(window, 120)
    kept = program.baked
    program.put(DeliverValues, "map_size", 4096)
    program.put(DeliverValues, "samples", 4)
    program.run(program.commands["bake"])
    QTest.qWait(1200)
    program.tasks.stop()
    assert settle(window, 120)
    assert program.baked is kept
    window.show_stage("layout")
    assert settle(window, 60) and not window.flat.scene.skins


def test_large_layers_come_to_the_same_picture_beside_the_window(window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    program = window.program

    def seen() -> tuple[np.ndarray, np.ndarray]:
        program.show(replace(program.display, lit=True))
        lit = picture(window)
        program.run(program.commands["hard-by-angle"])
        hard = picture(window)
        program.document.undo()
        window.show_stage("topology")
        program.show(program.display.toggled("gap"))
        gaps = picture(window)
        program.show(program.display.toggled("gap"))
        window.show_stage("deliver")
        assert np.abs(lit - gaps).mean() > 3
        return hard, gaps

    at_once = seen()
    # The same once more, with everything counted as large; what was found before is forgotten.
    STORE.clear()
    for module, name in ((scene_lit, "AT_ONCE"), (derive, "AT_ONCE"), (beside, "LARGE")):
        monkeypatch.setattr(module, name, 1)
    later = seen()
    for a, b in zip(at_once, later, strict=True):
        assert np.abs(a - b).max() <= 2
