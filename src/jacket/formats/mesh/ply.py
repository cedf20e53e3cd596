"""PLY, ASCII and both binary orders, any property order and types, polygons and strips.

Described in Greg Turk, "The PLY Polygon File Format" (1994). Names of colour and texture properties
and the comment TextureFile are common practice.
"""

from __future__ import annotations

import io
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import kernel
from jacket.core.mesh.materials import Material
from jacket.core.mesh.polymesh import PolyMesh
from jacket.errors import FormatError
from jacket.formats.atomic import write_bytes
from jacket.formats.mesh.numbers import parse_float, skip_blank
from jacket.formats.mesh.pictures import picture_material
from jacket.formats.mesh.ply_header import Element, Order, read_header
from jacket.progress import Progress, silent

_LISTS = ("vertex_indices", "vertex_index")
_COLOURS = (("red", "green", "blue", "alpha"), ("r", "g", "b", "a"),
            ("diffuse_red", "diffuse_green", "diffuse_blue", "diffuse_alpha"))  # fmt: skip
_PLACES = (("s", "t"), ("u", "v"), ("texture_u", "texture_v"), ("texcoord_u", "texcoord_v"))


@dataclass
class _Table:
    """Columns of an element: scalars (rows,), lists as (items, start (rows + 1,))."""

    scalars: dict[str, NDArray[Any]] = field(default_factory=dict)
    lists: dict[str, tuple[NDArray[Any], NDArray[Any]]] = field(default_factory=dict)


def read_ply(data: bytearray, path: Path, progress: Progress = silent) -> PolyMesh:
    """Points and polygons with UVs, point colours and a picture where the file has them."""
    if data[:3] != b"ply":
        raise FormatError(f"{path.name} does not begin like a PLY file; it may be another format.")
    kind, elements, comments, at = read_header(data, path, len(data))
    tables: dict[str, _Table] = {}
    raw = np.frombuffer(data, np.uint8)
    for k, element in enumerate(elements):
        per = element.least_bytes if kind != "=" else 2 * len(element.properties)
        if element.rows and (per == 0 or element.rows * per > len(data) - at + 2):
            raise FormatError(
                f"{path.name} promises {element.rows:,} of {element.name}, more than it can hold; it is cut short."
            )
        read = _ascii_table if kind == "=" else _binary_table
        tables[element.name], at = read(raw, at, element, kind, path)
        progress((k + 1) / len(elements), f"understanding {path.name}")
        if element.name in ("face", "tristrips"):
            break
    return _assembled(tables, comments, path)


# ---- binary ------------------------------------------------------------------------------------------


def _binary_table(raw: NDArray[np.uint8], at: int, element: Element, order: Order, path: Path) -> tuple[_Table, int]:
    if element.rows == 0:
        return _Table(), at
    lengths = _first_lengths(raw, at, element, order)
    table = _even_table(raw, at, element, order, lengths) if lengths is not None else None
    return table if table is not None else _ragged_table(raw, at, element, order, path)


def _first_lengths(raw: NDArray[np.uint8], at: int, element: Element, order: Order) -> list[int] | None:
    """Lengths of the lists in the first row; None where it does not fit the file."""
    lengths = []
    for p in element.properties:
        if p.count is None:
            at += p.dtype.itemsize
            continue
        if at + p.count.itemsize > len(raw):
            return None
        n = int(np.frombuffer(raw, p.count.newbyteorder(order), 1, at)[0])
        lengths.append(n)
        at += p.count.itemsize + n * p.dtype.itemsize
        if not 0 <= n <= 1000 or at > len(raw):
            return None
    return lengths


def _even_table(
    raw: NDArray[np.uint8], at: int, element: Element, order: Order, lengths: list[int]
) -> tuple[_Table, int] | None:
    """A table whose lists all have the lengths of the first row's, seen as one array of records."""
    fields: list[Any] = []
    left = iter(lengths)
    for k, p in enumerate(element.properties):
        if p.count is None:
            fields.append((f"p{k}", p.dtype.newbyteorder(order)))
        else:
            fields += [(f"n{k}", p.count.newbyteorder(order)), (f"p{k}", p.dtype.newbyteorder(order), (next(left),))]
    record = np.dtype(fields)
    if at + record.itemsize * element.rows > len(raw):
        return None
    rows = np.frombuffer(raw, record, element.rows, at)
    table = _Table()
    for k, p in enumerate(element.properties):
        if p.count is None:
            table.scalars[p.name] = rows[f"p{k}"]
            continue
        n = rows[f"p{k}"].shape[1]
        if not (rows[f"n{k}"] == n).all():
            return None
        table.lists[p.name] = (rows[f"p{k}"], np.arange(0, n * element.rows + 1, max(n, 1), dtype=np.int64))
    return table, at + record.itemsize * element.rows


