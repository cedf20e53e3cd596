"""OFF: the Geomview object file format, ASCII, with polygons."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from jacket.core.mesh.polymesh import PolyMesh
from jacket.errors import FormatError


def read_off(data: bytes, path: Path) -> PolyMesh:
    """Points and polygons; colours after a face's corners are passed over."""
    try:
        text = data.decode("ascii")
    except UnicodeDecodeError:
        raise FormatError(f"{path.name} holds binary data, not OFF text; export it again.") from None
    rows = [line.split("#")[0].split() for line in text.splitlines()]
    rows = [row for row in rows if row]
    if not rows or not rows[0][0].endswith("OFF"):
        raise FormatError(f"{path.name} does not begin with the word OFF; it may be another format.")
    counts = rows[0][1:] or rows[1]
    body = rows[1:] if rows[0][1:] else rows[2:]
    n_points, n_faces = int(counts[0]), int(counts[1])
    if n_points < 0 or n_faces < 0 or n_points + n_faces > len(body):
        raise FormatError(f"{path.name} promises more points and faces than it holds; it is cut short.")
    points = np.array([[float(x) for x in row[:3]] for row in body[:n_points]]).reshape(-1, 3)
    faces = []
    for row in body[n_points : n_points + n_faces]:
        size = int(row[0])
        corners = [int(c) for c in row[1 : 1 + size]]
        if size >= 3 and len(corners) == size:
            faces.append(corners)
    return PolyMesh.from_faces(points, faces)
