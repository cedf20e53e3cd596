"""Trials, poles and rows from their cards in the real window."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator

import numpy as np
import pytest
from PySide6.QtWidgets import QApplication

from bench import parts
from jacket.core.mesh.poles import irregular_count, irregular_points, is_pole
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.auto import AutoSettings, automatic_quads
from jacket.core.rows.measure import rings
from jacket.document.document import Document
from jacket.document.state import JacketObject, SourceObject, State
from jacket.document.task import Task
from jacket.qt.app import make_app, settle
from jacket.qt.window import Window
from jacket.settings import Settings
from jacket.stages.topology.tools.tidying import Tidy
from jacket.stages.topology.values import TopologyValues
from tests.conftest import gone, grid
from tests.hands import document_over
from tests.host import Headless, put, toggle
from tests.stages.test_commands import box, run


@pytest.fixture(scope="module")
def jacket(spot: PolyMesh) -> PolyMesh:
    return automatic_quads(spot, AutoSettings(quads=1200)).mesh


def pole_pairs(mesh: PolyMesh) -> list[tuple[int, int]]:
    odd, valence = irregular_points(mesh), mesh.topology.valence
    pairs = [(float(np.linalg.norm(mesh.points[a] - mesh.points[b])), int(a), int(b)) for a in odd for b in odd
             if a < b and valence[a] + valence[b] == 8]  # fmt: skip
    return [(a, b) for _, a, b in sorted(pairs)]


@pytest.fixture
def window(qtbot, spot: PolyMesh, jacket: PolyMesh) -> Iterator[Window]:  # type: ignore[no-untyped-def]
    make_app(["test"])
    state = State((SourceObject(1, "spot", spot),), (JacketObject(2, "jacket", jacket),), active=2, next_id=3)
    made = Window(Document(state), Settings())
    made.show()
    qtbot.waitExposed(made)
    made.frame(True)
    made.show_stage("topology")
    assert settle(made, 60)
    yield made
    gone(made)


def test_the_field_is_shown_before_there_are_quads(window: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    put(window.program, quads=1500)
    window.run(window.commands["make-trial"])
    qtbot.waitUntil(lambda: window.program.strokes is not None, timeout=60_000)
    assert len(window.program.strokes) > 500 and not window.document.state.trials
    assert settle(window, 60) and window.program.strokes is None
    assert len(window.document.state.trials) == 1
    toggle(window.program, "split")
    assert settle(window, 60) and window.form.halves == ("Trial 1", "jacket") and window.form.scene.beside
    left = window.form.grabFramebuffer()
    toggle(window.program, "split")
    settle(window, 60)
    assert window.form.halves is None and not window.form.scene.beside
    whole = window.form.grabFramebuffer()
    middle = left.width() // 2
    same = [left.copy(0, 60, middle - 4, left.height() - 70) == whole.copy(0, 60, middle - 4, left.height() - 70),
            left.copy(middle + 4, 60, middle - 8, left.height() - 70) == whole.copy(middle + 4, 60, middle - 8, left.height() - 70)]  # fmt: skip
    assert same == [True, False]


def test_stopping_frees_the_window_within_a_second(window: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    """Even where a step does not report for long; what it brings later is thrown away."""
    free = threading.Event()
    taken: list[object] = []
    window.program.start(Task("sleep", lambda progress: free.wait(20), taken.append))
    start = time.monotonic()
    window.program.tasks.stop()
    qtbot.waitUntil(lambda: not window.worker.busy, timeout=3000)
    assert time.monotonic() - start < 1.0
    window.program.start(Task("count", lambda progress: 7, taken.append))
    qtbot.waitUntil(lambda: not window.worker.busy, timeout=3000)
    free.set()
    QApplication.processEvents()
    time.sleep(0.1)
    QApplication.processEvents()
    assert taken == [7]


def test_poles_are_cancelled_from_the_card(window: Window, jacket: PolyMesh, qtbot) -> None:  # type: ignore[no-untyped-def]
    window.take_tool("tidy")
    a, b = pole_pairs(jacket)[0]
    window.document.hold("points", [a, b])
    assert isinstance(window.tool, Tidy)
    window.tool.preview("cancel-pair", window.program.values(TopologyValues))
    assert window.tool.ghost.what
    before = irregular_count(jacket)
    window.run(window.commands["cancel-pair"])
    assert settle(window, 60)
    now = window.document.require_jacket().mesh
    assert irregular_count(now) < before or "grid" in window.strip.hint.text() or "row" in window.strip.hint.text()
    window.document.hold("points", [a])
    window.run(window.commands["cancel-pair"])
    assert settle(window, 60) and "two irregular points" in window.strip.hint.text()


def test_rows_are_taken_out_and_added_from_the_card() -> None:
    document = document_over(parts.box(1, 1, 1), box(2))
    host = Headless(document.state)
    mesh = host.document.require_jacket().mesh
    edge = 0
    host.document.hold("edges", [edge])
    more = run(host, "add-row")
    assert more.n_faces == mesh.n_faces + 16 and more.is_quads
    host.document.undo()
    host.document.hold("edges", [edge])
    fewer = run(host, "collapse-row")
    assert fewer.n_faces == mesh.n_faces - 16 and fewer.is_quads and is_pole(fewer, int(irregular_points(fewer)[0]))
    # Edges that one row crosses are one row, and where nothing is left nothing more is looked for.
    ring = np.flatnonzero(rings(mesh).of_edge == rings(mesh).of_edge[edge])
    for command, quads in (("add-row", more.n_faces), ("collapse-row", fewer.n_faces)):
        host.document.undo()
        host.document.hold("edges", ring[:5])
        assert run(host, command).n_faces == quads
    alone = Headless(document_over(parts.box(1, 1, 1), grid(1, 1)).state)
    alone.document.hold("edges", np.arange(4))
    assert run(alone, "collapse-row").n_faces == 0
