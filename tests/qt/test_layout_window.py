"""The Layout stage in the real window: packing watched and taken, the ledger, numbers typed, what other layers take."""

from __future__ import annotations

import time

import numpy as np
from PySide6.QtCore import QCoreApplication, QEvent
from PySide6.QtWidgets import QApplication, QLabel, QLineEdit, QPushButton

from jacket.core.derive import islands_of
from jacket.core.layout.margins import least_margin
from jacket.core.uv.sheets import Sheet
from jacket.document.islands import with_island_numbers
from jacket.document.state import JacketObject, State
from jacket.qt.app import settle
from jacket.qt.fields import NumberField
from jacket.qt.window import Window
from tests.core.layout.test_search import circle, flat, lumps, square
from tests.host import put


def shown(window: Window) -> Window:
    """Two layers with islands that are not laid out yet, in the Layout stage."""
    layers = (JacketObject(1, "a", flat(*lumps(6, 21), square(1.0))), JacketObject(2, "b", flat(circle(20), square(1.5))))
    state = State((), layers, active=1, next_id=3, sheets=(Sheet(margin=5.0),))
    window.document.mark_saved("")
    window.document.open(with_island_numbers(State(), state), "")
    window.show_stage("layout")
    settle(window)
    return window


def named(window: Window, kind: type, name: str):  # type: ignore[no-untyped-def]
    # Cards that were filled anew are behind those that go.
    return [w for w in window.panel.findChildren(kind) if w.accessibleName() == name][-1]


def test_packing_is_watched_and_taken_when_it_is_good_enough(window: Window) -> None:
    shown(window)
    put(window.program, seconds=60.0, together=True)
    panel = window.flat.packing
    window.run(window.commands["pack"])
    assert panel.isVisible() and not panel.button.isEnabled()
    end = time.monotonic() + 40
    while time.monotonic() < end and not (panel.shown is not None and len(panel.shown.curve) > 2):
        QApplication.processEvents()
        time.sleep(0.01)
    view = panel.shown
    assert view is not None and view.curve[-1][1] > view.curve[0][1]
    # The best so far lies on the sheet already, the document is as it was.
    assert window.flat.shown is not None and window.document.last_step == ""
    assert not np.array_equal(window.flat.shown.jacket.mesh.uv, window.document.require_jacket().mesh.uv)
    assert panel.button.isEnabled() and not panel.grab().isNull()
    panel.button.click()
    settle(window, 30)
    assert not panel.isVisible() and window.flat.shown is None and window.document.last_step == "pack the sheets"
    assert "% used" in window.strip.hint.text()
    state = window.document.state
    for jacket in state.jackets:
        islands = islands_of(jacket.mesh, state.sheets)
        assert least_margin(islands).pixels >= 5.0
    # The other layer is seen on the sheet while layers are packed together, and counts in the gauge.
    assert [m is j.mesh for m, j in zip(window.flat.beside, state.jackets[1:], strict=True)] == [True]
    with_other = len(window.flat.scene.layers)
    put(window.program, together=False)
    assert window.flat.beside == [] and len(window.flat.scene.layers) == with_other - 1
    window.run(window.commands["undo"])
    assert np.array_equal(window.document.state.jackets[1].mesh.uv, flat(circle(20), square(1.5)).uv)


def test_the_ledger_finds_sorts_holds_and_ticks_off(window: Window) -> None:
    shown(window)
    put(window.program, seconds=0.6)
    window.run(window.commands["pack"])
    settle(window, 30)
    records = window.document.require_jacket().islands
    rows = [b for b in window.panel.findChildren(QPushButton) if b.accessibleName() in {r.name for r in records}]
    assert len(rows) == 7
    named(window, QPushButton, records[2].name).click()
    assert window.document.state.held.of("faces").tolist() == [2]
    named(window, QPushButton, f"{records[2].name} is done").click()
    settle(window)
    assert [r.done for r in window.document.require_jacket().islands] == [k == 2 for k in range(7)]
    search = named(window, QLineEdit, "Find islands by name or group")
    search.setText(records[4].name)
    search.textEdited.emit(records[4].name)
    settle(window)
    left = {b.accessibleName() for b in window.panel.findChildren(QPushButton) if b.isVisibleTo(window.panel)}
    assert records[4].name in left and not {r.name for r in records if records[4].name not in r.name} & left
    # A layer that is still empty has no rows whose looks could change.
    window.run(window.commands["add-layer"])
    settle(window)
    assert "None yet; cut or flatten first." in [w.text() for w in window.panel.findChildren(QLabel)]
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
    window.panel.refresh({"held"})


def test_places_are_typed_and_what_is_refused_is_shown_as_it_is(window: Window) -> None:
    shown(window)
    put(window.program, seconds=0.6)
    window.run(window.commands["pack"])
    settle(window, 30)
    window.document.hold("faces", [6])
    settle(window)

    def box() -> np.ndarray:
        return islands_of(window.document.require_jacket().mesh, window.document.state.sheets).boxes[6] * 1024

    before = box()
    for label, text in (("Left", "100"), ("Bottom", "2*60"), ("Across", "7.5"), ("Width", "50"), ("Turn by", "90")):
        field = named(window, NumberField, label)
        field.setText(text)
        field.editingFinished.emit()
    after = box()
    # A square of 50 whose middle stayed while it shrank; a quarter turn leaves it as it is.
    side = before[2] - before[0]
    assert abs((after[2] - after[0]) - 50) < 0.1 and abs((after[3] - after[1]) - 50) < 0.1
    assert abs((after[0] + after[2]) / 2 - (107.5 + side / 2)) < 0.1 and abs((after[1] + after[3]) / 2 - (120 + side / 2)) < 0.1
    steps = [s.name for s in window.document.history.done]
    assert steps[-5:] == ["move islands", "move islands", "move islands", "scale islands", "turn islands"]
    field = named(window, NumberField, "Height")
    field.setText("nonsense")
    field.editingFinished.emit()
    assert field.text().startswith(f"{after[3] - after[1]:.0f}")
