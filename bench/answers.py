"""How soon the window answers: every stage, chip, tool, check and command on a large jacket, in the real window.

What is measured is the longest time in which no event is seen to: from an act, or between two looks at the event queue while
what it began goes on, less the drawing itself (done in software here). Work that goes on is stopped after a while, and the
time until it has stopped is measured too.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PySide6.QtCore import QCoreApplication, QEvent, QPointF, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QApplication, QFileDialog, QMenu, QMessageBox

from bench.house import cut_open, quads
from bench.parts import torus
from jacket.document.document import Document
from jacket.document.islands import with_island_numbers
from jacket.document.state import JacketObject, SourceObject, State
from jacket.qt.app import make_app, settle
from jacket.qt.views.glview import GlView
from jacket.qt.window import Window
from jacket.settings import Settings

HELD, STOPPED = 0.1, 1.0
"""Seconds asked: the longest the window is held, and the longest until work has stopped."""

LEFT = ("quit", "open", "night")


class Answers:
    """A window whose events are pumped, with what it was held by."""

    def __init__(self, window: Window) -> None:
        self.window = window
        self.rows: list[tuple[float, str]] = []
        self.stops: list[tuple[float, str]] = []
        self._drawn = 0.0
        self._composing: tuple[float, float] | None = None
        for view in (window.form, window.flat):
            self._watch(view)

    def _watch(self, view: GlView) -> None:
        paint = view.paintGL

        def timed() -> None:
            start = time.perf_counter()
            paint()
            self._drawn += time.perf_counter() - start

        view.paintGL = timed  # type: ignore[method-assign]
        # Views are put together with the rest of the window in software too.
        view.aboutToCompose.connect(self._composes)
        view.frameSwapped.connect(self._composed)

    def _composes(self) -> None:
        if self._composing is None:
            self._composing = time.perf_counter(), self._drawn

    def _composed(self) -> None:
        if self._composing is not None:
            start, drawn = self._composing
            self._drawn += time.perf_counter() - start - (self._drawn - drawn)
            self._composing = None

    def _step(self, act: Callable[[], object]) -> float:
        """Seconds an act takes without the drawing."""
        drawn, start = self._drawn, time.perf_counter()
        act()
        return time.perf_counter() - start - (self._drawn - drawn)

    def act(self, what: str, act: Callable[[], object], seconds: float = 3.0) -> None:
        """Do something and look on until all is still; what goes on for longer is stopped."""
        tasks = self.window.program.tasks
        longest = self._step(act)
        where = "itself"
        begin = time.perf_counter()
        asked = 0.0
        while time.perf_counter() - begin < 60:
            held = self._step(QApplication.processEvents)
            if held > longest:
                longest, where = held, f"after {time.perf_counter() - begin:.1f} s"
            now = time.perf_counter()
            if tasks.busy and now - begin > seconds and not asked:
                asked = now
                tasks.stop()
            if asked and not tasks.busy:
                self.stops.append((now - asked, what))
                asked = 0.0
            if now - begin > (0.3 if self.window.document.in_gesture else 0.05) and (self.window.settled or self.window.document.in_gesture):
                break
            for popup in QApplication.topLevelWidgets():
                if isinstance(popup, QMenu) and popup.isVisible():
                    popup.close()
            # A running application throws widgets away that it no longer shows; an event loop of one's own has to ask for it.
            QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
            time.sleep(0.001)
        self.rows.append((longest, f"{what} ({where})"))
        print(f"    {1000 * longest:6.0f} ms  {what} ({where})", file=sys.stderr, flush=True)

    def back(self, state: State) -> None:
        """As it was before, whatever was done."""
        program = self.window.program
        document = program.document
        program.tasks.stop()
        settle(self.window, 30)
        while document.state.jackets is not state.jackets and document.history.done:
            document.undo()
        if document.state.jackets is state.jackets and document.state.sources is state.sources:
            document.amend(state)
        else:
            document.open(state, "")
        settle(self.window, 60)


def run() -> None:
    """50,000 quads with UVs and eight seams over a million triangles."""
    os.environ.setdefault("JACKET_HOME", tempfile.mkdtemp())
    make_app(["bench"])
    out = Path(tempfile.mkdtemp())
    n, m = 250, 200
    source = torus(1.0, 0.4, 1000, 500)
    state = State((SourceObject(1, "s", source),), (JacketObject(2, "j", cut_open(quads(n, m), n, m)),), active=2, next_id=3)
    state = with_island_numbers(State(), state)
    window = Window(Document(state), Settings())
    _answer(window, out)
    window.show()
    window.frame(True)
    settle(window, 300)
    looked = Answers(window)
    print(f"  {state.jackets[0].mesh.n_faces:,} quads over {source.n_faces:,} triangles")
    only = sys.argv[2:]
    for stage in window.program.stages:
        if only and stage not in only:
            continue
        looked.act(f"stage {stage}", lambda s=stage: window.show_stage(s))  # type: ignore[misc]
        _tools(looked)
        _checks(looked)
        _chips(looked)
        _commands(looked, stage)
    _told("the window is held", looked.rows, HELD)
    _told("work has stopped", looked.stops, STOPPED)
    window.filing.ask_to_leave = lambda: QMessageBox.StandardButton.Discard  # type: ignore[method-assign]
    window.close()


def _answer(window: Window, out: Path) -> None:
    """Dialogs are answered at once, with nothing where they ask for a file to read."""
    window.filing.ask_to_leave = lambda: QMessageBox.StandardButton.Discard  # type: ignore[method-assign]
    window.filing.ask_name = lambda: str(out / "saved.jacket")  # type: ignore[method-assign]
    window.ask_text = lambda title, label, text: text  # type: ignore[method-assign]
    QFileDialog.getOpenFileNames = staticmethod(lambda *a, **k: ([], ""))  # type: ignore[assignment, method-assign]
    QFileDialog.getOpenFileName = staticmethod(lambda *a, **k: ("", ""))  # type: ignore[assignment, method-assign]
    QFileDialog.getSaveFileName = staticmethod(lambda *a, **k: (str(out / "picture.png"), ""))  # type: ignore[assignment, method-assign]
    QFileDialog.getExistingDirectory = staticmethod(lambda *a, **k: str(out / "out"))  # type: ignore[assignment, method-assign]


def _mouse(view: GlView, kind: QEvent.Type, at: QPointF, button: Qt.MouseButton, held: Qt.MouseButton) -> None:
    event = QMouseEvent(kind, at, view.mapToGlobal(at), button, held, Qt.KeyboardModifier.NoModifier)
    QApplication.sendEvent(view, event)


def _tools(looked: Answers) -> None:
    """Each tool taken, over the form and the sheet: a look, a click, a short drag."""
    window = looked.window
    left, none = Qt.MouseButton.LeftButton, Qt.MouseButton.NoButton
    state = window.document.state
    for kind in window.program.stage.tools:
        looked.act(f"tool {kind.id}", lambda k=kind: window.take_tool(k.id))  # type: ignore[misc]
        for view in (window.form, window.flat):
            if not view.isVisible():
                continue
            at = QPointF(view.width() * 0.5, view.height() * 0.6)
            said = f"{kind.id} in the {view.view_name} view"
            looked.act(f"hover, {said}", lambda v=view, a=at: _mouse(v, QEvent.Type.MouseMove, a, none, none))  # type: ignore[misc]

            def click(v: GlView = view, a: QPointF = at) -> None:
                _mouse(v, QEvent.Type.MouseButtonPress, a, left, left)
                _mouse(v, QEvent.Type.MouseButtonRelease, a, left, none)

            looked.act(f"click, {said}", click)
            looked.act(f"press, {said}", lambda v=view, a=at: _mouse(v, QEvent.Type.MouseButtonPress, a, left, left))  # type: ignore[misc]
            for k in range(1, 4):
                to = at + QPointF(9 * k, 6 * k)
                looked.act(f"drag, {said}", lambda v=view, a=to: _mouse(v, QEvent.Type.MouseMove, a, none, left))  # type: ignore[misc]
            looked.act(f"release, {said}", lambda v=view, a=to: _mouse(v, QEvent.Type.MouseButtonRelease, a, left, none))  # type: ignore[misc]
        looked.back(state)


def _checks(looked: Answers) -> None:
    window = looked.window
    for k, check in enumerate(list(window.strip.checks)):
        looked.act(f"check {check.id}", lambda k=k: window.strip.chips[k].click() if k < len(window.strip.chips) else None)  # type: ignore[misc]


def _chips(looked: Answers) -> None:
    from jacket.commands.display import COLOURINGS, SWITCHES

    window = looked.window
    usual = window.display
    for name in (*COLOURINGS, *SWITCHES):
        looked.act(f"chip {name}", lambda n=name: window.program.show(window.display.toggled(n)))  # type: ignore[misc]
    looked.act("chips as before", lambda: window.program.show(usual))


def _commands(looked: Answers, stage: str) -> None:
    """Every command that belongs to this stage, those of none with the first, with half of the faces held first."""
    window = looked.window
    state = window.document.state
    mesh = window.document.require_jacket().mesh
    of_stages = {c.id: spec.id for spec in window.program.stages.values() for c in spec.commands}
    wanted = {c.id for c in window.commands if of_stages.get(c.id, "source") == stage}
    for command in list(window.commands):
        if command.id not in wanted or command.id.startswith((*LEFT, "stage-", "show-")):
            continue
        window.document.hold("faces", np.arange(mesh.n_faces // 2))
        settle(window, 60)
        looked.act(f"command {command.id}", lambda c=command: window.run(c))  # type: ignore[misc]
        looked.back(state)


def _told(what: str, rows: list[tuple[float, str]], asked: float) -> None:
    if not rows:
        return
    times = np.array([s for s, _ in rows]) * 1000
    over = sorted((r for r in rows if r[0] > asked), reverse=True)
    print(f"  {what}: median {np.median(times):.0f} ms, 95 % {np.percentile(times, 95):.0f} ms, {len(over)} of {len(rows)} over {1000 * asked:.0f} ms")
    for seconds, name in over[:40]:
        print(f"    {1000 * seconds:6.0f} ms  {name}")
