"""The checks of the stage, looked at again in a thread whenever something changed."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtCore import QTimer

from jacket.core.checks.model import Check
from jacket.core.checks.source import offenders
from jacket.core.derive import crossings_of, forget_connectivity, form_of
from jacket.core.store import STORE
from jacket.document.state import State
from jacket.progress import Progress
from jacket.qt.work import Worker
from jacket.stages.checks import checks_of, key_numbers

if TYPE_CHECKING:
    from jacket.qt.window import Window


class Checking:
    """Keeps tickets and strip true: numbers that no longer hold are dimmed until new ones are known."""

    def __init__(self, window: Window) -> None:
        self.window = window
        self.worker = Worker(window)
        self.timer = QTimer(window, interval=130, singleShot=True)
        self.timer.timeout.connect(self._start)
        self._turn: dict[str, int] = {}
        self._closed = False
        self._source_turn: tuple[Any, int] = (None, -1)

    @property
    def busy(self) -> bool:
        """Whether numbers on screen may still change."""
        return self.timer.isActive() or self.worker.busy

    def ask(self) -> None:
        """Something changed: look again soon."""
        if not self._closed:
            self.window.strip.show_stale()
            self.timer.start()

    def close(self) -> None:
        """No more looking; wait for what is under way."""
        self._closed = True
        self.timer.stop()
        self.worker.wait(5)

    def _start(self) -> None:
        window = self.window
        if self.worker.busy or window.tool.busy or window.preparer.busy:
            self.timer.start()
            return
        state, stage = window.document.state, window.stage

        def job(progress: Progress) -> Any:
            return key_numbers(state), checks_of(state, stage)

        self.worker.start("checking", job, lambda result: self._done(result, state, stage), window.say)

    def _done(self, result: Any, state: State, stage: str) -> None:
        window = self.window
        if self._closed:
            return
        now = window.document.state
        same = all(getattr(now, p) is getattr(state, p) for p in ("sources", "jackets", "sheets"))
        same = same and now.chosen_source is state.chosen_source
        if window.stage != stage or not same:
            self.timer.start()
            return
        numbers, checks = result
        window.top.show_numbers(numbers, stale=False)
        window.strip.show_checks(checks)
        window.panel.show_health(state)

    def _show_on_source(self, check: Check) -> None:
        """Light all offenders of the chosen source; at another click frame them one by one."""
        window = self.window
        source = window.document.state.chosen_source
        if source is None or (check.level == "good" and check.id != "density"):
            window.say(f"{check.label}: nothing to show.")
            return
        mesh = source.mesh

        def job(progress: Progress) -> Any:
            progress(0.2, f"looking for {check.label.lower()}")
            found = STORE.get(form_of(mesh), ("offenders", check.id), lambda: offenders(mesh, check.id, crossings_of(mesh)))
            forget_connectivity(mesh)
            return found

        window.work(f"looking for {check.label.lower()}", job, lambda found: self._light(check, found))

    def _light(self, check: Check, found: Any) -> None:
        window = self.window
        if not found:
            window.say(f"{check.label}: nothing to show.")
            return
        key = (check.id, id(found))
        turn = self._source_turn[1] + 1 if self._source_turn[0] == key else -1
        self._source_turn = (key, turn)
        if turn < 0 or len(found) == 1:
            window.light(np.concatenate(found))
            if len(found) == 1:
                window.form.frame_points(found[0].reshape(-1, 3))
            more = "; click again to step through them" if len(found) > 1 else ""
            window.say(f"{check.label}: {check.value} lit{more}.")
            return
        one = found[turn % len(found)]
        window.light(one)
        window.form.frame_points(one.reshape(-1, 3))
        length = float(np.linalg.norm(one[:, 1] - one[:, 0], axis=1).sum())
        tail = f", {length:.4g} u round" if check.id == "holes" else ""
        window.say(f"{check.label}: {turn % len(found) + 1} of {len(found):,}{tail}.")

    def show(self, check: Check) -> None:
        """Show and hold what a check found; again for the next of them."""
        window = self.window
        state = window.document.state
        if window.stage == "source":
            self._show_on_source(check)
            return
        count = len(check.offenders)
        if count == 0 or check.kind == "none":
            window.say(f"{check.label}: nothing to show.")
            return
        turn = self._turn.get(check.id, -1)
        self._turn[check.id] = turn + 1
        if turn < 0 or state.held.kind != check.kind:
            window.document.hold(check.kind, check.offenders)
            window.say(f"{check.label}: all {count:,} held; click again to step through them.")
            return
        window.document.hold(check.kind, [check.offenders[turn % count]])
        window.frame(False)
        window.say(f"{check.label}: {turn % count + 1} of {count:,}.")
