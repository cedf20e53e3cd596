"""Who works on a project file: a lock beside it, so that two windows do not save over one another.

The lock is one of the system (flock(2)) on a small hidden file that says who holds it: it ends with its process, however
that ends, and a number of a process that comes back for another program means nothing.
"""

from __future__ import annotations

import contextlib
import fcntl
import getpass
import hashlib
import json
import os
import socket
import time
from dataclasses import dataclass
from io import FileIO
from pathlib import Path

from jacket.errors import FormatError


@dataclass(frozen=True)
class Holder:
    """Who has a project open, on which machine, and since when (seconds since 1970)."""

    user: str
    host: str
    since: float

    @property
    def said(self) -> str:
        """As in "open in another window (anna on desk, since 14:05)"."""
        here = self.host == socket.gethostname()
        clock = time.strftime("%H:%M" if time.time() - self.since < 86_400 else "%d %b %H:%M", time.localtime(self.since))
        return f"{self.user}{'' if here else f' on {self.host}'}, since {clock}"


class InUse(FormatError):
    """Another window holds the project."""

    def __init__(self, path: Path, holder: Holder | None) -> None:
        self.holder = holder
        who = f" ({holder.said})" if holder is not None else ""
        super().__init__(f"{path.name} is open in another window{who}; save under another name, or close it there first.")


class Claim:
    """A project that is held until it is let go or the process ends."""

    def __init__(self, path: Path, file: FileIO | None) -> None:
        self.path, self._file = path, file

    def let_go(self) -> None:
        """Let another window have it."""
        file, self._file = self._file, None
        if file is not None:
            with contextlib.suppress(OSError):
                lock_file(self.path).unlink()
            file.close()


def lock_file(path: Path) -> Path:
    """The file beside a project that says who holds it."""
    real = Path(os.path.realpath(path))
    name = f".{real.name}.lock"
    if len(name.encode()) > 255:
        name = f".{hashlib.sha256(real.name.encode()).hexdigest()[:32]}.lock"
    return real.parent / name


def claim(path: Path) -> Claim:
    """Hold a project. Raises InUse while another window does; where no lock can be kept, as in a folder that may not be
    written to, nobody else can save there either and it is held in name only."""
    where = lock_file(path)
    for _ in range(20):
        try:
            file = FileIO(os.open(where, os.O_CREAT | os.O_RDWR | os.O_CLOEXEC, 0o644), "r+")
        except (OSError, ValueError):
            return Claim(path, None)
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            file.close()
            raise InUse(path, holder(path)) from None
        except OSError:
            file.close()
            return Claim(path, None)
        # Whoever held it before may have removed the file between opening and locking: then the lock is on nothing.
        with contextlib.suppress(OSError):
            if where.stat().st_ino == os.fstat(file.fileno()).st_ino:
                file.truncate(0)
                file.write(json.dumps({"user": _user(), "host": socket.gethostname(), "since": time.time()}).encode())
                return Claim(path, file)
        file.close()
    return Claim(path, None)


def holder(path: Path) -> Holder | None:
    """What the lock of a project says; None where it says nothing."""
    try:
        row = json.loads(lock_file(path).read_bytes()[:4096])
        return Holder(str(row["user"]), str(row["host"]), float(row["since"]))
    except (OSError, ValueError, KeyError, TypeError):
        return None


def _user() -> str:
    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return str(os.getuid())
