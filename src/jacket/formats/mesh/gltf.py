"""Reading glTF 2.0, .gltf and .glb. Section numbers are the Khronos specification's.

The file is taken as plain JSON and checked here, so that nothing in it is trusted.
"""

from __future__ import annotations

import base64
import json
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import numpy as np
from numpy.typing import NDArray

from jacket.core.mesh.materials import Material
from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.core.source.weld import weld_map
from jacket.core.tone import to_screen
from jacket.errors import FormatError
from jacket.formats.atomic import beside, read_bytes
from jacket.formats.mesh.pictures import checked_picture, picture_material
from jacket.progress import Progress, silent

_TYPES = {5120: "i1", 5121: "u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
_WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4}
_HARMLESS = ("KHR_mesh_quantization", "KHR_materials", "KHR_texture", "KHR_technique", "KHR_lights", "KHR_xmp")
"""Beginnings of required extensions that leave points and faces as they are."""


@dataclass
class _Part:
    """A primitive placed in the scene."""

    points: Floats
    triangles: NDArray[np.int32]
    uv: Floats | None
    colour: NDArray[np.uint8] | None
    material: int
    group: str


@dataclass
class _Scene:
    """A file's JSON and its buffers, with what has been found in it so far."""

    json: dict[str, Any]
    path: Path
    blob: memoryview
    progress: Progress
    buffers: dict[int, memoryview] = field(default_factory=dict)
    parts: list[_Part] = field(default_factory=list)
    left: int = 20_000
    points: int = 0


def read_gltf(data: bytearray, path: Path, progress: Progress = silent) -> PolyMesh:
    """All triangles of the scene under their node transforms, joined into one mesh; nodes become groups."""
    text, blob = _chunks(data, path)
    try:
        document = json.loads(bytes(text).decode("utf-8"))
    except (ValueError, RecursionError):
        raise FormatError(f"{path.name} is not readable as glTF; export it again.") from None
    if not isinstance(document, dict) or not str(document.get("asset", {}).get("version", "")).startswith("2"):
        raise FormatError(f"{path.name} is not glTF 2.0; export it in that version.")
    unknown = {str(e) for e in document.get("extensionsRequired", []) if not str(e).startswith(_HARMLESS)}
    if unknown:
        raise FormatError(
            f"{path.name} is packed with {', '.join(sorted(unknown))}, which Jacket does not read; "
            "export it without compression."
        )
    scene = _Scene(document, path, blob, progress)
    for root in _roots(document):
        _visit(scene, root, np.eye(4), 0)
    if not scene.parts:
        raise FormatError(f"{path.name} has no triangles in its scene; export the mesh again.")
    return _joined(scene)


def _chunks(data: bytearray, path: Path) -> tuple[memoryview, memoryview]:
    """Section 4.4: header, then a JSON chunk and at most one binary chunk; .gltf is the JSON alone."""
    view = memoryview(data)
    if bytes(view[:4]) != b"glTF":
        return view, view[:0]
    if len(view) < 20 or int.from_bytes(view[8:12], "little") > len(view):
        raise FormatError(f"{path.name} is shorter than its header says; it is cut short.")
    text, blob, at = view[:0], view[:0], 12
    while at + 8 <= len(view):
        size, kind = int.from_bytes(view[at : at + 4], "little"), bytes(view[at + 4 : at + 8])
        if at + 8 + size > len(view):
            raise FormatError(f"{path.name} is shorter than its header says; it is cut short.")
        if kind == b"JSON" and not len(text):
            text = view[at + 8 : at + 8 + size]
        elif kind == b"BIN\0" and not len(blob):
            blob = view[at + 8 : at + 8 + size]
        at += 8 + size + -size % 4
    return text, blob


