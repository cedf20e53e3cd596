"""Autosave and recovery: a copy of unsaved work in the state folder, one per running window."""

from __future__ import annotations

import json
import logging
import os
import threading
from pathlib import Path

from jacket.document.document import Document
from jacket.document.state import State
from jacket.errors import JacketError
from jacket.formats.project.records import load_project, save_project
from jacket.settings.store import state_dir

log = logging.getLogger("jacket")


class Keeper:
    """Writes the document aside from time to time, in a thread, while it is dirty."""

    def __init__(self, document: Document) -> None:
        self.document = document
        self.folder = state_dir() / "recovery"
        self.file = self.folder / f"{os.getpid()}.jacket"
        self._kept: State | None = None
        self._adopted: list[Path] = []
        self._thread: threading.Thread | None = None

    def keep(self) -> bool:
        """Start writing if there is something new; whether it did."""
        state = self.document.state
        if not self.document.dirty or state is self._kept or (self._thread is not None and self._thread.is_alive()):
            return False
        self._kept = state
        path = self.document.path
        self._thread = threading.Thread(target=self._write, args=(state, path), daemon=True)
        self._thread.start()
        return True

    def _write(self, state: State, path: str) -> None:
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            save_project(state, self.file)
            self.file.with_suffix(".json").write_text(json.dumps({"path": path, "pid": os.getpid()}))
        except (JacketError, OSError):
            log.exception("autosave failed")

    def wait(self, seconds: float = 10.0) -> None:
        """Wait for a write that is under way."""
        if self._thread is not None:
            self._thread.join(seconds)

    def adopt(self, file: Path) -> None:
        """Look after a recovery file whose work was taken up again: it stays until that is saved or given up."""
        self._adopted.append(file)

    def clear(self) -> None:
        """Nothing needs recovering: saved or given up on purpose."""
        self.wait()
        for file in (self.file, *self._adopted):
            forget(file)
        self._adopted.clear()
        self._kept = self.document.state


def left_behind() -> list[Path]:
    """Recovery files whose window is no longer running, newest first."""
    folder = state_dir() / "recovery"
    found = []
    for file in folder.glob("*.jacket") if folder.is_dir() else []:
        if not file.stem.isdigit() or not _alive(int(file.stem)):
            found.append(file)
    return sorted(found, key=lambda f: -f.stat().st_mtime)


def _alive(pid: int) -> bool:
    if pid == os.getpid():
        return True
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True


def recover(file: Path) -> tuple[State, str]:
    """The state in a recovery file and the path of the project it came from."""
    path = ""
    try:
        path = str(json.loads(file.with_suffix(".json").read_text()).get("path", ""))
    except (OSError, ValueError):
        log.info("no note beside %s", file)
    return load_project(file), path


def forget(file: Path) -> None:
    """Remove a recovery file and its note."""
    file.unlink(missing_ok=True)
    file.with_suffix(".json").unlink(missing_ok=True)
