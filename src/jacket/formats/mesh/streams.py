"""Reading rows of bytes through a small buffer, so that a file is never in memory as a whole."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.progress import Progress

_BUFFER = 1 << 21


def row_pieces(
    file: Any, rows: int, stride: int, progress: Progress, path: Path
) -> Iterator[tuple[NDArray[np.uint8], int]]:
    """The bytes of rows, a buffer full at a time, and the first row in it."""
    most = max(1, _BUFFER // stride)
    buffer = np.empty(most * stride, np.uint8)
    first = 0
    while first < rows:
        count = min(most, rows - first)
        view, got = memoryview(buffer)[: count * stride], 0  # type: ignore[arg-type]
        while got < len(view):
            step = file.readinto(view[got:])
            if not step:
                raise OSError("the file ended early")
            got += step
        yield buffer[: count * stride], first
        first += count
        progress(first / rows, f"reading {path.name}")
