"""The Seams stage in the real window: looking ahead, islands that follow a cut, seam sets tried on, sight lines."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QPushButton

from jacket.core.flatten.unwrap import unwrap
from jacket.core.seams.cuts import cut_edges
from jacket.core.seams.kept import set_names
from jacket.core.uv.sets import cut_flags, island_labels
from jacket.document.document import Document
from jacket.document.state import JacketObject, State
from jacket.qt.app import make_app, settle
from jacket.qt.window import Window
from jacket.settings import Settings
from tests.conftest import gone, grid
from tests.host import toggle
from tests.qt.test_window import Hand


@pytest.fixture
def window(qtbot) -> Iterator[Window]:  # type: ignore[no-untyped-def]
    """A bent sheet of 10 × 10 quads, flat on the sheet, seen from the front, in the Seams stage."""
    make_app(["test"])
    sheet = grid(10)
    points = (sheet.points - [5, 5, 0]) * 0.2
    points[:, 2] = 0.3 * np.cos(points[:, 0]) * np.cos(points[:, 1])
    flat, _ = unwrap(cut_edges(sheet.with_points(points), np.zeros(0, np.int32)))
    flat = flat.with_uv(flat.uv * 0.3 + 0.5)
    made = Window(Document(State((), (JacketObject(1, "sheet", flat),), active=1, next_id=2)), Settings())
    made.show()
    qtbot.waitExposed(made)
    made.show_stage("seams")
    made.form.camera = made.form.camera.__class__(np.zeros(3), 4.0, 0.0, 0.0, width=made.form.width(), height=made.form.height())
    assert settle(made, 60)
    yield made
    gone(made)


def middle(window: Window, a: int, b: int) -> QPoint:
    mesh = window.document.require_jacket().mesh
    x, y, _ = window.form.camera.project(mesh.points[[a, b]].mean(axis=0))[0]
    return QPoint(round(float(x)), round(float(y)))


def test_what_a_cut_would_do_is_shown_and_dropped(window: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    hand = Hand(qtbot, window)
    hand.hover(middle(window, 60, 61))
    qtbot.waitUntil(lambda: window.form.inset is not None, timeout=8000)
    found, asked = window.form.inset
    assert found.pieces == 1 and len(found.faces) == 100 and asked.offers == 5 and np.isfinite(found.after)
    # Space goes on to the loop, which would free half the sheet.
    qtbot.keyClick(window, Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: window.form.inset is not None and window.form.inset[0].pieces == 2, timeout=8000)
    found, asked = window.form.inset
    assert asked.turn == 1 and len(found.faces) == 50 and found.after < found.before
    assert window.form.grab().toImage().pixelColor(30, window.form.height() - 30) == window.colours.card
    hand.hover(QPoint(3, 60))
    qtbot.waitUntil(lambda: window.form.inset is None, timeout=4000)


def test_islands_follow_a_cut_where_they_lie(window: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    hand, document = Hand(qtbot, window), window.document
    before = document.require_jacket().mesh
    hand.click(middle(window, 60, 61), keys=Qt.KeyboardModifier.ShiftModifier)
    assert document.last_step == "cut the loop" and cut_flags(document.require_jacket().mesh).sum() == 10
    assert settle(window, 30)
    after = document.require_jacket().mesh
    count, labels = island_labels(after)
    assert count == 2 and np.isfinite(after.uv).all() and not np.array_equal(after.uv, before.uv)
    for k in range(2):
        own = labels[after.face_of_corner] == k
        assert np.linalg.norm(after.uv[own].mean(axis=0) - before.uv[own].mean(axis=0)) < 0.01
        # Halves of the dome lie a little flatter than they did, hardly turned.
        assert np.linalg.norm(after.uv[own] - before.uv[own], axis=1).max() < 0.03
    # It belongs to the cut: one step back and all is as it was.
    document.undo()
    assert np.array_equal(document.require_jacket().mesh.uv, before.uv) and not cut_flags(document.require_jacket().mesh).any()
    toggle(window.program, "threads")
    hand.click(middle(window, 60, 61), keys=Qt.KeyboardModifier.ShiftModifier)
    assert settle(window, 30) and len(window.flat.scene.layers) > 3


def rows(window: Window) -> dict[str, QPushButton]:
    card = next(c for c in window.panel.stage_cards if c.name == "seams sets")
    return {b.accessibleName(): b for b in card.findChildren(QPushButton) if b.objectName() in ("row", "chosen") and not b.isHidden()}


def test_seam_sets_are_tried_on_with_their_figures(window: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    document = window.document
    document.hold("edges", [window.document.require_jacket().mesh.topology.find_edge(60, 61)])
    window.run(window.commands["cut-held"])
    window.run(window.commands["suggest-seams"])
    assert settle(window, 60)
    assert set_names(document.require_jacket().mesh) == ["As cut", "Suggested"]
    qtbot.waitUntil(lambda: settle(window, 10) and not window.foreseeing.busy, timeout=20000)
    assert window.display.tried == "Suggested" and set(rows(window)) == {"As cut", "Suggested"}
    qtbot.mouseClick(rows(window)["Suggested"], Qt.MouseButton.LeftButton)
    assert window.display.tried == ""
    qtbot.waitUntil(lambda: "Suggested" in rows(window), timeout=4000)
    qtbot.mouseClick(rows(window)["Suggested"], Qt.MouseButton.LeftButton)
    assert window.display.tried == "Suggested"
    card = next(c for c in window.panel.stage_cards if c.name == "seams sets")

    def told() -> list[str]:
        return [w.text() for w in card.findChildren(type(card.title)) if not w.isHidden()]

    qtbot.waitUntil(lambda: told().count("1") >= 2 and any(t.endswith("%") for t in told()), timeout=8000)
    # Cutting by hand shows what is cut again.
    Hand(qtbot, window).click(middle(window, 40, 41))
    assert window.display.tried == "" and document.last_step == "cut the edge"


def test_sight_lines_make_seen_seams_glow(window: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    Hand(qtbot, window).click(middle(window, 60, 61), keys=Qt.KeyboardModifier.ShiftModifier)
    assert settle(window, 30)
    plain = len(window.form.scene.layers)
    window.run(window.commands["sight-here"])
    qtbot.waitUntil(lambda: settle(window, 10) and len(window.form.scene.layers) > plain, timeout=20000)
    qtbot.waitUntil(lambda: any(c.id == "seen-seams" for c in window.strip.checks), timeout=8000)
    eye, target = window.looks_from()
    assert window.document.state.sights[0].eye == pytest.approx(eye) and target == (0.0, 0.0, 0.0)


def test_the_place_under_the_pointer_is_marked_in_the_other_view(window: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    mesh = window.document.require_jacket().mesh
    hand = Hand(qtbot, window)
    corner = int(np.flatnonzero(mesh.corners == 60)[0])
    x, y = window.flat.camera.project(mesh.uv[[corner]] + [0.001, 0.001])[0]
    hand.hover(QPoint(round(float(x)), round(float(y))), window.flat)
    qtbot.waitUntil(lambda: window.form.overlay.spot is not None, timeout=4000)
    assert np.linalg.norm(window.form.overlay.spot - mesh.points[60]) < 0.05
    x, y, _ = window.form.camera.project(mesh.points[60])[0]
    window.flat.leaveEvent(None)
    hand.hover(QPoint(round(float(x)) + 2, round(float(y)) + 2))
    qtbot.waitUntil(lambda: window.flat.overlay.spot is not None, timeout=4000)
    assert np.linalg.norm(window.flat.overlay.spot - mesh.uv[corner]) < 0.01
    # While the form turns it would lie; it is back once the form stands still, though nothing else happens then.
    at = QPoint(round(float(x)) + 2, round(float(y)) + 2)
    hand.drag(at, at + QPoint(9, 0), button=Qt.MouseButton.RightButton)
    hand.hover(at)
    qtbot.waitUntil(lambda: not window.form.moving, timeout=4000)
    qtbot.waitUntil(lambda: window.flat.overlay.spot is not None, timeout=4000)


def test_a_sight_line_has_a_picture_with_its_seams(window: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    from jacket.core.seams.sight import Sight
    from jacket.qt.sightpictures import sight_picture
    from jacket.qt.theme import DAY

    mesh = window.document.require_jacket().mesh
    row = np.zeros(mesh.topology.n_edges, bool)
    row[[mesh.topology.find_edge(55 + k, 56 + k) for k in range(10)]] = True

    def saffron(eye: tuple[float, float, float], cut: np.ndarray) -> int:
        image = sight_picture(mesh, Sight(1, "a", "eye", eye, (0.0, 0.0, 0.0)), cut, DAY).toImage()
        colours = [image.pixelColor(x, y).getRgb()[:3] for x in range(image.width()) for y in range(image.height())]
        return sum(abs(r - 227) + abs(g - 167) + abs(b - 18) < 60 for r, g, b in colours)

    assert saffron((0, 0, 5.0), row) > 60 and saffron((0, 0, 5.0), ~row & row) == 0
    assert saffron((0, 0, -5.0), row) == 0  # from behind the sheet shows its back: nothing is drawn of it