def _ragged_table(raw: NDArray[np.uint8], at: int, element: Element, order: Order, path: Path) -> tuple[_Table, int]:
    counts = np.array([p.count.itemsize if p.count is not None else 0 for p in element.properties])
    sizes = np.array([p.dtype.itemsize for p in element.properties])
    places, lengths, end = _walk(raw, at, element.rows, counts, sizes, order == ">")
    if end < 0:
        raise FormatError(f"{path.name} is cut short in its list of {element.name}; export it again.")
    table = _Table()
    for k, p in enumerate(element.properties):
        kind = p.dtype.newbyteorder(order)
        if p.count is None:
            table.scalars[p.name] = _gathered(raw, places[:, k], np.ones(element.rows, np.int64), sizes[k]).view(kind)
        else:
            items = _gathered(raw, places[:, k], lengths[:, k], sizes[k]).view(kind)
            table.lists[p.name] = (items, np.concatenate([[0], np.cumsum(lengths[:, k])]))
    return table, end


@kernel
def _walk(raw, at, rows, counts, sizes, big):
    """Where each property of each row begins, and how long its lists are; end −1 where it does not fit."""
    n = len(raw)
    places = np.empty((rows, len(sizes)), np.int64)
    lengths = np.ones((rows, len(sizes)), np.int64)
    for r in range(rows):
        for k in range(len(sizes)):
            size = sizes[k]
            if counts[k] > 0:
                if at + counts[k] > n:
                    return places, lengths, -1
                length = np.int64(0)
                for b in range(counts[k]):
                    byte = np.int64(raw[at + (b if big else counts[k] - 1 - b)])
                    length = length * 256 + byte
                at += counts[k]
                if length < 0 or length > n:
                    return places, lengths, -1
                lengths[r, k] = length
                size *= length
            places[r, k] = at
            at += size
            if at > n:
                return places, lengths, -1
    return places, lengths, at


@kernel
def _gathered(raw, places, lengths, size):
    out = np.empty(lengths.sum() * size, np.uint8)
    used = 0
    for r in range(len(places)):
        for b in range(lengths[r] * size):
            out[used] = raw[places[r] + b]
            used += 1
    return out


# ---- ASCII -------------------------------------------------------------------------------------------


def _ascii_table(raw: NDArray[np.uint8], at: int, element: Element, order: Order, path: Path) -> tuple[_Table, int]:
    listed = np.array([p.count is not None for p in element.properties])
    scalars, items, lengths, end = _tokens(raw, at, element.rows, listed)
    if end < 0:
        raise FormatError(f"{path.name} cannot be understood in its list of {element.name}; it may be cut short.")
    table = _Table()
    which = np.repeat(np.tile(np.arange(len(listed)), element.rows), lengths.ravel())[: len(items)]
    for k, p in enumerate(element.properties):
        if p.count is None:
            table.scalars[p.name] = scalars[:, k]
        else:
            own = items[which == k] if listed.sum() > 1 else items
            table.lists[p.name] = (own, np.concatenate([[0], np.cumsum(lengths[:, k])]))
    return table, end


