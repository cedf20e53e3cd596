"""OFF: the Geomview object file format, ASCII, with polygons and point colours.

Described in the Geomview manual, "OFF Files" (prefixes ST, C, N).
"""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import kernel
from jacket.core.mesh.polymesh import PolyMesh
from jacket.errors import FormatError
from jacket.formats.mesh.numbers import parse_float, parse_int, skip_line, skip_spaces
from jacket.progress import Progress, silent

_HEAD = re.compile(rb"\s*(ST)?(C)?(N)?OFF\b[ \t]*(BINARY)?", re.IGNORECASE)


def read_off(data: bytearray, path: Path, progress: Progress = silent) -> PolyMesh:
    """Points with their colours, and polygons; colours after a face's corners are passed over."""
    head = _HEAD.match(data[:400])
    if head is None:
        raise FormatError(f"{path.name} does not begin with the word OFF; it may be another format.")
    if head[4] or b"\0" in data[:4096]:
        raise FormatError(f"{path.name} holds binary data, not OFF text; export it again.")
    raw = np.frombuffer(data, np.uint8)
    n_points, n_faces, at = _counts(raw, head.end())
    # A point needs six bytes ("0 0 0" and a line end), a face two.
    if n_points < 0 or n_faces < 0 or 6 * n_points + 2 * n_faces > len(data) + 6:
        raise FormatError(f"{path.name} promises more points and faces than it holds; it is cut short.")
    skip = 3 if head[3] else 0
    points, colours, at, line = _points(raw, at, n_points, skip)
    if line:
        raise FormatError(f"{path.name} cannot be understood at point {line}; export it again.")
    progress(0.4, f"understanding {path.name}")
    corners, starts, line = _faces(raw, at, n_faces)
    if line:
        raise FormatError(f"{path.name} cannot be understood at face {line}; export it again.")
    return PolyMesh.checked(points, corners, starts, point_data=_colours(colours) if head[2] else {})


def _colours(values: NDArray[np.float64]) -> dict[str, NDArray[Any]]:
    """Colours as 0..255 or as 0..1."""
    scale = 255.0 if len(values) and values.max() <= 1.0 else 1.0
    return {"colour": np.clip(np.rint(values * scale), 0, 255).astype(np.uint8)}


@kernel
def _counts(raw, i):
    """The first two numbers after the word OFF, and where the line of counts ends."""
    n = len(raw)
    found = np.full(2, -1, np.int64)
    k = 0
    while i < n and k < 2:
        i = skip_spaces(raw, i, n)
        if i < n and (raw[i] == 35 or raw[i] == 10):
            i = skip_line(raw, i, n)
            continue
        value, j, good = parse_int(raw, i, n)
        if not good:
            return -1, -1, n
        found[k] = value
        i = j
        k += 1
    return found[0], found[1], skip_line(raw, i, n)


@kernel
def _points(raw, i, count, skip):
    n = len(raw)
    points = np.zeros((count, 3))
    colours = np.ones((count, 4))
    for p in range(count):
        i = skip_spaces(raw, i, n)
        while i < n and (raw[i] == 35 or raw[i] == 10):
            i = skip_spaces(raw, skip_line(raw, i, n), n)
        for k in range(7 + skip):
            i = skip_spaces(raw, i, n)
            if i >= n or raw[i] == 10 or raw[i] == 35:
                if k < 3:
                    return points, colours, i, p + 1
                break
            value, i, good = parse_float(raw, i, n)
            if not good:
                return points, colours, i, p + 1
            if k < 3:
                points[p, k] = value
            elif k >= 3 + skip:
                colours[p, k - 3 - skip] = value
        i = skip_line(raw, i, n)
    return points, colours, i, 0


@kernel
def _faces(raw, i, count):
    n = len(raw)
    corners = np.empty((n - i) // 2 + 1, np.int32)
    starts = np.zeros(count + 1, np.int64)
    used, kept = 0, 0
    for f in range(count):
        i = skip_spaces(raw, i, n)
        while i < n and (raw[i] == 35 or raw[i] == 10):
            i = skip_spaces(raw, skip_line(raw, i, n), n)
        size, i, good = parse_int(raw, i, n)
        if not good or size < 0 or used + size > len(corners):
            return corners[:0], starts[:1], f + 1
        first = used
        for _ in range(size):
            i = skip_spaces(raw, i, n)
            value, i, good = parse_int(raw, i, n)
            if not good or value < 0 or value > 2147483647:
                return corners[:0], starts[:1], f + 1
            corners[used] = value
            used += 1
        if size < 3:
            used = first
        else:
            kept += 1
            starts[kept] = used
        i = skip_line(raw, i, n)
    return corners[:used].copy(), starts[: kept + 1].copy(), 0
