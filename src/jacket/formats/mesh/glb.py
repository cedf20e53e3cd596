"""Writing glTF 2.0 as .glb. Section numbers are the Khronos specification's."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from types import MappingProxyType
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.bake.handed import handed
from jacket.core.mesh.materials import Material
from jacket.core.mesh.nodes import BARE, ORIGIN, Nodes, Socket
from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.core.tone import to_linear
from jacket.errors import FormatError
from jacket.formats.atomic import write_bytes


def write_glb(mesh: PolyMesh, path: Path) -> None:
    """Y up, metres, counter-clockwise triangles with normals and UVs (section 3.7.2)."""
    write_bytes(path, glb_bytes([(path.stem, mesh)], path.stem))


@dataclass(frozen=True)
class SheetLook:
    """The pictures of a sheet as PNG, or nothing: colour; tangent normals, green up (section 3.9.3); occlusion, roughness and
    metal in red, green and blue (section 3.9.2)."""

    name: str
    colour: bytes = b""
    normal: bytes = b""
    surface: bytes = b""


def glb_bytes(
    meshes: Sequence[tuple[str, PolyMesh]], name: str, looks: Sequence[tuple[Floats, SheetLook]] = (), with_tangents: bool = False,
    nodes: Mapping[str, Nodes] = MappingProxyType({}),
) -> bytes:  # fmt: skip
    """Named meshes as one binary glTF, a node each; quads become the two triangles of their shorter diagonal, each
    material a primitive of its own over shared points. UVs are those of the active set; corners that are not mapped
    lie at its origin, where any face is mapped. `looks` are the sheets' lower left corners (2,) in UV coordinates and their
    pictures: each sheet is a material then, in place of the mesh's own. Tangents have their signs with v up, as MikkTSpace
    (section 3.7.2.1). A mesh's node stands at its pivot, with its sockets as empty nodes below it (`nodes`, by name); their z
    axis points along them, as the front of things in glTF does (section 3.4)."""
    file = _File(name)
    for title, mesh in meshes:
        _add_mesh(file, title, mesh, looks, with_tangents, nodes.get(title, BARE))
    return file.bytes()


def _add_mesh(file: _File, name: str, mesh: PolyMesh, looks: Sequence[tuple[Floats, SheetLook]], with_tangents: bool, nodes: Nodes) -> None:
    given = handed(mesh, with_tangents)
    place = mesh.corners[given.corner]
    away = _offset(mesh) if nodes.pivot == ORIGIN else np.array(nodes.pivot)
    if not np.abs(mesh.points - away).max(initial=0.0) < 1e38:
        raise FormatError(f"{name} reaches farther than the single precision of glTF can say; scale it down first.")
    on = np.full(len(given.triangles), -1)
    flat = given.uv
    if flat is not None and looks:
        middle = np.floor(flat[given.triangles].mean(axis=1))
        for k, (origin, _) in enumerate(looks):
            on[(middle == origin).all(axis=1)] = k
        shift = np.zeros_like(flat)
        for k, (origin, _) in enumerate(looks):
            shift[given.triangles[on == k].ravel()] = origin
        flat = flat - shift
    attributes = {
        "POSITION": file.array((mesh.points[place] - away).astype("<f4"), "VEC3", limits=True),
        "NORMAL": file.array(given.normals.astype("<f4"), "VEC3"),
    }
    if given.tangents is not None:
        attributes["TANGENT"] = file.array(_unit_tangents(given.tangents), "VEC4")
    if flat is not None:
        # Section 3.7.2.1: the texture's origin is its upper left.
        attributes["TEXCOORD_0"] = file.array(np.stack([flat[:, 0], 1.0 - flat[:, 1]], axis=1).astype("<f4"), "VEC2")
    colour = mesh.point_data.get("colour")
    if colour is not None:
        # Section 3.7.2.1: point colours are linear.
        linear = np.concatenate([to_linear(colour[:, :3] / 255.0), colour[:, 3:] / 255.0], axis=1)
        attributes["COLOR_0"] = file.array(np.rint(linear * 65535).astype("<u2")[place], "VEC4", normalized=True)
    triangles = given.triangles.astype("<u4")
    for k, (_, look) in enumerate(looks):
        if (on == k).any():
            file.primitive(attributes, triangles[on == k], Material(look.name, (1.0, 1.0, 1.0, 1.0) if look.colour else Material("").colour), look)
    material = mesh.face_data.get("material")
    label = np.zeros(mesh.n_faces, np.int32) if material is None or not mesh.materials else np.maximum(material, 0)
    for k, m in enumerate(mesh.materials if material is not None and mesh.materials else (Material(name),)):
        mine = triangles[(label[given.faces] == k) & (on < 0)]
        if len(mine):
            file.primitive(attributes, mine, m)
    file.end_mesh(name, away, nodes.sockets)


def _unit_tangents(values: Floats) -> NDArray[np.float32]:
    """Tangents of unit length in single precision too, as section 3.7.2.1 demands."""
    out = values.astype("<f4")
    long = np.linalg.norm(out[:, :3].astype(float), axis=1, keepdims=True)
    out[:, :3] = np.where(long > 0, out[:, :3] / np.maximum(long, 1e-30), [[1.0, 0.0, 0.0]])
    return out


FAR = 64.0
"""So many of its own sizes from the origin a mesh is written about its middle, with a node that takes it there: positions
in glTF are single precision."""


def _offset(mesh: PolyMesh) -> NDArray[np.float64]:
    """(3,) what is taken off the points of a mesh that lies far out, a number of single precision itself; else 0."""
    low, high = mesh.box
    if np.abs(mesh.points).max() <= FAR * max(float((high - low).max()), 1e-300):
        return np.zeros(3)
    return np.asarray(((low + high) / 2).astype(np.float32), np.float64)




class _File:
    """A glTF file in the making: accessors over one buffer, materials, one mesh."""

    def __init__(self, name: str) -> None:
        import pygltflib

        self.g, self.name = pygltflib, name
        self.chunks: list[bytes] = []
        self.length = 0
        self.views: list[Any] = []
        self.accessors: list[Any] = []
        self.primitives: list[Any] = []
        self.nodes: list[Any] = []
        self.below: list[Any] = []
        self.meshes: list[Any] = []
        self.materials: list[Any] = []
        self.images: list[Any] = []
        self.known: dict[bytes, int] = {}

    def _view(self, data: bytes, target: int | None) -> int:
        self.views.append(self.g.BufferView(buffer=0, byteOffset=self.length, byteLength=len(data), target=target))
        padded = data + bytes(-len(data) % 4)
        self.chunks.append(padded)
        self.length += len(padded)
        return len(self.views) - 1

    def array(
        self, values: NDArray[Any], kind: str, normalized: bool = False, limits: bool = False, target: int = 34962
    ) -> int:
        """An accessor over an array; section 3.6.2.5 asks for the limits of positions."""
        component = {"f4": 5126, "u4": 5125, "u2": 5123}[values.dtype.str[1:]]
        view = self._view(np.ascontiguousarray(values).tobytes(), target)
        accessor = self.g.Accessor(bufferView=view, componentType=component, type=kind, normalized=normalized,
                                   count=values.size if kind == "SCALAR" else len(values))  # fmt: skip
        if limits:
            accessor.min, accessor.max = values.min(axis=0).tolist(), values.max(axis=0).tolist()
        self.accessors.append(accessor)
        return len(self.accessors) - 1

    def _texture(self, data: bytes) -> int:
        """The number of a texture of a picture; the same picture is stored once."""
        if data not in self.known:
            mime = "image/png" if data[:1] == b"\x89" else "image/jpeg"
            self.images.append(self.g.Image(bufferView=self._view(data, None), mimeType=mime))
            self.known[data] = len(self.images) - 1
        return self.known[data]

    def primitive(self, attributes: dict[str, int], triangles: NDArray[Any], material: Material, pictures: SheetLook | None = None) -> None:
        """Triangles of one material over the shared attributes."""
        g = self.g
        rgb = to_linear(np.array(material.colour[:3])).tolist()
        look = g.PbrMetallicRoughness(
            baseColorFactor=[*rgb, material.colour[3]], metallicFactor=0.0, roughnessFactor=0.8
        )
        if material.picture:
            look.baseColorTexture = g.TextureInfo(index=self._texture(material.picture))
        made = g.Material(name=material.name, pbrMetallicRoughness=look)
        if pictures is not None:
            self._dress(made, pictures)
        self.materials.append(made)
        indices = self.array(triangles, "SCALAR", target=34963)
        self.primitives.append(g.Primitive(attributes=g.Attributes(**attributes), indices=indices,
                                           material=len(self.materials) - 1, mode=4))  # fmt: skip

    def _dress(self, material: Any, pictures: SheetLook) -> None:
        g, look = self.g, material.pbrMetallicRoughness
        if pictures.colour:
            look.baseColorTexture = g.TextureInfo(index=self._texture(pictures.colour))
        if pictures.normal:
            material.normalTexture = g.NormalMaterialTexture(index=self._texture(pictures.normal))
        if pictures.surface:
            # Factors multiply: at 1 the picture counts as it is.
            look.roughnessFactor = look.metallicFactor = 1.0
            look.metallicRoughnessTexture = g.TextureInfo(index=self._texture(pictures.surface))
            material.occlusionTexture = g.OcclusionTextureInfo(index=self._texture(pictures.surface))

    def end_mesh(self, name: str, away: NDArray[np.float64], sockets: Sequence[Socket] = ()) -> None:
        """Make a mesh, and its node at a place with sockets below it, of the primitives since the last one."""
        node = self.g.Node(mesh=len(self.meshes), name=name, translation=away.tolist() if away.any() else None)
        self.nodes.append(node)
        self.below.append([self.g.Node(name=s.name, translation=(np.array(s.place) - away).tolist(), rotation=list(s.quaternion())) for s in sockets])
        self.meshes.append(self.g.Mesh(primitives=self.primitives, name=name))
        self.primitives = []

    def bytes(self) -> bytes:
        """The finished file."""
        g, nodes = self.g, list(self.nodes)
        for node, below in zip(self.nodes, self.below, strict=True):
            if below:
                node.children = list(range(len(nodes), len(nodes) + len(below)))
                nodes += below
        gltf = g.GLTF2(
            asset=g.Asset(version="2.0", generator="Jacket"), scene=0,
            scenes=[g.Scene(nodes=list(range(len(self.meshes))), name=self.name)],
            nodes=nodes, meshes=self.meshes,
            materials=self.materials, accessors=self.accessors, bufferViews=self.views,
            buffers=[g.Buffer(byteLength=self.length)], images=self.images,
            textures=[g.Texture(source=k) for k in range(len(self.images))],
        )  # fmt: skip
        gltf.set_binary_blob(b"".join(self.chunks))
        return b"".join(gltf.save_to_bytes())
