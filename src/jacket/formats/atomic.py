"""Writing files whole or not at all."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import secrets
import stat
from collections.abc import Iterable
from pathlib import Path

from jacket.errors import FormatError
from jacket.progress import Progress, silent

Piece = bytes | bytearray | memoryview


def write_bytes(path: Path, data: Piece) -> None:
    """Write beside the target, then move into place; raises FormatError with the reason."""
    write_pieces(path, [data])


def write_pieces(path: Path, pieces: Iterable[Piece]) -> None:
    """Write pieces one after another beside the target, then move into place; raises FormatError with the reason.

    A symbolic link stays one and the file that it names is written; a file that is there keeps its permissions.
    A kill leaves the target as it was, and nothing beside it where the file system knows nameless files
    (open(2), O_TMPFILE); elsewhere what an earlier kill left is swept up by the next write.
    """
    path = Path(path)
    try:
        target = Path(os.path.realpath(path))
        if target.exists() and not target.is_file() and not target.is_dir():
            _poured(target, pieces)
            return
        target.parent.mkdir(parents=True, exist_ok=True)
        sweep(target.parent)
        mode = _mode_of(target)
        aside = target.parent / f"{_ASIDE}{secrets.token_hex(8)}.part"
        handle, nameless = _opened(target.parent, aside)
        try:
            with os.fdopen(handle, "wb") as file:
                fcntl.flock(file, fcntl.LOCK_EX)
                for piece in pieces:
                    file.write(piece)
                file.flush()
                os.fchmod(file.fileno(), mode)
                os.fsync(file.fileno())
                if nameless:
                    _named(file.fileno(), aside)
                aside.replace(target)
        except BaseException:
            aside.unlink(missing_ok=True)
            raise
    except OSError as error:
        raise FormatError(f"{_shown(path)} could not be written to {path.parent}: {_reason(error)}.") from error
    except ValueError:
        raise FormatError(f"{_shown(path)} holds a character that no file name can; choose another name.") from None


_ASIDE = ".jacket-"


def _poured(target: Path, pieces: Iterable[Piece]) -> None:
    """Write to what is no file and must not become one, such as /dev/null or a pipe."""
    with target.open("wb") as stream:
        for piece in pieces:
            stream.write(piece)


def _opened(folder: Path, aside: Path) -> tuple[int, bool]:
    """A file to write to in a folder, and whether it has no name yet."""
    with contextlib.suppress(OSError):
        Path("/proc/self/fd").stat()
        return os.open(folder, os.O_TMPFILE | os.O_RDWR | os.O_CLOEXEC, 0o600), True
    return os.open(aside, os.O_CREAT | os.O_EXCL | os.O_RDWR | os.O_CLOEXEC, 0o600), False


def _named(handle: int, aside: Path) -> None:
    # Through /proc, as open(2) describes: linking by descriptor alone needs a privilege. Python calls linkat(2), which
    # alone follows the link there, only where a folder is given by its descriptor.
    folder = os.open(aside.parent, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.link(f"/proc/self/fd/{handle}", aside.name, dst_dir_fd=folder, follow_symlinks=True)
    finally:
        os.close(folder)


def _mode_of(target: Path) -> int:
    """The permissions of the file that is there, or those that a new one gets."""
    try:
        status = target.stat()
    except FileNotFoundError:
        return 0o666 & ~_umask()
    if stat.S_ISDIR(status.st_mode):
        raise IsADirectoryError(errno.EISDIR, os.strerror(errno.EISDIR))
    return stat.S_IMODE(status.st_mode)


def sweep(folder: Path) -> None:
    """Remove what kills left half written in a folder; what another process is writing holds a lock and stays."""
    with contextlib.suppress(OSError):
        for part in folder.glob(f"{_ASIDE}*.part"):
            with contextlib.suppress(OSError), part.open("rb") as file:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
                part.unlink()


_PIECE = 1 << 24


def read_bytes(path: Path, progress: Progress = silent) -> bytearray:
    """The whole file, piece by piece so that it can be stopped; raises FormatError when it is missing,
    a folder, unreadable or empty."""
    path = Path(path)
    try:
        status = path.stat()
        size = status.st_size
        if not stat.S_ISREG(status.st_mode) and not stat.S_ISDIR(status.st_mode):
            raise FormatError(f"{_shown(path)} is no file but a device or a pipe; name a file.")
        if size > _memory():
            raise FormatError(f"{_shown(path)} is larger than the memory of this machine; reduce it elsewhere first.")
        data = bytearray(0 if stat.S_ISDIR(status.st_mode) else size)
        with path.open("rb", buffering=0) as file:
            view, at = memoryview(data), 0
            while at < size:
                count = file.readinto(view[at : at + _PIECE])
                if not count:
                    break
                at += count
                progress(at / size, f"reading {path.name}")
            view.release()
            del data[at:]
    except FileNotFoundError:
        raise FormatError(f"There is no file {path}; check the name and the folder.") from None
    except IsADirectoryError:
        raise FormatError(f"{path} is a folder; name a file in it.") from None
    except OSError as error:
        raise FormatError(f"{_shown(path)} could not be read: {_reason(error)}.") from error
    except ValueError:
        raise FormatError(f"{_shown(path)} holds a character that no file name can; choose another file.") from None
    if not data:
        raise FormatError(f"{path.name} is empty; export it again.")
    return data


def beside(path: Path, name: str) -> Path:
    """The file that `path` refers to by a relative name; raises FormatError where that leads out of the
    folder of `path` and what is below it."""
    try:
        folder = path.parent.resolve()
        target = (folder / name).resolve()
    except (ValueError, OSError):
        raise FormatError(f"{path.name} refers to a file whose name makes no sense; export it again.") from None
    if not target.is_relative_to(folder):
        raise FormatError(f"{path.name} refers to a file outside its own folder, which is refused.")
    return target


def _shown(path: Path) -> str:
    """A file's name as it can stand in a sentence."""
    name = "".join(c if c.isprintable() else "�" for c in path.name)
    return name if len(name) <= 80 else f"{name[:60]}…{name[-16:]}"


def _reason(error: OSError) -> str:
    return (error.strerror or str(error)).lower()


def _memory() -> int:
    """Bytes that a file may take: four fifths of what the machine has."""
    return int(0.8 * os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE"))


def _umask() -> int:
    current = os.umask(0o022)
    os.umask(current)
    return current
