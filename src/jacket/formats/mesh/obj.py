"""Wavefront OBJ with its MTL: polygons, texture and negative indices, groups, materials, point colours.

Described in "Object Files (.obj)", Appendix B1 of the Advanced Visualizer manual.
"""

from __future__ import annotations

import itertools
import os
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.bake.handed import texture_fans
from jacket.core.jit import inline, kernel
from jacket.core.mesh.materials import Material
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.mesh.tables import finite_rows
from jacket.core.mesh.unique import unique_rows
from jacket.errors import FormatError
from jacket.formats.atomic import beside, read_bytes, write_bytes
from jacket.formats.mesh.numbers import parse_float, parse_int, rows_of_text, skip_line, skip_spaces, skip_word
from jacket.formats.mesh.pictures import picture_material
from jacket.progress import Progress, part, silent


def read_obj(data: bytearray, path: Path, progress: Progress = silent) -> PolyMesh:
    """Points with colours, faces with any number of corners, UVs of corners that have a texture index,
    groups and materials of faces."""
    if b"\0" in data[:4096]:
        raise FormatError(f"{path.name} holds binary data, not OBJ text; export it again.")
    if b"\\\n" in data or b"\\\r\n" in data:
        data = data.replace(b"\\\r\n", b"  ").replace(b"\\\n", b" ")
    raw = np.frombuffer(data, np.uint8)
    begins = _line_starts(raw)
    pieces = list(itertools.pairwise(begins))
    counted = _side_by_side(lambda p: _count(raw, *p), pieces, part(progress, 0.0, 0.3), path)
    counts = np.array(counted)
    if len(counts) == 0 or counts[:, _POINTS].sum() == 0:
        raise FormatError(f"{path.name} has no points; it may not be an OBJ file.")
    parsed = _Parsed(counts)
    before = np.concatenate([np.zeros((1, counts.shape[1]), np.int64), np.cumsum(counts, axis=0)])
    bad = _side_by_side(lambda k: parsed.step(raw, pieces[k], before[k]), range(len(pieces)),
                        part(progress, 0.3, 0.9), path)  # fmt: skip
    bad_line = next((line for line in bad if line), 0)
    if bad_line:
        raise FormatError(f"{path.name} cannot be understood at line {bad_line}; export it again.")
    extra = _named_parts(data, parsed.events, len(parsed.starts) - 1, path)
    if parsed.colours is not None:
        extra["point_data"] = {"colour": _colour_bytes(parsed.colours)}
    mesh = PolyMesh.checked(parsed.points, parsed.corners, parsed.starts, **extra)
    if parsed.corner_texture is None:
        return mesh
    uv = _uvs(parsed.texture, parsed.corner_texture, path)
    return mesh.with_uv(uv) if uv is not None else mesh


_PIECE = 1 << 24
_POINTS, _TEXTURE, _FACES, _CORNERS, _EVENT, _LINES, _COLOURED = range(7)
"""What is counted of each piece of a file; the last only tells whether its first point has a colour."""


def _line_starts(raw: NDArray[np.uint8]) -> list[int]:
    """Where the pieces of a file begin and the last ends, always at the beginning of a line."""
    out = [0]
    while out[-1] < len(raw):
        at = out[-1] + _PIECE
        while at < len(raw):
            found = np.flatnonzero(raw[at : at + 4096] == 10)
            if len(found):
                at += int(found[0]) + 1
                break
            at += 4096
        out.append(min(at, len(raw)))
    return out


def _side_by_side(work: Callable[[Any], Any], items: Sequence[Any], progress: Progress, path: Path) -> list[Any]:
    """The results of kernels on pieces of a file, two or more at a time."""
    out: list[Any] = []
    with ThreadPoolExecutor(min(4, os.cpu_count() or 1)) as pool:
        try:
            for k, result in enumerate(pool.map(work, items)):
                out.append(result)
                progress((k + 1) / len(items), f"understanding {path.name}")
        except BaseException:
            pool.shutdown(wait=True, cancel_futures=True)
            raise
    return out


