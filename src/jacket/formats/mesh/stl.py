"""STL, binary and ASCII. Points are joined where they are equal to the bit.

Described in the StereoLithography Interface Specification, 3D Systems (1988).
"""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import inline, kernel
from jacket.core.mesh.diagonals import short_diagonals
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.source.weld import weld_map
from jacket.errors import FormatError
from jacket.formats.atomic import write_bytes
from jacket.formats.mesh.numbers import parse_float, skip_blank, skip_line, skip_word
from jacket.formats.mesh.streams import row_pieces
from jacket.progress import Progress, silent


def write_stl(mesh: PolyMesh, path: Path) -> None:
    """Binary STL; quads become the two triangles of their shorter diagonal."""
    write_bytes(path, stl_bytes(mesh, np.asarray(mesh.corners[short_diagonals(mesh)])))


def stl_bytes(mesh: PolyMesh, triangles: NDArray[Any]) -> bytes:
    """Triangles (T, 3) of points as binary STL: single precision, a normal each, nothing else."""
    corners = mesh.points[triangles]
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normals = normals / np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-300)
    rows = np.zeros(len(triangles), [("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("word", "<u2")])
    rows["normal"], rows["corners"] = normals, corners
    return b"Jacket".ljust(80) + len(rows).to_bytes(4, "little") + rows.tobytes()


def read_stl(data: bytearray, path: Path, progress: Progress = silent) -> PolyMesh:
    """Triangles over joined points; those with a repeated point are left out."""
    if len(data) >= 84:
        count = int.from_bytes(data[80:84], "little")
        if 84 + 50 * count == len(data):
            return _binary([(np.frombuffer(data, np.uint8)[84:], 0)], count)
    if data[:400].lstrip()[:5].lower() == b"solid":
        corners = _ascii_corners(np.frombuffer(data, np.uint8), path)
        kept, new = weld_map(corners)
        return PolyMesh.from_faces(corners[kept], _whole(new.reshape(-1, 3)))
    if len(data) < 84:
        raise FormatError(f"{path.name} is too short for an STL file; export it again.")
    raise FormatError(
        f"{path.name} promises {count:,} triangles but its size fits {max(len(data) - 84, 0) // 50:,}; "
        "the file is cut short or not STL."
    )


def _whole(triangles: NDArray[Any]) -> NDArray[Any]:
    whole = (triangles[:, 0] != triangles[:, 1]) & (triangles[:, 1] != triangles[:, 2])
    whole &= triangles[:, 2] != triangles[:, 0]
    return triangles if whole.all() else triangles[whole]


def stream_stl(path: Path, progress: Progress) -> PolyMesh | None:
    """A large binary file read through a small buffer; None for every other kind."""
    try:
        size = path.stat().st_size
        with path.open("rb", buffering=0) as file:
            head = file.read(84)
            count = int.from_bytes(head[80:84], "little")
            if size < 1_000_000 or size != 84 + 50 * count:
                return None
            return _binary(row_pieces(file, count, 50, progress, path), count)
    except OSError:
        return None


def _binary(pieces: Iterable[tuple[NDArray[np.uint8], int]], count: int) -> PolyMesh:
    """Join corners while reading them: a soup of corners in double precision would take twice the memory
    of the mesh. The table of places grows with the points found."""
    corners = np.empty(3 * count, np.int32)
    bits = np.empty((count // 2 + 64, 3), np.uint32)
    table = np.full(_room(len(bits)), -1, np.int32)
    used = 0
    for raw, first in pieces:
        rows = len(raw) // 50
        if used + 3 * rows > len(bits):
            bits = np.concatenate([bits, np.empty((len(bits) // 2 + 3 * rows, 3), np.uint32)])
            table = _filled(np.full(_room(len(bits)), -1, np.int32), bits, used)
        used = _join(raw, rows, first, corners, bits, table, used)
    del table
    points = bits[:used].view(np.float32).astype(np.float64)
    return PolyMesh.from_faces(points, _whole(corners.reshape(-1, 3)))


def _room(points: int) -> int:
    return 1 << int(max(16, 1.5 * points)).bit_length()


@inline
def _place(x, y, z, mask):
    h = np.uint64(x) * np.uint64(0x9E3779B97F4A7C15) ^ np.uint64(y) * np.uint64(0xC2B2AE3D27D4EB4F)
    h ^= np.uint64(z) * np.uint64(0x165667B19E3779F9)
    h ^= h >> np.uint64(32)
    return np.int64(h & np.uint64(mask))


@inline
def _word(raw, i):
    w = np.uint32(raw[i]) | np.uint32(raw[i + 1]) << np.uint32(8)
    w |= np.uint32(raw[i + 2]) << np.uint32(16) | np.uint32(raw[i + 3]) << np.uint32(24)
    # Minus nought is nought.
    return np.uint32(0) if w == np.uint32(0x80000000) else w


@kernel
def _join(raw, rows, first, corners, bits, table, used):
    mask = len(table) - 1
    for t in range(rows):
        for k in range(3):
            i = 50 * t + 12 + 12 * k
            x, y, z = _word(raw, i), _word(raw, i + 4), _word(raw, i + 8)
            slot = _place(x, y, z, mask)
            while True:
                j = table[slot]
                if j < 0:
                    table[slot] = used
                    bits[used, 0], bits[used, 1], bits[used, 2] = x, y, z
                    corners[3 * (first + t) + k] = used
                    used += 1
                    break
                if bits[j, 0] == x and bits[j, 1] == y and bits[j, 2] == z:
                    corners[3 * (first + t) + k] = j
                    break
                slot = (slot + 1) & mask
    return used


@kernel
def _filled(table, bits, used):
    mask = len(table) - 1
    for j in range(used):
        slot = _place(bits[j, 0], bits[j, 1], bits[j, 2], mask)
        while table[slot] >= 0:
            slot = (slot + 1) & mask
        table[slot] = j
    return table


def _ascii_corners(raw: NDArray[np.uint8], path: Path) -> NDArray[np.float64]:
    corners, used, line = _ascii(raw, np.empty((len(raw) // 12 + 3, 3)))
    if line:
        raise FormatError(f"{path.name} cannot be understood at line {line}; export it again.")
    if used == 0 or used % 3:
        raise FormatError(f"{path.name} has {used} corners, not three for each triangle; it is cut short.")
    return corners[:used].copy()


@kernel
def _ascii(raw, corners):
    """Corners of lines that begin with the word vertex; others are passed over."""
    n = len(raw)
    used = line = i = 0
    while i < n:
        line += 1
        i = skip_blank(raw, i, n) if line == 1 else i
        while i < n and (raw[i] == 32 or raw[i] == 9 or raw[i] == 13):
            i += 1
        if i + 6 < n and (raw[i] | 32) == 118 and (raw[i + 1] | 32) == 101 and (raw[i + 5] | 32) == 120:
            i = skip_word(raw, i, n)
            for k in range(3):
                while i < n and (raw[i] == 32 or raw[i] == 9):
                    i += 1
                value, i, good = parse_float(raw, i, n)
                if not good or used >= len(corners):
                    return corners, used, line
                corners[used, k] = value
            used += 1
        i = skip_line(raw, i, n)
    return corners, used, 0
