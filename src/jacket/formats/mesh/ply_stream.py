"""The common kind of large PLY, little-endian triangles, read straight through a small buffer: no copy of the
file is ever in memory. Every other kind is left to the general reader."""

from __future__ import annotations

from pathlib import Path
from typing import BinaryIO

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import kernel
from jacket.core.mesh.polymesh import PolyMesh
from jacket.errors import FormatError
from jacket.formats.mesh.ply_header import Element, read_header
from jacket.formats.mesh.streams import row_pieces
from jacket.progress import Progress, part


def stream_ply(path: Path, progress: Progress) -> PolyMesh | None:
    """The mesh of a large file of points and triangles; None where the general reader has to look at it."""
    try:
        if path.stat().st_size < 1_000_000:
            return None
        with path.open("rb", buffering=0) as file:
            return _streamed(file, path, progress)
    except (OSError, FormatError):
        return None


def _streamed(file: BinaryIO, path: Path, progress: Progress) -> PolyMesh | None:
    order, elements, comments, at = read_header(bytearray(file.read(1 << 16)), path, path.stat().st_size)
    if order != "<" or [e.name for e in elements[:2]] != ["vertex", "face"]:
        return None
    vertex, face = elements[:2]
    places = _places(vertex)
    lists = face.properties
    triangles = len(lists) == 1 and lists[0].count == np.dtype("u1") and lists[0].dtype.str[1:] in ("i4", "u4")
    if places is None or not triangles or any(c.lower().startswith("texturefile") for c in comments):
        return None
    stride = vertex.least_bytes
    if at + vertex.rows * stride + face.rows * 13 > path.stat().st_size or vertex.rows == 0 or face.rows == 0:
        return None
    file.seek(at)
    points = np.empty((vertex.rows, 3))
    for piece, first in row_pieces(file, vertex.rows, stride, part(progress, 0.0, 0.5), path):
        if not _point_rows(piece, stride, places, points, first):
            return None
    corners, starts = np.empty(3 * face.rows, np.int32), np.empty(face.rows + 1, np.int32)
    for piece, first in row_pieces(file, face.rows, 13, part(progress, 0.5, 1.0), path):
        if not _triangle_rows(piece, corners, starts, first, vertex.rows):
            return None
    starts[0] = 0
    return PolyMesh(points, corners, starts)


def _places(vertex: Element) -> NDArray[np.int64] | None:
    """Byte places of x, y and z, and 4 or 8 for their size; None where there is more than positions and normals."""
    names = [p.name for p in vertex.properties]
    kinds = {p.dtype.str[1:] for p in vertex.properties if p.name in ("x", "y", "z")}
    if not {"x", "y", "z"} <= set(names) <= {"x", "y", "z", "nx", "ny", "nz"} or kinds not in ({"f4"}, {"f8"}):
        return None
    if any(p.count is not None for p in vertex.properties):
        return None
    offsets = np.cumsum([0] + [p.dtype.itemsize for p in vertex.properties])
    return np.array([offsets[names.index(a)] for a in "xyz"] + [int(kinds.pop()[1])], np.int64)


@kernel
def _point_rows(raw, stride, places, points, first):
    fine = True
    for r in range(len(raw) // stride):
        for k in range(3):
            i = r * stride + places[k]
            if places[3] == 4:
                w = np.uint32(raw[i]) | np.uint32(raw[i + 1]) << np.uint32(8)
                w |= np.uint32(raw[i + 2]) << np.uint32(16) | np.uint32(raw[i + 3]) << np.uint32(24)
                value = np.float64(np.uint32(w).view(np.float32))
            else:
                v = np.uint64(0)
                for b in range(8):
                    v |= np.uint64(raw[i + b]) << np.uint64(8 * b)
                value = np.uint64(v).view(np.float64)
            points[first + r, k] = value
            fine = fine and np.isfinite(value)
    return fine


@kernel
def _triangle_rows(raw, corners, starts, first, n_points):
    fine = True
    for r in range(len(raw) // 13):
        i = 13 * r
        fine = fine and raw[i] == 3
        for k in range(3):
            j = i + 1 + 4 * k
            w = np.uint32(raw[j]) | np.uint32(raw[j + 1]) << np.uint32(8)
            w |= np.uint32(raw[j + 2]) << np.uint32(16) | np.uint32(raw[j + 3]) << np.uint32(24)
            fine = fine and w < n_points
            corners[3 * (first + r) + k] = np.int32(w)
        starts[first + r + 1] = 3 * (first + r + 1)
    return fine