def _roots(document: dict[str, Any]) -> list[int]:
    """Section 3.5.1: the nodes of the scene shown first; all root nodes where there is no scene."""
    scenes = document.get("scenes", [])
    if scenes:
        return [int(n) for n in scenes[int(document.get("scene", 0))].get("nodes", [])]
    nodes = document.get("nodes", [])
    below = {int(c) for n in nodes for c in n.get("children", [])}
    return [k for k in range(len(nodes)) if k not in below]


def _visit(scene: _Scene, index: int, above: Floats, depth: int) -> None:
    # Section 3.5.2: nodes form strict trees; a circle or a node used over and over would never end.
    scene.left -= 1
    if depth > 64 or scene.left < 0 or index < 0:
        raise FormatError("The scene's nodes refer to each other in a circle; export it again.")
    node = scene.json["nodes"][index]
    matrix = above @ _local_matrix(node)
    if node.get("mesh") is not None:
        mesh = _entry(scene, "meshes", node["mesh"])
        name = str(node.get("name") or mesh.get("name") or f"node {index}")
        for primitive in mesh.get("primitives", []):
            if "POSITION" in primitive.get("attributes", {}) and int(primitive.get("mode", 4)) in (4, 5, 6):
                scene.parts.append(_primitive(scene, primitive, matrix, name))
                scene.points += len(scene.parts[-1].points) + len(scene.parts[-1].triangles)
                if scene.points > 200_000_000:
                    raise FormatError(f"{scene.path.name} repeats its meshes too often; export fewer copies.")
                scene.progress(0.2, f"reading {name[:40]}")
    for child in node.get("children", []):
        _visit(scene, int(child), matrix, depth + 1)


def _entry(scene: _Scene, table: str, index: Any) -> Any:
    rows = scene.json.get(table, [])
    if not 0 <= int(index) < len(rows):
        raise FormatError(f"{scene.path.name} refers to one of its {table} that is not there; export it again.")
    return rows[int(index)]


