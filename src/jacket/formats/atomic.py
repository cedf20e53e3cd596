"""Writing files whole or not at all."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterable
from pathlib import Path

from jacket.errors import FormatError
from jacket.progress import Progress, silent


def write_bytes(path: Path, data: bytes | bytearray | memoryview) -> None:
    """Write beside the target, then move into place; raises FormatError with the reason."""
    write_pieces(path, [data])


def write_pieces(path: Path, pieces: Iterable[bytes | bytearray | memoryview]) -> None:
    """Write pieces one after another beside the target, then move into place; raises FormatError with the reason."""
    path = Path(path)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handle, name = tempfile.mkstemp(prefix=f".{path.name}.", suffix=".part", dir=path.parent)
        try:
            with os.fdopen(handle, "wb") as file:
                for piece in pieces:
                    file.write(piece)
                file.flush()
                os.fsync(file.fileno())
            Path(name).chmod(0o666 & ~_umask())
            Path(name).replace(path)
        except BaseException:
            Path(name).unlink(missing_ok=True)
            raise
    except OSError as error:
        raise FormatError(f"{path.name} could not be written to {path.parent}: {_reason(error)}.") from error


_PIECE = 1 << 24


def read_bytes(path: Path, progress: Progress = silent) -> bytearray:
    """The whole file, piece by piece so that it can be stopped; raises FormatError when it is missing,
    a folder, unreadable or empty."""
    path = Path(path)
    try:
        size = path.stat().st_size
        data = bytearray()
        if path.is_file():
            data = bytearray(size)
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
        raise FormatError(f"{path} could not be read: {_reason(error)}.") from error
    if not data:
        raise FormatError(f"{path.name} is empty; export it again.")
    return data


def beside(path: Path, name: str) -> Path:
    """The file that `path` refers to by a relative name; raises FormatError where that leads out of the
    folder of `path` and what is below it."""
    folder = path.parent.resolve()
    target = (folder / name).resolve()
    if not target.is_relative_to(folder):
        raise FormatError(f"{path.name} refers to a file outside its own folder, which is refused.")
    return target


def _reason(error: OSError) -> str:
    return (error.strerror or str(error)).lower()


def _umask() -> int:
    current = os.umask(0o022)
    os.umask(current)
    return current
