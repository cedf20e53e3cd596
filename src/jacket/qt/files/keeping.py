"""Autosave: a copy of unsaved work in the state folder, one per running window, with a note and a picture.

Each window holds a lock (flock(2)) on a file of its own there, which ends with its process: what is left behind is what
nobody holds any more, whatever process numbers have come back for.
"""

from __future__ import annotations

import contextlib
import fcntl
import json
import logging
import os
import secrets
import threading
from collections.abc import Callable
from dataclasses import dataclass
from io import FileIO
from pathlib import Path

from jacket.document.document import Document
from jacket.document.state import State
from jacket.errors import JacketError
from jacket.formats.atomic import sweep, write_bytes
from jacket.formats.project.records import load_project, save_project
from jacket.settings.store import state_dir
from jacket.stages.source.reading import Stamp

log = logging.getLogger("jacket")


@dataclass(frozen=True)
class Kept:
    """Work that was kept: its project file, when it was written (seconds since 1970), the path of the project it belongs
    to ("" for none), what is in it in words, and what that project's file looked like when it was last read or written."""

    file: Path
    when: float
    path: str
    holds: str
    stamp: Stamp = (0, 0)

    @property
    def picture(self) -> Path:
        """A small picture of the form view; it may be missing."""
        return self.file.with_suffix(".png")


class Keeper:
    """Writes the document aside from time to time, in a thread, while it is dirty."""

    def __init__(self, document: Document, picture: Callable[[], Callable[[], bytes]] | None = None) -> None:
        self.document, self.picture = document, picture
        self.stamp: Callable[[], Stamp] = lambda: (0, 0)
        self.folder = state_dir() / "recovery"
        self.file = self.folder / f"{os.getpid()}-{secrets.token_hex(4)}.jacket"
        self._lock: FileIO | None = None
        self._kept: State | None = None
        self._adopted: list[Path] = []
        self._thread: threading.Thread | None = None
        self._good = True

    def keep(self) -> bool:
        """Start writing if there is something new; whether it did."""
        state = self.document.state
        busy = self._thread is not None and self._thread.is_alive()
        if not self.document.dirty or busy or (state is self._kept and self._good):
            return False
        self._kept = state
        encode = self.picture() if self.picture is not None else None
        self._thread = threading.Thread(target=self._write, args=(state, self.document.path, self.stamp(), encode), daemon=True)
        self._thread.start()
        return True

    def _write(self, state: State, path: str, stamp: Stamp, encode: Callable[[], bytes] | None) -> None:
        try:
            self._hold()
            save_project(state, self.file)
            note = {"path": path, "holds": in_words(state), "stamp": list(stamp)}
            write_bytes(self.file.with_suffix(".json"), json.dumps(note).encode())
            if encode is not None:
                write_bytes(self.file.with_suffix(".png"), encode())
            self._good = True
        except (JacketError, OSError):
            self._good = False
            log.exception("autosave failed")

    def _hold(self) -> None:
        if self._lock is None:
            self.folder.mkdir(parents=True, exist_ok=True)
            lock = FileIO(os.open(self.file.with_suffix(".lock"), os.O_CREAT | os.O_RDWR | os.O_CLOEXEC, 0o600), "r+")
            fcntl.flock(lock, fcntl.LOCK_EX)
            self._lock = lock

    def wait(self, seconds: float = 10.0) -> None:
        """Wait for a write that is under way."""
        if self._thread is not None:
            self._thread.join(seconds)

    @property
    def adopted(self) -> tuple[Path, ...]:
        """Recovery files whose work is on the bench."""
        return tuple(self._adopted)

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
        if self._lock is not None:
            self._lock.close()
            self._lock = None


def in_words(state: State) -> str:
    """What a state holds, as in "2 sources, 1 layer of 1,520 faces"."""
    rows = [_number(len(state.sources), "source")] if state.sources else []
    if state.jackets:
        faces = sum(j.mesh.n_faces for j in state.jackets)
        rows.append(f"{_number(len(state.jackets), 'layer')} of {faces:,} faces")
    return ", ".join([*rows, *([_number(len(state.trials), "trial")] if state.trials else [])]) or "nothing yet"


def _number(count: int, what: str) -> str:
    return f"{count} {what}{'' if count == 1 else 's'}"


def left_behind() -> list[Kept]:
    """Work whose window is no longer running, newest first."""
    folder = state_dir() / "recovery"
    if not folder.is_dir():
        return []
    sweep(folder)
    found = [_kept(file) for file in folder.glob("*.jacket") if not _held(file.with_suffix(".lock"))]
    return sorted(found, key=lambda kept: -kept.when)


def _kept(file: Path) -> Kept:
    try:
        when = file.stat().st_mtime
    except OSError:
        when = 0.0
    try:
        note = json.loads(file.with_suffix(".json").read_text())
        time, size = note.get("stamp", (0, 0))
        return Kept(file, when, str(note.get("path", "")), str(note.get("holds", "")), (int(time), int(size)))
    except (OSError, ValueError, TypeError, AttributeError):
        log.info("no note beside %s", file)
        return Kept(file, when, "", "")


def _held(lock: Path) -> bool:
    """Whether a running window holds a lock."""
    try:
        with lock.open("rb") as file:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except FileNotFoundError:
        return False
    except OSError:
        return True
    return False


def recover(kept: Kept) -> State:
    """The state in a recovery file; raises FormatError where it is damaged."""
    return load_project(kept.file)


def forget(file: Path) -> None:
    """Remove a recovery file and what belongs to it."""
    for ending in (".jacket", ".json", ".png", ".lock"):
        with contextlib.suppress(OSError):
            file.with_suffix(ending).unlink(missing_ok=True)
