"""Words along the edges of the window: the sentence of the moment, what undo would take back, the name of the project."""

from __future__ import annotations

import time
from collections.abc import Callable

from PySide6.QtCore import QObject, QTimer
from PySide6.QtWidgets import QWidget

from jacket.commands.general import project_name
from jacket.program import Program
from jacket.qt.strip import Strip
from jacket.qt.tickets import TopBar

VIEW_HINT = "Right-drag turns · middle-drag shifts · wheel nears · right-click for what fits here"


class Hints(QObject):
    """What is said stays for a while; then the hint about the views comes back."""

    def __init__(self, program: Program, top: TopBar, strip: Strip, window: QWidget) -> None:
        super().__init__(window)
        self.program, self.top, self.strip, self.window = program, top, strip, window
        self._until = 0.0

    def say(self, text: str) -> None:
        """Show a sentence in the hint line for a while."""
        self.strip.hint.setText(text)
        self._stay(6.0)

    def offer(self, text: str, again: Callable[[], None]) -> None:
        """Show a sentence with a button to do something again."""
        self.strip.offer(text, again)
        self._stay(20.0)

    def _stay(self, seconds: float) -> None:
        self._until = time.monotonic() + seconds
        QTimer.singleShot(round(1000 * seconds) + 100, self, self.show)

    def clear(self) -> None:
        """Nothing that was said holds any more."""
        self._until = 0.0
        self.show()

    def show(self) -> None:
        """The hint about the views, where nothing was said lately."""
        if time.monotonic() >= self._until and not self.program.tasks.busy:
            self.strip.again.hide()
            self.strip.hint.setText(VIEW_HINT)

    def show_warming(self, fraction: float | None, what: str) -> None:
        """Progress of getting ready, wherever no work of the user's is shown."""
        if not self.program.tasks.busy:
            self.strip.show_progress(fraction, what)
            if fraction is None:
                self.show()

    def show_status(self) -> None:
        """What undo would take back, the mirror, the project and whether it is saved."""
        doc = self.program.document
        parts = [f"Undo: {doc.last_step}" if doc.last_step else "Nothing to undo"]
        if doc.state.mirror:
            parts.append(f"mirror {doc.state.mirror.upper()} on")
        if self.strip.status.text() != "   ·   ".join(parts):
            self.strip.status.setText("   ·   ".join(parts))
        saved = "unsaved changes" if doc.dirty else ("saved" if doc.path else "not saved yet")
        self.top.show_file(project_name(doc.path), saved)
        title = f"{project_name(doc.path)}{' *' if doc.dirty else ''} – Jacket"
        if title != self.window.windowTitle():
            self.window.setWindowTitle(title)
