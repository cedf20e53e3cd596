"""Long work beside the window: one job at a time with progress and a way to stop it."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, Signal

from jacket.errors import Cancelled, JacketError
from jacket.progress import Progress

log = logging.getLogger("jacket")


class Worker(QObject):
    """Runs a function in a thread of its own; results and errors come back in the window's thread."""

    progressed = Signal(float, str)
    finished = Signal(object, object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._thread: threading.Thread | None = None
        self._stop = threading.Event()
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
            raise JacketError(f"Jacket is still busy {self.name}; wait for it or stop it.")
        self.name, self._done, self._failed = name, done, failed
        self._stop.clear()
        self._thread = threading.Thread(target=self._run, args=(job,), daemon=True, name=f"jacket {name}")
        self._thread.start()

    def stop(self) -> None:
        """Ask the job to stop; it does at its next report of progress."""
        self._stop.set()

    def wait(self, seconds: float) -> None:
        """Wait for the thread to end, for closing down."""
        thread = self._thread
        if thread is not None:
            thread.join(seconds)

    def _progress(self, fraction: float, what: str) -> None:
        if self._stop.is_set():
            raise Cancelled
        self.progressed.emit(fraction, what)

    def _run(self, job: Callable[[Progress], Any]) -> None:
        try:
            result, error = job(self._progress), None
        except JacketError as problem:
            result, error = None, str(problem)
        except Exception:
            log.exception("unexpected failure while %s", self.name)
            result, error = None, f"Something unexpected went wrong while {self.name}; the log tells more."
        try:
            self.finished.emit(result, error)
        except RuntimeError:  # the window went away meanwhile
            log.info("the window closed before %s was done", self.name)

    def _take(self, result: Any, error: str | None) -> None:
        done, failed = self._done, self._failed
        self._thread = None
        self._done = self._failed = None
        if error is not None and failed is not None:
            failed(error)
        elif done is not None:
            done(result)
