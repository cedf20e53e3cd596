"""Writing files whole or not at all."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

from jacket.errors import FormatError


def write_bytes(path: Path, data: bytes) -> None:
    """Write beside the target, then move into place; raises FormatError with the reason."""
    path = Path(path)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handle, name = tempfile.mkstemp(prefix=f".{path.name}.", suffix=".part", dir=path.parent)
        try:
            with os.fdopen(handle, "wb") as file:
                file.write(data)
                file.flush()
                os.fsync(file.fileno())
            Path(name).chmod(0o666 & ~_umask())
            Path(name).replace(path)
        except BaseException:
            Path(name).unlink(missing_ok=True)
            raise
    except OSError as error:
        raise FormatError(f"{path.name} could not be written to {path.parent}: {_reason(error)}.") from error


def read_bytes(path: Path) -> bytes:
    """The whole file; raises FormatError when it is missing, a folder, unreadable or empty."""
    path = Path(path)
    try:
        data = path.read_bytes()
    except FileNotFoundError:
        raise FormatError(f"There is no file {path}; check the name and the folder.") from None
    except IsADirectoryError:
        raise FormatError(f"{path} is a folder; name a file in it.") from None
    except OSError as error:
        raise FormatError(f"{path} could not be read: {_reason(error)}.") from error
    if not data:
        raise FormatError(f"{path.name} is empty; export it again.")
    return data


def _reason(error: OSError) -> str:
    return (error.strerror or str(error)).lower()


def _umask() -> int:
    current = os.umask(0o022)
    os.umask(current)
    return current
