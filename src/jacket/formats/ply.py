"""PLY, ASCII and both binary orders, through plyfile.

Described in Greg Turk, "The PLY Polygon File Format" (1994).
"""

from __future__ import annotations

import io
from pathlib import Path
from typing import Any

import numpy as np

from jacket.core.mesh.polymesh import PolyMesh
from jacket.errors import FormatError
from jacket.formats.atomic import write_bytes


def read_ply(data: bytes, path: Path) -> PolyMesh:
    """Points and polygons of any property order and types."""
    import plyfile

    if not data.startswith(b"ply"):
        raise FormatError(f"{path.name} does not begin like a PLY file; it may be another format.")
    _check_claims(data, path)
    try:
        ply = _parsed(data)
    except plyfile.PlyParseError as error:
        raise FormatError(f"{path.name} is damaged: {error}; export it again.") from error
    if "vertex" not in ply or not {"x", "y", "z"} <= {p.name for p in ply["vertex"].properties}:
        raise FormatError(f"{path.name} has no points with x, y and z; export it again.")
    vertex = ply["vertex"].data
    points = np.stack([np.asarray(vertex[k], np.float64) for k in "xyz"], axis=1)
    if "face" not in ply or len(ply["face"].data) == 0:
        raise FormatError(f"{path.name} has no faces; a point cloud has to be meshed first.")
    return _with_faces(points, ply["face"].data, path)


def _check_claims(data: bytes, path: Path) -> None:
    """Compare the counts in the header with the file's size before memory is taken for them."""
    end = data.find(b"end_header")
    if end < 0:
        raise FormatError(f"{path.name} has no end to its PLY header; the file is cut short.")
    for line in data[:end].decode("latin-1").splitlines():
        words = line.split()
        if len(words) == 3 and words[0] == "element":
            if not words[2].isdigit() or int(words[2]) > len(data):
                raise FormatError(f"{path.name} promises {words[2]} of {words[1]}, more than it can hold.")


def _parsed(data: bytes) -> Any:
    import plyfile

    if b"format ascii" not in data[:200]:
        for name in ("vertex_indices", "vertex_index"):
            if name.encode() in data[:4000]:
                try:
                    # Far quicker where all faces are triangles; plyfile says so where they are not.
                    return plyfile.PlyData.read(io.BytesIO(data), known_list_len={"face": {name: 3}})
                except (plyfile.PlyParseError, ValueError):
                    break
    return plyfile.PlyData.read(io.BytesIO(data))


def _with_faces(points: Any, faces: Any, path: Path) -> PolyMesh:
    name = next((n for n in faces.dtype.names if n in ("vertex_indices", "vertex_index")), None)
    if name is None:
        raise FormatError(f"{path.name} has faces without vertex_indices; export it again.")
    lists = faces[name]
    if lists.dtype != object:
        return PolyMesh.from_faces(points, lists.astype(np.int64))
    sizes = np.fromiter((len(x) for x in lists), np.int64, len(lists))
    if (sizes < 3).any():
        lists, sizes = lists[sizes >= 3], sizes[sizes >= 3]
        if len(sizes) == 0:
            raise FormatError(f"{path.name} has no faces; a point cloud has to be meshed first.")
    starts = np.concatenate([[0], np.cumsum(sizes)])
    return PolyMesh.checked(points, np.concatenate(lists).astype(np.int64), starts)


def write_ply(mesh: PolyMesh, path: Path, precision: Any = np.float64) -> None:
    """Binary little-endian PLY with polygons; coordinates in single or double precision."""
    import plyfile

    vertex = np.zeros(mesh.n_points, [(axis, precision) for axis in "xyz"])
    for k, axis in enumerate("xyz"):
        vertex[axis] = mesh.points[:, k]
    face: Any
    if mesh.n_faces and (mesh.sizes == mesh.sizes[0]).all():
        face = np.zeros(mesh.n_faces, [("vertex_indices", "i4", (int(mesh.sizes[0]),))])
        face["vertex_indices"] = mesh.corners.reshape(mesh.n_faces, -1)
    else:
        face = np.zeros(mesh.n_faces, [("vertex_indices", object)])
        for f in range(mesh.n_faces):
            face["vertex_indices"][f] = mesh.face(f)
    elements = [
        plyfile.PlyElement.describe(vertex, "vertex"),
        plyfile.PlyElement.describe(face, "face", len_types={"vertex_indices": "u1"}),
    ]
    out = io.BytesIO()
    plyfile.PlyData(elements, byte_order="<").write(out)
    write_bytes(path, out.getvalue())
