"""Reading delivered files as a receiver does: by general readers and the published layout of glTF, not by our writers' twins."""

from __future__ import annotations

import io
import json
import re
import struct
import warnings
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from jacket.core.bake.compare import Delivered
from jacket.core.mesh.polymesh import Floats
from jacket.errors import FormatError

_PARTS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4}
_KINDS = {5120: "i1", 5121: "u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}


@dataclass(frozen=True, eq=False)
class Received:
    """A mesh of a GLB with the pictures of its material in 0..1, the upper row first, and what was lacking by name."""

    name: str
    triangles: Delivered
    pictures: Mapping[str, NDArray[np.float32]]
    lacking: tuple[str, ...] = ()


@dataclass(frozen=True, eq=False)
class Folder:
    """What lies in a delivered folder: the report, meshes of the GLB, pictures that the OBJ's materials name and that are not
    there, pictures beside it by what they are, points and faces of the OBJ; places (3,) of the GLB's nodes by name."""

    path: Path
    report: dict[str, Any]
    meshes: tuple[Received, ...]
    missing: tuple[str, ...]
    normal: tuple[str, NDArray[np.float32]] | None
    points: Floats
    faces: tuple[tuple[int, ...], ...]
    has_normals: bool
    nodes: Mapping[str, Floats]

    @property
    def told_nodes(self) -> dict[str, dict[str, Any]]:
        """What the report says of pivots, sockets and levels, by the names of meshes."""
        nodes = self.report.get("nodes")
        return {str(k): v for k, v in nodes.items() if isinstance(v, dict)} if isinstance(nodes, dict) else {}

    @property
    def levels(self) -> dict[str, str]:
        """Coarser levels of detail, and what each is one of."""
        return {name: str(told["level_of"]) for name, told in self.told_nodes.items() if told.get("level_of")}


def read_folder(folder: Path) -> Folder:
    """Everything of a delivery. Raises FormatError with a sentence where there is none, or a file cannot be read."""
    if not folder.is_dir():
        raise FormatError(f"{folder} is no folder; name the folder that was delivered to.")
    reports = sorted(folder.glob("*-report.json"))
    glbs = sorted(folder.glob("*.glb"))
    if not reports or not glbs:
        raise FormatError(f"{folder.name} holds no delivery with a report and a GLB; deliver there first.")
    if len(reports) > 1:
        raise FormatError(f"{folder.name} holds {len(reports)} deliveries; take in a folder with one.")
    try:
        report = json.loads(reports[0].read_bytes())
    except (OSError, ValueError):
        raise FormatError(f"{reports[0].name} cannot be read; deliver again.") from None
    stem = reports[0].name[: -len("-report.json")]
    points, faces, normals = _obj(folder / f"{stem}.obj")
    meshes, nodes = _meshes(glbs[0])
    return Folder(folder, report if isinstance(report, dict) else {}, meshes, _missing(folder, report), _normal(folder, stem), points, faces, normals, nodes)


def picture_of(data: bytes) -> NDArray[np.float32] | None:
    """(H, W, 3) of a PNG or JPEG in 0..1; None where it is neither."""
    try:
        with Image.open(io.BytesIO(data)) as opened:
            return np.asarray(opened.convert("RGB"), np.float32) / np.float32(255)
    except (OSError, ValueError, Image.DecompressionBombError):
        return None


def _normal(folder: Path, stem: str) -> tuple[str, NDArray[np.float32]] | None:
    found = sorted(folder.glob(f"{stem}*normal*.png"))
    picture = picture_of(found[0].read_bytes()) if found else None
    return (found[0].name, picture) if picture is not None else None


def _missing(folder: Path, report: Any) -> tuple[str, ...]:
    """Files that the report or the materials name and that are not there."""
    named = list(report.get("files", {})) if isinstance(report, dict) and isinstance(report.get("files"), dict) else []
    for library in folder.glob("*.mtl"):
        named += re.findall(r"(?m)^\s*(?:map_\w+|norm)\s+(\S+)\s*$", library.read_text(encoding="utf-8", errors="replace"))
    return tuple(n for n in dict.fromkeys(named) if not (folder / n).is_file())


def _obj(path: Path) -> tuple[Floats, tuple[tuple[int, ...], ...], bool]:
    """Points and faces of an OBJ, and whether it has normals, by its words alone."""
    if not path.is_file():
        return np.zeros((0, 3)), (), True
    points, faces, normals = [], [], False
    for line in path.read_text(encoding="utf-8", errors="replace").splitlines():
        words = line.split()
        if not words:
            continue
        if words[0] == "v":
            points.append([float(w) for w in words[1:4]])
        elif words[0] == "vn":
            normals = True
        elif words[0] == "f":
            faces.append(tuple(int(w.split("/")[0]) - 1 for w in words[1:]))
    return np.array(points).reshape(-1, 3), tuple(faces), normals


def _meshes(path: Path) -> tuple[tuple[Received, ...], dict[str, Floats]]:
    """Meshes where their nodes put them, and the places of all nodes by name (glTF 2.0, section 3.5; only shifts are looked at,
    as delivered nodes neither turn nor scale what is below them)."""
    import pygltflib

    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # of chunks it does not know; what matters is found below
            gltf = pygltflib.GLTF2().load(str(path))
        blob = gltf.binary_blob()
        out = []
        above = {c: n for n in gltf.nodes for c in n.children or ()}
        nodes: dict[str, Floats] = {}
        for number, node in enumerate(gltf.nodes):
            away, parent = np.array(node.translation or [0.0, 0.0, 0.0]), above.get(number)
            if parent is not None and parent.translation:
                away = away + np.array(parent.translation)
            nodes[node.name or str(number)] = away
            if node.mesh is None:
                continue
            for k, primitive in enumerate(gltf.meshes[node.mesh].primitives):
                out.append(_received(gltf, blob, primitive, away, f"{node.name or 'mesh'}{f' {k + 1}' if k else ''}"))
        return tuple(out), nodes
    except (OSError, ValueError, KeyError, IndexError, TypeError, AttributeError, struct.error) as error:
        raise FormatError(f"{path.name} cannot be read as glTF; deliver again.") from error


def _received(gltf: Any, blob: Any, primitive: Any, away: Floats, name: str) -> Received:
    attributes, lacking = primitive.attributes, []
    tri = _array(gltf, blob, primitive.indices).reshape(-1, 3).astype(np.int64)
    places = _array(gltf, blob, attributes.POSITION).astype(float) + away
    rows: dict[str, Floats | None] = {}
    for word in ("NORMAL", "TANGENT", "TEXCOORD_0"):
        at = getattr(attributes, word)
        rows[word] = _array(gltf, blob, at).astype(float)[tri] if at is not None else None
        if at is None:
            lacking.append(word)
    normals = rows["NORMAL"]
    if normals is None:
        e = np.cross(places[tri[:, 1]] - places[tri[:, 0]], places[tri[:, 2]] - places[tri[:, 0]])
        flat = e / np.maximum(np.linalg.norm(e, axis=1, keepdims=True), 1e-300)
        normals = np.repeat(flat[:, None], 3, axis=1)
    material = gltf.materials[primitive.material] if primitive.material is not None else None
    return Received(name, Delivered(places[tri], normals, rows["TANGENT"], rows["TEXCOORD_0"]), _pictures(gltf, blob, material), tuple(lacking))


def _pictures(gltf: Any, blob: Any, material: Any) -> dict[str, NDArray[np.float32]]:
    out: dict[str, NDArray[np.float32]] = {}
    if material is None:
        return out
    look = material.pbrMetallicRoughness
    slots = {"normal": material.normalTexture, "occlusion": material.occlusionTexture, "colour": look.baseColorTexture if look else None}
    for name, slot in slots.items():
        if slot is not None:
            view = gltf.bufferViews[gltf.images[gltf.textures[slot.index].source].bufferView]
            picture = picture_of(bytes(blob[view.byteOffset or 0 : (view.byteOffset or 0) + view.byteLength]))
            if picture is not None:
                out[name] = picture
    return out


def _array(gltf: Any, blob: Any, number: int) -> NDArray[Any]:
    """The values of an accessor (glTF 2.0, section 3.6.2)."""
    accessor = gltf.accessors[number]
    view = gltf.bufferViews[accessor.bufferView]
    kind, parts = np.dtype(_KINDS[accessor.componentType]), _PARTS[accessor.type]
    start = (view.byteOffset or 0) + (accessor.byteOffset or 0)
    step = view.byteStride or kind.itemsize * parts
    raw = np.frombuffer(blob, np.uint8, step * (accessor.count - 1) + kind.itemsize * parts, start)
    rows = np.lib.stride_tricks.as_strided(raw, (accessor.count, kind.itemsize * parts), (step, 1))
    return np.ascontiguousarray(rows).view(kind).reshape(accessor.count, parts)