class _Parsed:
    """Arrays that fill up while the pieces of a file are read."""

    def __init__(self, counts: Ints) -> None:
        points, texture, faces, corners, events = (int(c) for c in counts.sum(axis=0)[:5])
        coloured = bool(counts[int(np.argmax(counts[:, _POINTS] > 0)), _COLOURED])
        self.points = np.empty((points, 3))
        self.colours = np.ones((points, 3), np.float32) if coloured else None
        self.texture = np.zeros((texture, 2))
        self.corners = np.empty(corners, np.int32)
        self.corner_texture = np.full(corners, -1, np.int32) if texture else None
        self.starts = np.zeros(faces + 1, np.int32)
        self.events = np.zeros((events, 3), np.int64)

    def step(self, raw: NDArray[np.uint8], piece: tuple[int, int], before: Ints) -> int:
        """Read one piece; the number of a line that makes no sense, or 0."""
        colours = self.colours if self.colours is not None else np.zeros((0, 3), np.float32)
        texture = self.corner_texture if self.corner_texture is not None else np.zeros(0, np.int32)
        return int(_parse(raw, *piece, self.points, colours, self.texture, self.corners, texture,
                          self.starts, self.events, before))  # fmt: skip


def _colour_bytes(colours: NDArray[np.float32]) -> NDArray[np.uint8]:
    """Colours after the coordinates of a point, 0..1 or 0..255 (common practice, in no specification)."""
    scale = 1.0 if colours.max(initial=0.0) > 1.0 else 255.0
    out = np.full((len(colours), 4), 255, np.uint8)
    out[:, :3] = np.clip(np.rint(np.nan_to_num(colours) * scale), 0, 255)
    return out


def _named_parts(data: bytearray, events: Ints, faces: int, path: Path) -> dict[str, Any]:
    """Groups and materials: tables of names, and for each face an index into them (−1 for none)."""
    names: dict[str, dict[str, int]] = {"group": {}, "material": {}}
    at = {"group": -1, "material": -1}
    rows: dict[str, list[tuple[int, int]]] = {"group": [], "material": []}
    libraries: list[str] = []
    for place, length, code in events.tolist():
        text = data[place : place + length].decode("utf-8", "replace").strip()
        kind, face = _EVENTS[code & 7], code >> 3
        if kind == "library":
            libraries.append(text)
            continue
        at[kind] = names[kind].setdefault(text or "default", len(names[kind]))
        rows[kind].append((face, at[kind]))
    out: dict[str, Any] = {}
    data_ = {}
    for kind, spans in rows.items():
        if not spans:
            continue
        begin = np.array([-1] + [f for f, _ in spans])
        value = np.array([-1] + [v for _, v in spans], np.int32)
        data_[kind] = value[np.searchsorted(begin, np.arange(faces), side="right") - 1]
    if "material" in data_:
        known: dict[str, Material] = {}
        for library in libraries[:64]:
            known |= _library(library, path)
        out["materials"] = tuple(known.get(n, Material(n)) for n in names["material"])
    if "group" in data_:
        out["groups"] = tuple(names["group"])
    return {**out, "face_data": data_}


_EVENTS = ("group", "material", "library")


def _library(name: str, path: Path) -> dict[str, Material]:
    """Materials of an MTL file in the folder tree of the OBJ file; one that is missing is no error."""
    target = beside(path, name.replace("\\", "/"))
    try:
        if not target.is_file() or target.stat().st_size > 50_000_000:
            return {}
    except (OSError, ValueError):
        return {}
    out: dict[str, Material] = {}
    current = ""
    for line in read_bytes(target).decode("utf-8", "replace").splitlines():
        words = line.split()
        if words[:1] == ["newmtl"] and len(words) > 1:
            current = line.split(None, 1)[1].strip()
            out[current] = Material(current)
        elif not current or len(words) < 2:
            continue
        elif words[0] == "Kd" and len(words) >= 4:
            r, g, b = (min(max(float(w), 0.0), 1.0) for w in words[1:4])
            out[current] = replace(out[current], colour=(r, g, b, out[current].colour[3]))
        elif words[0] == "d":
            out[current] = replace(out[current], colour=(*out[current].colour[:3], float(words[-1])))
        elif words[0] == "map_Kd":
            out[current] = picture_material(out[current], path, _file_of(words[1:]))
    return out


