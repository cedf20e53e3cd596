"""Long work beside the window: one job at a time with progress and a way to stop it."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from jacket.errors import Cancelled, JacketError
from jacket.progress import Progress

log = logging.getLogger("jacket")
LET_GO = 600
"""Milliseconds after which a job that was told to stop is no longer waited for."""


class Worker(QObject):
    """Runs a function in a thread of its own; results and errors come back in the window's thread."""

    progressed = Signal(float, str)
    finished = Signal(int, object, object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._thread: threading.Thread | None = None
        self._stop = threading.Event()
        self._number = 0
        self._done: Callable[[Any], None] | None = None
        self._failed: Callable[[str], None] | None = None
        self.name = ""
        self.finished.connect(self._take)

    @property
    def busy(self) -> bool:
        """Whether a job is running."""
        return self._thread is not None

    def start(
        self, name: str, job: Callable[[Progress], Any], done: Callable[[Any], None], failed: Callable[[str], None]
    ) -> None:
        """Begin a job; raises JacketError while another is running."""
        if self.busy:
            raise JacketError(f"'{self.name}' is still under way; wait for it or stop it.")
        self.name, self._done, self._failed = name, done, failed
        self._stop = threading.Event()
        self._number += 1
        self._thread = threading.Thread(
            target=self._run, args=(job, self._number, self._stop), daemon=True, name=f"jacket {name}"
        )
        self._thread.start()

    def stop(self) -> None:
        """Ask the job to stop; it does at its next report of progress. Where that takes longer than a moment the window
        no longer waits for it, and what it still brings is thrown away."""
        self._stop.set()
        number = self._number
        if self.busy:
            QTimer.singleShot(LET_GO, self, lambda: self._take(number, None, str(Cancelled())))

    def wait(self, seconds: float) -> None:
        """Wait for the thread to end, for closing down."""
        thread = self._thread
        if thread is not None:
            thread.join(seconds)

    def _run(self, job: Callable[[Progress], Any], number: int, stop: threading.Event) -> None:
        def progress(fraction: float, what: str) -> None:
            if stop.is_set():
                raise Cancelled
            self.progressed.emit(fraction, what)

        try:
            result, error = job(progress), None
        except JacketError as problem:
            result, error = None, str(problem)
        except Exception:
            log.exception("unexpected failure while %s", self.name)
            result, error = None, f"Something unexpected went wrong in '{self.name}'; the log tells more."
        try:
            self.finished.emit(number, result, error)
        except RuntimeError:  # the window went away meanwhile
            log.info("the window closed before %s was done", self.name)

    def _take(self, number: int, result: Any, error: str | None) -> None:
        if number != self._number or self._thread is None:
            return  # let go of already
        done, failed = self._done, self._failed
        self._thread = None
        self._done = self._failed = None
        if error is not None and failed is not None:
            failed(error)
        elif done is not None:
            done(result)