@kernel
def _tokens(raw, at, rows, listed):
    """Scalars (rows, K), list items one after another, list lengths (rows, K), and the end (−1: bad)."""
    n = len(raw)
    scalars = np.zeros((rows, len(listed)))
    items = np.empty((n - at) // 2 + 1 if listed.any() else 1)
    lengths = np.zeros((rows, len(listed)), np.int64)
    used = 0
    for r in range(rows):
        for k in range(len(listed)):
            at = skip_blank(raw, at, n)
            value, at, good = parse_float(raw, at, n)
            if not good:
                return scalars, items[:0], lengths, -1
            if not listed[k]:
                scalars[r, k] = value
                continue
            if not (0 <= value <= n):
                return scalars, items[:0], lengths, -1
            lengths[r, k] = np.int64(value)
            for _ in range(lengths[r, k]):
                at = skip_blank(raw, at, n)
                value, at, good = parse_float(raw, at, n)
                if not good or used >= len(items):
                    return scalars, items[:0], lengths, -1
                items[used] = value
                used += 1
    return scalars, items[:used].copy(), lengths, at


# ---- from tables to a mesh ---------------------------------------------------------------------------


def _assembled(tables: dict[str, _Table], comments: list[str], path: Path) -> PolyMesh:
    vertex = tables.get("vertex", _Table()).scalars
    if not {"x", "y", "z"} <= set(vertex):
        raise FormatError(f"{path.name} has no points with x, y and z; export it again.")
    points = np.empty((len(vertex["x"]), 3))
    for k, axis in enumerate("xyz"):
        points[:, k] = vertex[axis]
    extra: dict[str, Any] = {}
    colour = _point_colours(vertex)
    if colour is not None:
        extra["point_data"] = {"colour": colour}
    faces = tables.get("face", _Table()).lists
    name = next((n for n in _LISTS if n in faces), None)
    if name is None and "tristrips" in tables:
        corners, starts = _strips(tables["tristrips"], path), None
    elif name is None:
        what = "faces without vertex_indices; export it again" if tables.get("face", _Table()).scalars else (
            "no faces; a point cloud has to be meshed first")  # fmt: skip
        raise FormatError(f"{path.name} has {what}.")
    else:
        corners, starts = faces[name]
    corners = np.asarray(corners)
    if starts is None or (corners.ndim == 2 and corners.shape[1] >= 3):
        mesh = PolyMesh.from_faces(points, _integers(corners), **extra)
        sizes = np.full(mesh.n_faces, corners.shape[1])
        keep = np.ones(mesh.n_faces, bool)
    else:
        sizes = np.diff(starts)
        keep = sizes >= 3
        if not keep.any():
            raise FormatError(f"{path.name} has no faces; a point cloud has to be meshed first.")
        kept = _integers(corners.ravel()[np.repeat(keep, sizes)])
        mesh = PolyMesh.checked(points, kept, np.concatenate([[0], np.cumsum(sizes[keep])]), **extra)
    uv = _uvs(mesh, vertex, faces, sizes, keep)
    if uv is not None:
        mesh = mesh.with_uv(uv)
    return _with_picture(mesh, comments, path)


def _integers(values: NDArray[Any]) -> NDArray[Any]:
    """Indices in a type that can be compared safely; those that do not fit become −1, which is refused."""
    if values.dtype.kind == "i" and values.dtype.itemsize <= 4:
        return values.astype(np.int32)
    with np.errstate(invalid="ignore"):
        wide = values.astype(np.int64)
    return np.where((wide < 0) | (wide > 2**31 - 1), -1, wide).astype(np.int32)


def _point_colours(vertex: dict[str, NDArray[Any]]) -> NDArray[np.uint8] | None:
    for names in _COLOURS:
        if all(n in vertex for n in names[:3]):
            out = np.full((len(vertex["x"]), 4), 255, np.uint8)
            for k, n in enumerate(names):
                if n in vertex:
                    column = np.nan_to_num(np.asarray(vertex[n], np.float64))
                    scale = 255.0 if vertex[names[0]].dtype.kind == "f" and column.max(initial=0) <= 1 else 1.0
                    scale = 255.0 / 65535.0 if vertex[n].dtype.itemsize == 2 else scale
                    out[:, k] = np.clip(np.rint(column * scale), 0, 255)
            return out
    return None


def _uvs(mesh: PolyMesh, vertex: Any, faces: Any, sizes: Any, keep: Any) -> NDArray[np.float64] | None:
    if "texcoord" in faces:
        items, starts = faces["texcoord"]
        if np.array_equal(np.diff(starts), 2 * sizes):
            places = np.asarray(items, np.float64).reshape(-1, 2)
            return places[np.repeat(keep, sizes)]
    for names in _PLACES:
        if all(n in vertex for n in names):
            return np.stack([np.asarray(vertex[n], np.float64)[mesh.corners] for n in names], axis=1)
    return None


def _strips(table: _Table, path: Path) -> NDArray[np.int64]:
    """Triangle strips, each ended by −1, in one or more lists; every second triangle is turned round."""
    lists = next((table.lists[n] for n in _LISTS if n in table.lists), None)
    if lists is None:
        raise FormatError(f"{path.name} has strips without vertex_indices; export it again.")
    items, starts = np.asarray(lists[0]).ravel().astype(np.int64), lists[1]
    strips = np.insert(items, starts[1:-1], -1)
    begin = np.flatnonzero(np.concatenate([[True], strips[:-1] < 0]))
    place = np.arange(len(strips)) - np.repeat(begin, np.diff(np.append(begin, len(strips))))
    a, b, c = strips[:-2], strips[1:-1], strips[2:]
    good = (a >= 0) & (b >= 0) & (c >= 0) & (a != b) & (b != c) & (c != a)
    odd = place[:-2] % 2 == 1
    return np.stack([np.where(odd, b, a), np.where(odd, a, b), c], axis=1)[good]


def _with_picture(mesh: PolyMesh, comments: list[str], path: Path) -> PolyMesh:
    named = [c.split(None, 1)[1] for c in comments if c.lower().startswith("texturefile ")]
    if not named or mesh.uv is None:
        return mesh
    material = picture_material(Material(Path(named[0]).stem), path, named[0])
    return mesh.with_(materials=(material,), face_data={**mesh.face_data, "material": np.zeros(mesh.n_faces, np.int32)})


# ---- writing -----------------------------------------------------------------------------------------


def write_ply(mesh: PolyMesh, path: Path, precision: Any = np.float64) -> None:
    """Write a mesh as `ply_bytes` has it."""
    write_bytes(path, ply_bytes(mesh, precision))


def ply_bytes(mesh: PolyMesh, precision: Any = np.float64) -> bytes:
    """Binary little-endian PLY with polygons, point colours and the UVs of corners (as texcoord, common
    practice); coordinates in single or double precision."""
    fields: list[Any] = [(axis, np.dtype(precision).newbyteorder("<")) for axis in "xyz"]
    colour = mesh.point_data.get("colour")
    if colour is not None:
        fields += [(name, "u1") for name in _COLOURS[0]]
    vertex = np.zeros(mesh.n_points, fields)
    for k, axis in enumerate("xyz"):
        vertex[axis] = mesh.points[:, k]
    if colour is not None:
        for k, name in enumerate(_COLOURS[0]):
            vertex[name] = colour[:, k]
    kind = "double" if np.dtype(precision).itemsize == 8 else "float"
    most = int(mesh.sizes.max(initial=3))
    head = ["ply", "format binary_little_endian 1.0", "comment Jacket", f"element vertex {mesh.n_points}"]
    head += [f"property {kind} {axis}" for axis in "xyz"]
    head += [f"property uchar {name}" for name in _COLOURS[0]] if colour is not None else []
    head += [f"element face {mesh.n_faces}", f"property list {'uchar' if most < 256 else 'int'} int vertex_indices"]
    uv = mesh.uv if mesh.uv is not None and bool(np.isfinite(mesh.uv).all()) else None
    if uv is not None:
        head.append("property list uchar float texcoord" if most < 128 else "property list int float texcoord")
    out = io.BytesIO()
    out.write(("\n".join([*head, "end_header"]) + "\n").encode())
    out.write(vertex.tobytes())
    out.write(_face_bytes(mesh, most, uv))
    return out.getvalue()


def _face_bytes(mesh: PolyMesh, most: int, uv: NDArray[np.float64] | None) -> bytes:
    count = "u1" if most < 256 else "<i4"
    places = "u1" if most < 128 else "<i4"
    if mesh.n_faces and (mesh.sizes == most).all():
        fields: list[Any] = [("n", count), ("p", "<i4", (most,))]
        fields += [("m", places), ("t", "<f4", (2 * most,))] if uv is not None else []
        rows = np.zeros(mesh.n_faces, fields)
        rows["n"], rows["p"] = most, mesh.corners.reshape(mesh.n_faces, -1)
        if uv is not None:
            rows["m"], rows["t"] = 2 * most, uv.reshape(mesh.n_faces, -1)
        return rows.tobytes()
    out = []
    for a, b in zip(mesh.starts[:-1].tolist(), mesh.starts[1:].tolist(), strict=True):
        out += [np.array(b - a, count).tobytes(), mesh.corners[a:b].astype("<i4").tobytes()]
        if uv is not None:
            out += [np.array(2 * (b - a), places).tobytes(), uv[a:b].astype("<f4").tobytes()]
    return b"".join(out)