def _file_of(words: list[str]) -> str:
    """The file name after the options of a map (Appendix B: options begin with a minus)."""
    arguments = {"-o": 3, "-s": 3, "-t": 3, "-mm": 2}
    k = 0
    while k < len(words) - 1 and words[k].startswith("-"):
        k += 1
        most = arguments.get(words[k - 1], 1)
        while most and k < len(words) - 1 and (most == 1 or words[k].replace(".", "").lstrip("-").isdigit()):
            k += 1
            most -= 1
    return " ".join(words[k:])


def _uvs(texture: Floats, corner_texture: Ints, path: Path) -> Floats | None:
    used = corner_texture != -1
    if len(texture) == 0 or not used.any():
        return None
    if corner_texture.max() >= len(texture) or corner_texture.min() < -1:
        raise FormatError(f"{path.name} has a texture index out of range; the file may be cut short.")
    uv = texture[corner_texture]
    uv[~used] = np.nan
    return uv


@inline
def _word_is(data, i, end, a, b):
    """Whether the word at `i` is the one or two letters a, b (b = 0 for one)."""
    if b == 0:
        return i + 1 < end and data[i] == a and (data[i + 1] == 32 or data[i + 1] == 9)
    return i + 2 < end and data[i] == a and data[i + 1] == b and (data[i + 2] == 32 or data[i + 2] == 9)


@inline
def _event(data, i, end):
    """0 group, 1 material, 2 library where the line names one, else −1; and where the name begins."""
    if i + 1 < end and (data[i] == 103 or data[i] == 111) and (data[i + 1] == 32 or data[i + 1] == 9):
        return 0, i + 2
    if i + 7 < end and data[i] == 117 and data[i + 1] == 115 and data[i + 3] == 109 and data[i + 6] <= 32:
        return 1, i + 7
    if i + 7 < end and data[i] == 109 and data[i + 1] == 116 and data[i + 3] == 108 and data[i + 6] <= 32:
        return 2, i + 7
    return -1, i


@kernel
def _count(data, i, stop):
    """What the lines of a piece hold: see `_POINTS` and its fellows."""
    n = len(data)
    counts = np.zeros(7, np.int64)
    while i < stop:
        counts[5] += 1
        i = skip_spaces(data, i, n)
        if _word_is(data, i, n, 118, 0):
            if counts[0] == 0:
                words = 0
                j = i
                while j < n and data[j] != 10:
                    j = skip_spaces(data, skip_word(data, j, n), n)
                    words += j < n and data[j] != 10
                counts[6] = words >= 6
            counts[0] += 1
        elif _word_is(data, i, n, 118, 116):
            counts[1] += 1
        elif _word_is(data, i, n, 102, 0):
            i += 1
            words = 0
            while True:
                i = skip_spaces(data, i, n)
                if i >= n or data[i] == 10 or data[i] == 35:
                    break
                words += 1
                i = skip_word(data, i, n)
            if words >= 3:
                counts[2] += 1
                counts[3] += words
        elif i < n and (data[i] == 103 or data[i] == 111 or data[i] == 117 or data[i] == 109):
            counts[4] += _event(data, i, n)[0] >= 0
        i = skip_line(data, i, n)
    return counts


