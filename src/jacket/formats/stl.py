"""STL, binary and ASCII. Points are joined where they are equal to the bit.

Described in the StereoLithography Interface Specification, 3D Systems (1988).
"""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np

from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.source.weld import weld_map
from jacket.errors import FormatError

_RECORD = np.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("extra", "<u2")])


def read_stl(data: bytes, path: Path) -> PolyMesh:
    """Triangles over joined points."""
    if len(data) >= 84:
        count = int(np.frombuffer(data, "<u4", 1, 80)[0])
        if 84 + 50 * count == len(data):
            return _joined(np.frombuffer(data, _RECORD, count, 84)["corners"].reshape(-1, 3))
    if data.lstrip()[:5].lower() == b"solid":
        return _joined(_ascii_corners(data, path))
    if len(data) < 84:
        raise FormatError(f"{path.name} is too short for an STL file; export it again.")
    raise FormatError(
        f"{path.name} promises {count:,} triangles but its size fits {max(len(data) - 84, 0) // 50:,}; "
        "the file is cut short or not STL."
    )


def _ascii_corners(data: bytes, path: Path) -> np.ndarray[tuple[int, ...], np.dtype[np.float64]]:
    rows = re.findall(rb"vertex\s+(\S+)\s+(\S+)\s+(\S+)", data)
    if len(rows) == 0 or len(rows) % 3:
        raise FormatError(f"{path.name} has {len(rows)} corners, not three for each triangle; it is cut short.")
    return np.array(rows).astype(np.float64)


def _joined(corners: np.ndarray[tuple[int, ...], np.dtype[np.float64]]) -> PolyMesh:
    kept, new = weld_map(corners.astype(np.float64))
    triangles = new.reshape(-1, 3)
    whole = (triangles[:, 0] != triangles[:, 1]) & (triangles[:, 1] != triangles[:, 2])
    whole &= triangles[:, 2] != triangles[:, 0]
    return PolyMesh.from_faces(corners[kept].astype(np.float64), triangles[whole].astype(np.int64))