def _local_matrix(node: dict[str, Any]) -> Floats:
    """Section 3.5.3: a matrix in columns, or translation · rotation · scale."""
    if node.get("matrix"):
        return np.array(node["matrix"], float).reshape(4, 4).T
    out = np.eye(4)
    if node.get("rotation"):
        x, y, z, w = (float(v) for v in node["rotation"])
        out[:3, :3] = [
            [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
            [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
            [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
        ]
    if node.get("scale"):
        out[:3, :3] = out[:3, :3] * np.array(node["scale"], float)
    if node.get("translation"):
        out[:3, 3] = node["translation"]
    return out


def _primitive(scene: _Scene, primitive: dict[str, Any], matrix: Floats, name: str) -> _Part:
    attributes = primitive["attributes"]
    points = _accessor(scene, attributes["POSITION"], 3).astype(np.float64)
    if primitive.get("indices") is None:
        order = np.arange(len(points), dtype=np.int32)
    else:
        order = _accessor(scene, primitive["indices"], 1).ravel()
    if len(order) and int(order.max()) >= min(len(points), 2**31 - 1):
        raise FormatError(f"{scene.path.name} refers to points that are not there; it is cut short.")
    triangles = _triangles(order.astype(np.int32), int(primitive.get("mode", 4)))
    if np.linalg.det(matrix[:3, :3]) < 0:
        triangles = triangles[:, ::-1]  # section 3.7.4: a mirrored node turns the winding round
    uv = colour = None
    if "TEXCOORD_0" in attributes:
        uv = _accessor(scene, attributes["TEXCOORD_0"], 2).astype(np.float64)
        # Section 3.8.1: the texture's origin is its upper left.
        uv = np.stack([uv[:, 0], 1.0 - uv[:, 1]], axis=1)
    if "COLOR_0" in attributes:
        colour = _colours(_accessor(scene, attributes["COLOR_0"], 0))
    for values in (uv, colour):
        if values is not None and len(values) != len(points):
            raise FormatError(f"{scene.path.name} has attributes of different lengths; export it again.")
    material = primitive.get("material")
    if not np.array_equal(matrix, np.eye(4)):
        points = points @ matrix[:3, :3].T + matrix[:3, 3]
    return _Part(points, triangles, uv, colour, -1 if material is None else int(material), name)


def _triangles(order: NDArray[np.int32], mode: int) -> NDArray[np.int32]:
    """Section 3.7.2.1: triangles, a strip (every second turned round) or a fan."""
    if mode == 4:
        return order[: len(order) // 3 * 3].reshape(-1, 3)
    if len(order) < 3:
        return np.zeros((0, 3), np.int32)
    if mode == 6:
        return np.stack([np.full(len(order) - 2, order[0]), order[1:-1], order[2:]], axis=1)
    odd = np.arange(len(order) - 2) % 2 == 1
    a, b, c = order[:-2], order[1:-1], order[2:]
    return np.stack([np.where(odd, b, a), np.where(odd, a, b), c], axis=1)


def _colours(values: NDArray[Any]) -> NDArray[np.uint8]:
    """Section 3.7.2.1: linear colours, with or without alpha, as floats or normalised integers."""
    out = np.full((len(values), 4), 255, np.uint8)
    linear = np.nan_to_num(values.astype(np.float64))
    out[:, :3] = np.rint(to_screen(linear[:, :3]) * 255)
    if linear.shape[1] == 4:
        out[:, 3] = np.clip(np.rint(linear[:, 3] * 255), 0, 255)
    return out


def _accessor(scene: _Scene, index: Any, width: int) -> NDArray[Any]:
    """Section 3.6.2: interleaved, normalised and sparse data included. (count, width)."""
    accessor = _entry(scene, "accessors", index)
    dtype, own = np.dtype(_TYPES[int(accessor["componentType"])]), _WIDTHS[str(accessor["type"])]
    count = int(accessor["count"])
    if (width and own != width) or (not width and own < 3) or count < 0:
        raise FormatError(f"{scene.path.name} has an array of an unexpected shape; export it again.")
    if accessor.get("bufferView") is not None:
        out = _array(scene, accessor["bufferView"], int(accessor.get("byteOffset", 0)), dtype, own, count)
    elif "sparse" in accessor and count * own <= 40_000_000:
        out = np.zeros((count, own), dtype)
    else:
        raise FormatError(f"{scene.path.name} has an array without data; export it without compression.")
    if "sparse" in accessor:
        out = out.copy()
        sparse = accessor["sparse"]
        n, where, what = int(sparse["count"]), sparse["indices"], sparse["values"]
        rows = _array(scene, where["bufferView"], int(where.get("byteOffset", 0)),
                      np.dtype(_TYPES[int(where["componentType"])]), 1, n)  # fmt: skip
        out[rows.ravel()] = _array(scene, what["bufferView"], int(what.get("byteOffset", 0)), dtype, own, n)
    if accessor.get("normalized") and dtype.kind in "iu":
        # Section 3.6.2.2: c / (2ⁿ − 1), signed values never below −1.
        return np.maximum(out / np.iinfo(dtype).max, -1.0)
    return out


def _array(scene: _Scene, view_index: Any, offset: int, dtype: np.dtype[Any], width: int, count: int) -> NDArray[Any]:
    view = _entry(scene, "bufferViews", view_index)
    buffer = _buffer(scene, int(view["buffer"]))
    start = int(view.get("byteOffset", 0)) + offset
    stride = int(view.get("byteStride") or dtype.itemsize * width)
    if start < 0 or offset < 0 or stride < 0 or (
        count and start + stride * (count - 1) + dtype.itemsize * width > len(buffer)
    ):  # fmt: skip
        raise FormatError(f"{scene.path.name}: its buffer is shorter than its tables say; it is cut short.")
    if count == 0:
        return np.zeros((0, width), dtype)
    return np.ndarray((count, width), dtype, buffer, start, (stride, dtype.itemsize))


def _buffer(scene: _Scene, index: int) -> memoryview:
    """Section 3.6.1: a file of its own in the same folder tree, data in the JSON, or the binary chunk."""
    if index not in scene.buffers:
        uri = _entry(scene, "buffers", index).get("uri")
        if uri is None:
            scene.buffers[index] = scene.blob
        elif str(uri).startswith("data:"):
            scene.buffers[index] = memoryview(base64.b64decode(str(uri).split(",", 1)[1]))
        else:
            scene.buffers[index] = memoryview(read_bytes(beside(scene.path, unquote(str(uri))), scene.progress))
    return scene.buffers[index]


# ---- the whole scene as one mesh ---------------------------------------------------------------------


def _joined(scene: _Scene) -> PolyMesh:
    """glTF repeats points where normals or UVs differ; they are joined again by position."""
    parts = scene.parts
    if len(parts) == 1:
        points, triangles = parts[0].points, parts[0].triangles
    else:
        offsets = np.concatenate([[0], np.cumsum([len(p.points) for p in parts])]).astype(np.int32)
        points = np.concatenate([p.points for p in parts])
        triangles = np.concatenate([p.triangles + o for p, o in zip(parts, offsets, strict=False)])
    scene.progress(0.6, "joining points")
    kept, new = weld_map(points)
    extra: dict[str, Any] = {"point_data": {}, "face_data": {}}
    uv = None
    if any(p.uv is not None for p in parts):
        uv = np.concatenate([p.uv if p.uv is not None else np.full((len(p.points), 2), np.nan) for p in parts])
        uv = uv[triangles.ravel()]
    if any(p.colour is not None for p in parts):
        white = [p.colour if p.colour is not None else np.full((len(p.points), 4), 255, np.uint8) for p in parts]
        extra["point_data"] = {"colour": np.concatenate(white)[kept]}
    counts = [len(p.triangles) for p in parts]
    if any(p.material >= 0 for p in parts):
        extra["materials"] = tuple(_material(scene, k) for k in range(len(scene.json.get("materials", []))))
        label = [p.material if p.material < len(extra["materials"]) else -1 for p in parts]
        extra["face_data"]["material"] = np.repeat(np.array(label, np.int32), counts)
    names = list(dict.fromkeys(p.group for p in parts))
    if len(names) > 1:
        extra["groups"] = tuple(names)
        extra["face_data"]["group"] = np.repeat(np.array([names.index(p.group) for p in parts], np.int32), counts)
    if len(kept) < len(points):
        points, triangles = points[kept], new[triangles]
    mesh = PolyMesh.from_faces(points, triangles, **extra)
    return mesh.with_uv(uv) if uv is not None else mesh


def _material(scene: _Scene, index: int) -> Material:
    """Section 3.9.2: the base colour and its picture; other channels are not the source's business."""
    entry = scene.json["materials"][index]
    look = entry.get("pbrMetallicRoughness", {})
    r, g, b, a = ([float(v) for v in look.get("baseColorFactor", [1, 1, 1, 1])] + [1.0] * 4)[:4]
    red, green, blue = to_screen(np.array([r, g, b])).tolist()
    material = Material(str(entry.get("name") or f"material {index + 1}"), (red, green, blue, a))
    texture = look.get("baseColorTexture", {}).get("index")
    if texture is None:
        return material
    image = _entry(scene, "images", _entry(scene, "textures", texture).get("source", -1))
    if image.get("bufferView") is not None:
        view = _entry(scene, "bufferViews", image["bufferView"])
        start = int(view.get("byteOffset", 0))
        return checked_picture(
            material, bytes(_buffer(scene, int(view["buffer"]))[start : start + int(view["byteLength"])])
        )
    uri = str(image.get("uri", ""))
    if uri.startswith("data:"):
        return checked_picture(material, base64.b64decode(uri.split(",", 1)[1]))
    return picture_material(material, scene.path, uri)