@inline
def _corner(data, i, n, p, t):
    """Point and texture index at a word of a face (−1 and −2 where out of range), and whether it makes sense."""
    value, j, good = parse_int(data, i, n)
    if not good or value == 0:
        return -1, -1, j, False
    index = value - 1 if value > 0 else p + value
    place = -1
    if j < n and data[j] == 47:
        value, k, good = parse_int(data, j + 1, n)
        if good and value != 0:
            place = value - 1 if value > 0 else t + value
            place = place if 0 <= place < 2147483647 else -2
            j = k
    return index if 0 <= index < 2147483647 else -1, place, j, True


@kernel
def _parse(data, i, stop, points, colours, texture, corners, corner_texture, starts, events, before):
    """Read the lines of a piece into the arrays, from where the pieces `before` it end; the number of a line
    that makes no sense, or 0."""
    n = len(data)
    p, t, f, c, e, line = before[0], before[1], before[2], before[3], before[4], before[5]
    numbers = 6 if len(colours) > 0 else 3
    mapped = len(corner_texture) > 0
    first = np.empty((2, 2), np.int64)
    while i < stop:
        line += 1
        i = skip_spaces(data, i, n)
        if _word_is(data, i, n, 118, 0):
            i += 1
            for k in range(numbers):
                i = skip_spaces(data, i, n)
                value, i, good = parse_float(data, i, n)
                if k < 3:
                    if not good:
                        return line
                    points[p, k] = value
                elif good:
                    colours[p, k - 3] = value
            p += 1
        elif _word_is(data, i, n, 118, 116):
            i += 2
            for k in range(2):
                i = skip_spaces(data, i, n)
                value, i, good = parse_float(data, i, n)
                if not good and k == 0:
                    return line
                texture[t, k] = value
            t += 1
        elif _word_is(data, i, n, 102, 0):
            i += 1
            words = 0
            while True:
                i = skip_spaces(data, i, n)
                if i >= n or data[i] == 10 or data[i] == 35:
                    break
                index, place, i, good = _corner(data, i, n, p, t)
                if not good:
                    return line
                # Two corners make no face: they are kept aside until there is a third.
                if words < 2:
                    first[words, 0], first[words, 1] = index, place
                else:
                    if words == 2:
                        for k in range(2):
                            corners[c + k] = first[k, 0]
                            if mapped:
                                corner_texture[c + k] = first[k, 1]
                    corners[c + words] = index
                    if mapped:
                        corner_texture[c + words] = place
                words += 1
                i = skip_word(data, i, n)
            if words >= 3:
                c += words
                f += 1
                starts[f] = c
        elif i < n and (data[i] == 103 or data[i] == 111 or data[i] == 117 or data[i] == 109):
            code, begin = _event(data, i, n)
            if code >= 0:
                end = begin
                while end < n and data[end] != 10:
                    end += 1
                events[e, 0] = begin
                events[e, 1] = min(end - begin, 400)
                events[e, 2] = f * 8 + code
                e += 1
        i = skip_line(data, i, n)
    return 0


def obj_text(mesh: PolyMesh, name: str, library: str = "", normals: Floats | None = None) -> str:
    """The mesh as OBJ text; UVs where every corner of a face is mapped; groups, materials and point colours
    where the mesh has them; normals (C, 3) of corners where they are given, so that no reader makes its own."""
    lines = ["# Jacket"]
    if library:
        lines.append(f"mtllib {library}")
    if not mesh.groups:
        lines.append(f"o {name}")
    lines += _point_lines(mesh)
    uv = mesh.uv
    texture: list[int] = []
    if uv is not None and np.isfinite(uv).any():
        fans, first = texture_fans(mesh, uv)
        places = np.nan_to_num(uv[first])
        lines += [f"vt {text}" for text in rows_of_text(places)]
        texture = (fans + 1).tolist()
    if library and "material" not in mesh.face_data:
        lines.append(f"usemtl {name}")
    turned: list[int] = []
    if normals is not None:
        rows = np.round(normals, 7) + 0.0
        once, same = unique_rows(rows)
        lines += [f"vn {text}" for text in rows_of_text(rows[once])]
        turned = (same + 1).tolist()
    lines.append("s 1")
    lines += _face_lines(mesh, uv, texture, turned)
    return "\n".join(lines) + "\n"


