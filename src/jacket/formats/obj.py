"""Wavefront OBJ with its MTL: polygons, texture indices, negative indices, continued lines.

Described in "Object Files (.obj)", Appendix B1 of the Advanced Visualizer manual.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import kernel
from jacket.core.mesh.connectivity import corner_orbits
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh, sorted_pairs
from jacket.core.seams.cuts import uv_border_pairs
from jacket.errors import FormatError
from jacket.formats.atomic import write_bytes
from jacket.formats.numbers import parse_float, parse_int, skip_spaces, skip_word


def read_obj(data: bytes, path: Path) -> PolyMesh:
    """Points, faces with any number of corners, and the UVs of corners that have a texture index."""
    if b"\0" in data[:4096]:
        raise FormatError(f"{path.name} holds binary data, not OBJ text; export it again.")
    if b"\\\n" in data or b"\\\r\n" in data:
        data = data.replace(b"\\\r\n", b"  ").replace(b"\\\n", b" ")
    raw = np.frombuffer(data, np.uint8)
    counts = _count(raw)
    points, texture, corners, corner_texture, starts, bad_line = _parse(raw, *counts)
    if bad_line:
        raise FormatError(f"{path.name} cannot be understood at line {bad_line}; export it again.")
    if len(points) == 0:
        raise FormatError(f"{path.name} has no points; it may not be an OBJ file.")
    return PolyMesh.checked(points, corners, starts, uvs=_uvs(texture, corner_texture, path))


def _uvs(texture: Floats, corner_texture: NDArray[np.signedinteger], path: Path) -> dict[str, Floats]:
    used = corner_texture != -1
    if len(texture) == 0 or not used.any():
        return {}
    if corner_texture[used].max() >= len(texture) or corner_texture[used].min() < 0:
        raise FormatError(f"{path.name} has a texture index out of range; the file may be cut short.")
    uv = np.full((len(corner_texture), 2), np.nan)
    uv[used] = texture[corner_texture[used]]
    return {"uv": uv}


@kernel
def _count(data):
    """Numbers of points, texture places, faces and corners."""
    n = len(data)
    points = texture = faces = corners = 0
    i = 0
    while i < n:
        i = skip_spaces(data, i, n)
        if i + 1 < n and data[i] == 118 and (data[i + 1] == 32 or data[i + 1] == 9):
            points += 1
        elif i + 2 < n and data[i] == 118 and data[i + 1] == 116 and (data[i + 2] == 32 or data[i + 2] == 9):
            texture += 1
        elif i + 1 < n and data[i] == 102 and (data[i + 1] == 32 or data[i + 1] == 9):
            i += 1
            words = 0
            while True:
                i = skip_spaces(data, i, n)
                if i >= n or data[i] == 10 or data[i] == 35:
                    break
                words += 1
                i = skip_word(data, i, n)
            if words >= 3:
                faces += 1
                corners += words
        while i < n and data[i] != 10:
            i += 1
        i += 1
    return points, texture, faces, corners


@kernel
def _parse(data, n_points, n_texture, n_faces, n_corners):
    n = len(data)
    points = np.empty((n_points, 3))
    texture = np.zeros((n_texture, 2))
    corners = np.empty(n_corners, np.int64)
    corner_texture = np.full(n_corners, -1, np.int64)
    starts = np.zeros(n_faces + 1, np.int64)
    p = t = f = c = 0
    line = 0
    i = 0
    while i < n:
        line += 1
        i = skip_spaces(data, i, n)
        if i + 1 < n and data[i] == 118 and (data[i + 1] == 32 or data[i + 1] == 9):
            i += 1
            for k in range(3):
                i = skip_spaces(data, i, n)
                value, i, good = parse_float(data, i, n)
                if not good:
                    return points, texture, corners, corner_texture, starts, line
                points[p, k] = value
            p += 1
        elif i + 2 < n and data[i] == 118 and data[i + 1] == 116 and (data[i + 2] == 32 or data[i + 2] == 9):
            i += 2
            for k in range(2):
                i = skip_spaces(data, i, n)
                value, i, good = parse_float(data, i, n)
                if not good and k == 0:
                    return points, texture, corners, corner_texture, starts, line
                texture[t, k] = value
            t += 1
        elif i + 1 < n and data[i] == 102 and (data[i + 1] == 32 or data[i + 1] == 9):
            i += 1
            first = c
            words = 0
            while True:
                i = skip_spaces(data, i, n)
                if i >= n or data[i] == 10 or data[i] == 35:
                    break
                words += 1
                value, j, good = parse_int(data, i, n)
                if not good or value == 0:
                    return points, texture, corners, corner_texture, starts, line
                if words > 2 or first + 2 < n_corners:
                    if c < n_corners:
                        corners[c] = value - 1 if value > 0 else p + value
                        if j < n and data[j] == 47:
                            value, j, good = parse_int(data, j + 1, n)
                            if good and value != 0:
                                corner_texture[c] = value - 1 if value > 0 else t + value
                                if corner_texture[c] < 0:
                                    corner_texture[c] = -2
                    c += 1
                i = skip_word(data, i, n)
            if words < 3:
                c = first
            else:
                f += 1
                starts[f] = c
        while i < n and data[i] != 10:
            i += 1
        i += 1
    return points, texture, corners, corner_texture, starts, 0


def texture_fans(mesh: PolyMesh, uv: Floats) -> tuple[Ints, Ints]:
    """(C,) texture place of each corner and (T,) a corner of each place.

    Corners share a place only within one island and where they are mapped to one spot, so separate
    islands never share an index and cuts can be read back from the file.
    """
    topology = mesh.topology
    pairs = np.concatenate([uv_border_pairs(mesh, uv, 0.0), mesh.mark("seam")])
    cut = topology.edge_flags(sorted_pairs(pairs))[topology.edge]
    twin = np.where(cut, -1, topology.twin).astype(np.int32)
    fans, _ = corner_orbits(topology.next, topology.prev, twin, mesh.corners)
    first = np.full(int(fans.max()) + 1 if len(fans) else 0, -1, np.int32)
    first[fans[::-1]] = np.arange(mesh.n_corners - 1, -1, -1, dtype=np.int32)
    return fans, first


def obj_text(mesh: PolyMesh, name: str, library: str = "") -> str:
    """The mesh as OBJ text; UVs where every corner of a face is mapped."""
    lines = ["# Jacket"]
    if library:
        lines.append(f"mtllib {library}")
    lines.append(f"o {name}")
    lines += [f"v {x:.9g} {y:.9g} {z:.9g}" for x, y, z in mesh.points.tolist()]
    uv = mesh.uv
    texture: list[int] = []
    if uv is not None and np.isfinite(uv).any():
        fans, first = texture_fans(mesh, uv)
        places = np.nan_to_num(uv[first])
        lines += [f"vt {u:.9g} {v:.9g}" for u, v in places.tolist()]
        texture = (fans + 1).tolist()
    if library:
        lines.append(f"usemtl {name}")
    lines.append("s 1")
    lines += _face_lines(mesh, uv, texture)
    return "\n".join(lines) + "\n"


def _face_lines(mesh: PolyMesh, uv: Floats | None, texture: list[int]) -> list[str]:
    corner = (mesh.corners + 1).tolist()
    starts = mesh.starts.tolist()
    mapped: list[Any] = np.isfinite(uv).all(axis=1).tolist() if uv is not None else []  # type: ignore[assignment]
    out = []
    for f in range(mesh.n_faces):
        span = range(starts[f], starts[f + 1])
        if texture and all(mapped[c] for c in span):
            out.append("f " + " ".join(f"{corner[c]}/{texture[c]}" for c in span))
        else:
            out.append("f " + " ".join(str(corner[c]) for c in span))
    return out


def mtl_text(name: str) -> str:
    """A plain material for the jacket, so that the file names one."""
    return f"# Jacket\nnewmtl {name}\nKa 0 0 0\nKd 0.8 0.8 0.8\nKs 0 0 0\nd 1\nillum 1\n"


def write_obj(mesh: PolyMesh, path: Path) -> None:
    """OBJ with an MTL of the same name beside it."""
    name = "".join(c if c.isalnum() or c in "-_" else "_" for c in path.stem) or "jacket"
    library = path.with_suffix(".mtl")
    text = obj_text(mesh, name, library.name)
    write_bytes(library, mtl_text(name).encode())
    write_bytes(path, text.encode())
