"""The checks of the stage, looked at again in a thread whenever something changed."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from jacket.core.checks.model import Check
from jacket.core.checks.source import offenders
from jacket.core.checks.topology import uncovered_places
from jacket.core.derive import crossings_of, forget_connectivity, form_of
from jacket.core.store import STORE
from jacket.document.state import State
from jacket.program import Program
from jacket.progress import Progress
from jacket.qt.work import Worker


@dataclass(frozen=True, eq=False)
class Looked:
    """Key lines by stage, and the checks of the stage that is shown."""

    lines: dict[str, Any]
    checks: list[Check]


class Checking(QObject):
    """Keeps tickets and strip true: what no longer holds is dimmed until the new is known."""

    stale = Signal()
    looked = Signal(object)

    def __init__(self, program: Program, wait: Callable[[], bool], parent: QObject) -> None:
        super().__init__(parent)
        self.program, self.wait_for = program, wait
        self.worker, self.finder = Worker(self), Worker(self)
        self.timer = QTimer(self, interval=130, singleShot=True)
        self.timer.timeout.connect(self._start)
        self._turn: dict[str, int] = {}
        self._closed = False
        self._source_turn: tuple[Any, int] = (None, -1)
        self._looked_at: State | None = None
        self._wanted: tuple[str, Callable[[Any], None]] | None = None

    @property
    def busy(self) -> bool:
        """Whether what is on screen may still change."""
        return self.timer.isActive() or self.worker.busy or self.finder.busy

    def ask(self) -> None:
        """Something changed: look again soon."""
        if not self._closed:
            self.stale.emit()
            self.timer.start()

    def close(self) -> None:
        """No more looking; wait for what is under way."""
        self._closed = True
        self.timer.stop()
        self.worker.wait(5)
        self.finder.stop()
        self.finder.wait(5)

    def _start(self) -> None:
        program = self.program
        if self.worker.busy or program.document.in_gesture or program.tool.busy or self.wait_for():
            self.timer.start()
            return
        state, stage = program.document.state, program.stage
        also = {s.id: s.also(program) for s in program.stages.values()}

        def job(progress: Progress) -> Looked:
            found = {s.id: [*s.checks(state), *also[s.id](state)] for s in program.stages.values()}
            return Looked({s.id: s.ticket(state, found[s.id]) for s in program.stages.values()}, found[stage.id])

        self.worker.start("check", job, lambda result: self._done(result, state, stage.id), program.say)

    def _done(self, result: Looked, state: State, stage: str) -> None:
        if self._closed:
            return
        if self.program.stage.id != stage or not self._holds(state):
            self.timer.start()
            return
        self._looked_at = state
        self.looked.emit(result)
        wanted, self._wanted = self._wanted, None
        check = next((c for c in result.checks if wanted is not None and c.id == wanted[0]), None)
        if wanted is not None and check is not None:
            self.show(check, wanted[1])

    def _holds(self, state: State | None) -> bool:
        """Whether what was found in a state is so still."""
        now = self.program.document.state
        same = state is not None and all(getattr(now, p) is getattr(state, p) for p in ("sources", "jackets", "sheets", "active", "sights"))
        return same and state is not None and now.chosen_source is state.chosen_source

    # ---- showing what was found --------------------------------------------------------------------------------
    def show(self, check: Check, frame: Callable[[Any], None]) -> None:
        """Show and hold what a check found; again for the next of them. `frame` looks at places (N, 3), or at what is held
        for None."""
        program = self.program
        if not self._holds(self._looked_at) or program.document.in_gesture:
            # What the chip tells of is no longer there as it was: it is shown as soon as it has been looked at again.
            self._wanted = (check.id, frame)
            program.say(f"{check.label}: it is being looked at again; a moment.")
            self.ask()
            return
        if program.stage.id == "source":
            self._show_on_source(check, frame)
            return
        if check.id == "uncovered":
            self._show_uncovered(check, frame)
            return
        count = len(check.offenders)
        if count == 0 or check.kind == "none":
            program.say(f"{check.label}: nothing to show.")
            return
        turn = self._turn.get(check.id, -1)
        self._turn[check.id] = turn + 1
        if turn < 0 or program.document.state.held.kind != check.kind:
            program.document.hold(check.kind, check.offenders)
            program.say(f"{check.label}: all {count:,} held; click again to step through them.")
            return
        program.document.hold(check.kind, [check.offenders[turn % count]])
        frame(None)
        program.say(f"{check.label}: {turn % count + 1} of {count:,}.")

    def _show_on_source(self, check: Check, frame: Callable[[Any], None]) -> None:
        """Light all offenders of the chosen source; at another click frame them one by one."""
        program = self.program
        source = program.document.state.chosen_source
        if source is None or (check.level == "good" and check.id != "density"):
            program.say(f"{check.label}: nothing to show.")
            return
        mesh = source.mesh
        if self.finder.busy:
            program.say(f"{check.label}: a moment; the last one is still being looked for.")
            return

        def job(progress: Progress) -> Any:
            progress(0.2, f"looking for {check.label.lower()}")
            found = STORE.get(form_of(mesh), ("offenders", check.id), lambda: offenders(mesh, check.id, crossings_of(mesh)))
            forget_connectivity(mesh)
            return found

        self.finder.start("look", job, lambda found: self._light(check, found, frame), program.say)

    def _show_uncovered(self, check: Check, frame: Callable[[Any], None]) -> None:
        """Light all places of the source that no visible layer covers; at another click frame them one by one."""
        program = self.program
        source, jackets = program.document.state.source, [j.mesh for j in program.document.state.jackets if j.visible and j.mesh.n_faces]
        if source is None or not jackets or self.finder.busy:
            program.say(f"{check.label}: {'a moment; the last one is still being looked for' if self.finder.busy else 'nothing to show'}.")
            return
        mesh = source.mesh
        grounds = (*form_of(mesh), *(a for m in jackets for a in form_of(m)))

        def job(progress: Progress) -> Any:
            progress(0.2, "looking for what is not covered")
            return STORE.get(grounds, "uncovered places", lambda: uncovered_places(mesh, jackets))

        self.finder.start("look", job, lambda found: self._light(check, found, frame), program.say)

    def _light(self, check: Check, found: list[Any], frame: Callable[[Any], None]) -> None:
        program = self.program
        if not found:
            program.say(f"{check.label}: nothing to show.")
            return
        key = (check.id, found)
        turn = self._source_turn[1] + 1 if self._source_turn[0] is not None and _same(self._source_turn[0], key) else -1
        self._source_turn = (key, turn)
        if turn < 0 or len(found) == 1:
            program.light(np.concatenate(found))
            if len(found) == 1:
                frame(found[0].reshape(-1, 3))
            more = "; click again to step through them" if len(found) > 1 else ""
            program.say(f"{check.label}: {check.value} lit{more}.")
            return
        one = found[turn % len(found)]
        program.light(one)
        frame(one.reshape(-1, 3))
        length = float(np.linalg.norm(one[:, 1] - one[:, 0], axis=1).sum())
        tail = f", {length:.4g} u round" if check.id == "holes" else ""
        program.say(f"{check.label}: {turn % len(found) + 1} of {len(found):,}{tail}.")


def _same(a: tuple[str, Any], b: tuple[str, Any]) -> bool:
    return a[0] == b[0] and a[1] is b[1]
