"""Saving beside the window: the state is frozen, packed and written in a thread, and marked as saved when it is on disk."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QApplication

from jacket.document.document import Document
from jacket.document.state import State
from jacket.formats.project.maps import KeptMaps
from jacket.formats.project.records import save_project
from jacket.progress import Progress
from jacket.qt.work import Worker


class Saver(QObject):
    """Writes one project at a time; what is wished for meanwhile is written after it."""

    def __init__(self, document: Document, say: Callable[[str], None], saved: Callable[[str], None], parent: QObject) -> None:
        super().__init__(parent)
        self.document, self.say, self.saved = document, say, saved
        self.worker = Worker(self)
        self.maps: Callable[[], KeptMaps | None] = lambda: None
        """What was baked and is saved with the work."""
        self._next: str | None = None
        self._good = True

    @property
    def busy(self) -> bool:
        """Whether something is being written."""
        return self.worker.busy

    def save(self, path: str) -> None:
        """Write the present state to a file."""
        if self.busy:
            self._next = path
            return
        state, maps = self.document.state, self.maps()

        def job(progress: Progress) -> State:
            save_project(state, Path(path), maps)
            return state

        self.worker.start("save", job, lambda done: self._done(path, done), self._failed)

    def _done(self, path: str, state: State) -> None:
        self._good = True
        self.document.mark_saved(path, state)
        self.saved(path)
        self._go_on()

    def _failed(self, sentence: str) -> None:
        self._good = False
        self.say(sentence)
        self._go_on()

    def _go_on(self) -> None:
        path, self._next = self._next, None
        if path is not None:
            self.save(path)

    def wait(self, seconds: float = 600.0) -> bool:
        """Let the window run until everything is on disk; whether it is. For closing."""
        end = time.monotonic() + seconds
        while self.busy and time.monotonic() < end:
            QApplication.processEvents()
            time.sleep(0.005)
        return self._good and not self.busy