def _point_lines(mesh: PolyMesh) -> list[str]:
    colour = mesh.point_data.get("colour")
    rows = rows_of_text(mesh.points)
    if colour is None:
        return [f"v {row}" for row in rows]
    shades = (colour[:, :3] / 255.0).tolist()
    return [f"v {row} {r:.4g} {g:.4g} {b:.4g}" for row, (r, g, b) in zip(rows, shades, strict=True)]


def _switches(mesh: PolyMesh) -> dict[int, list[str]]:
    """Lines that go before certain faces: where the group or the material changes."""
    out: dict[int, list[str]] = {}
    for kind, word, names in (
        ("group", "g", list(mesh.groups)),
        ("material", "usemtl", [_token(m.name) for m in mesh.materials]),
    ):
        values = mesh.face_data.get(kind)
        if values is None or not names:
            continue
        change = np.flatnonzero(np.concatenate([[True], values[1:] != values[:-1]]))
        for f in change.tolist():
            out.setdefault(f, []).append(f"{word} {names[values[f]] if values[f] >= 0 else 'default'}")
    return out


def _token(name: str) -> str:
    return "_".join(name.split()) or "default"


def _face_lines(mesh: PolyMesh, uv: Floats | None, texture: list[int], turned: list[int]) -> list[str]:
    corner = (mesh.corners + 1).tolist()
    starts = mesh.starts.tolist()
    mapped: list[Any] = finite_rows(uv).tolist() if uv is not None else []  # type: ignore[assignment]
    switches = _switches(mesh)
    out = []
    for f in range(mesh.n_faces):
        if f in switches:
            out += switches[f]
        span = range(starts[f], starts[f + 1])
        if texture and all(mapped[c] for c in span):
            tail = [f"/{turned[c]}" for c in span] if turned else [""] * len(span)
            out.append("f " + " ".join(f"{corner[c]}/{texture[c]}{t}" for c, t in zip(span, tail, strict=True)))
        elif turned:
            out.append("f " + " ".join(f"{corner[c]}//{turned[c]}" for c in span))
        else:
            out.append("f " + " ".join(str(corner[c]) for c in span))
    return out


def mtl_text(mesh: PolyMesh, name: str) -> str:
    """The mesh's materials, or a plain one, so that the file names one."""
    materials = mesh.materials if "material" in mesh.face_data else ()
    out = ["# Jacket"]
    for k, m in enumerate(materials or (Material(name),)):
        r, g, b, alpha = m.colour
        out += [
            f"newmtl {_token(m.name)}",
            "Ka 0 0 0",
            f"Kd {r:.6g} {g:.6g} {b:.6g}",
            "Ks 0 0 0",
            f"d {alpha:.6g}",
            "illum 1",
        ]
        if m.picture:
            out.append(f"map_Kd {_picture_name(name, k, m)}")
    return "\n".join(out) + "\n"


def _picture_name(name: str, index: int, material: Material) -> str:
    return f"{name}-{index + 1}.{'png' if material.picture[:1] == bytes([0x89]) else 'jpg'}"


def write_obj(mesh: PolyMesh, path: Path) -> None:
    """OBJ with an MTL of the same name and its pictures beside it."""
    name = "".join(c if c.isalnum() or c in "-_" else "_" for c in path.stem) or "jacket"
    library = path.with_suffix(".mtl")
    text = obj_text(mesh, name, library.name)
    if "material" in mesh.face_data:
        for k, m in enumerate(mesh.materials):
            if m.picture:
                write_bytes(path.with_name(_picture_name(name, k, m)), m.picture)
    write_bytes(library, mtl_text(mesh, name).encode())
    write_bytes(path, text.encode())
