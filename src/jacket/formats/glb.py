"""glTF 2.0: reading .gltf and .glb, writing .glb. Section numbers are the Khronos specification's."""

from __future__ import annotations

import base64
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.mesh.geometry import point_normals
from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.errors import FormatError
from jacket.formats.atomic import read_bytes, write_bytes
from jacket.formats.obj import texture_fans

_TYPES = {5120: "i1", 5121: "u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
_WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4}


def read_gltf(data: bytes, path: Path) -> PolyMesh:
    """All triangle primitives of the scene under their node transforms, joined into one mesh."""
    import pygltflib

    if data[:4] == b"glTF":
        gltf = pygltflib.GLTF2.load_from_bytes(data)
    else:
        gltf = pygltflib.GLTF2.from_json(data.decode("utf-8"), infer_missing=True)
    buffers = [_buffer(gltf, k, path) for k in range(len(gltf.buffers))]
    parts: list[tuple[Floats, NDArray[np.signedinteger], Floats | None]] = []
    scene = gltf.scenes[gltf.scene or 0] if gltf.scenes else None
    roots = scene.nodes if scene is not None else range(len(gltf.nodes))
    for root in roots or []:
        _visit(gltf, buffers, int(root), np.eye(4), parts, 0)
    if not parts:
        raise FormatError(f"{path.name} has no triangles in its scene; export the mesh again.")
    offsets = np.concatenate([[0], np.cumsum([len(p[0]) for p in parts])])
    points = np.concatenate([p[0] for p in parts])
    triangles = np.concatenate([p[1] + o for p, o in zip(parts, offsets, strict=False)])
    uvs = {}
    if all(p[2] is not None for p in parts):
        uv = np.concatenate([p[2] for p in parts if p[2] is not None])
        uvs = {"uv": np.stack([uv[:, 0], 1.0 - uv[:, 1]], axis=1)[triangles.ravel()]}
    mesh = PolyMesh.from_faces(points, triangles, uvs=uvs)
    return _points_joined(mesh)


def _points_joined(mesh: PolyMesh) -> PolyMesh:
    """glTF repeats points where normals or UVs differ; join them again."""
    from jacket.core.source.weld import weld_map

    kept, new = weld_map(mesh.points)
    if len(kept) == mesh.n_points:
        return mesh
    return mesh.with_(points=mesh.points[kept], corners=new[mesh.corners])


def _visit(gltf: Any, buffers: list[bytes], index: int, above: Floats, parts: list[Any], depth: int) -> None:
    if depth > 64:
        raise FormatError("The scene's nodes refer to each other in a circle; export it again.")
    node = gltf.nodes[index]
    matrix = above @ _local_matrix(node)
    if node.mesh is not None:
        for primitive in gltf.meshes[node.mesh].primitives:
            if primitive.mode in (None, 4) and primitive.attributes.POSITION is not None:
                parts.append(_primitive(gltf, buffers, primitive, matrix))
    for child in node.children or []:
        _visit(gltf, buffers, int(child), matrix, parts, depth + 1)


def _local_matrix(node: Any) -> Floats:
    """Section 3.5.2: a matrix, or translation · rotation · scale."""
    if node.matrix:
        return np.array(node.matrix, float).reshape(4, 4).T
    out = np.eye(4)
    if node.rotation:
        x, y, z, w = node.rotation
        out[:3, :3] = [
            [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
            [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
            [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
        ]
    if node.scale:
        out[:3, :3] = out[:3, :3] * np.array(node.scale, float)
    if node.translation:
        out[:3, 3] = node.translation
    return out


def _primitive(gltf: Any, buffers: list[bytes], primitive: Any, matrix: Floats) -> Any:
    points = _accessor(gltf, buffers, primitive.attributes.POSITION).astype(np.float64)
    points = points @ matrix[:3, :3].T + matrix[:3, 3]
    if primitive.indices is None:
        triangles = np.arange(len(points) // 3 * 3).reshape(-1, 3)
    else:
        triangles = _accessor(gltf, buffers, primitive.indices).astype(np.int64).reshape(-1, 3)
    if np.linalg.det(matrix[:3, :3]) < 0:
        triangles = triangles[:, ::-1]
    uv = None
    if primitive.attributes.TEXCOORD_0 is not None:
        uv = _accessor(gltf, buffers, primitive.attributes.TEXCOORD_0).astype(np.float64)
    return points, triangles, uv


def _accessor(gltf: Any, buffers: list[bytes], index: int) -> NDArray[Any]:
    """Section 3.6.2; interleaved and normalised data included, sparse accessors refused."""
    accessor = gltf.accessors[index]
    if accessor.sparse is not None or accessor.bufferView is None:
        raise FormatError("The file uses sparse accessors, which Jacket does not read; export it plainly.")
    view = gltf.bufferViews[accessor.bufferView]
    dtype = np.dtype(_TYPES[accessor.componentType])
    width = _WIDTHS[accessor.type]
    start = (view.byteOffset or 0) + (accessor.byteOffset or 0)
    stride = view.byteStride or dtype.itemsize * width
    data = buffers[view.buffer]
    if start + stride * (accessor.count - 1) + dtype.itemsize * width > len(data):
        raise FormatError("The file's buffer is shorter than its tables say; it is cut short.")
    out = np.ndarray((accessor.count, width), dtype, data, start, (stride, dtype.itemsize))
    if accessor.normalized and dtype.kind in "iu":
        return np.maximum(out / np.iinfo(dtype).max, -1.0)
    return out.copy()


def _buffer(gltf: Any, index: int, path: Path) -> bytes:
    uri = gltf.buffers[index].uri
    if uri is None:
        return bytes(gltf.binary_blob() or b"")
    if uri.startswith("data:"):
        return base64.b64decode(uri.split(",", 1)[1])
    target = (path.parent / uri).resolve()
    if not target.is_relative_to(path.parent.resolve()):
        raise FormatError(f"{path.name} refers to a file outside its own folder, which is refused.")
    return read_bytes(target)


def write_glb(mesh: PolyMesh, path: Path) -> None:
    """Y up, metres, counter-clockwise triangles with normals and UVs (section 3.7.2)."""
    write_bytes(path, glb_bytes(mesh, path.stem))


def glb_bytes(mesh: PolyMesh, name: str) -> bytes:
    """The mesh as one binary glTF; quads become the two triangles of their shorter diagonal."""
    import pygltflib as g

    uv = mesh.uv
    mapped = uv is not None and bool(np.isfinite(uv).all())
    if uv is not None and mapped:
        fans, first = texture_fans(mesh, uv)
    else:
        fans, first = mesh.corners, np.zeros(0, np.int32)
        first = np.full(mesh.n_points, 0, np.int32)
        first[mesh.corners] = np.arange(mesh.n_corners)
    place = mesh.corners[first]
    points = mesh.points[place].astype("<f4")
    normals = point_normals(mesh)[place]
    normals[np.linalg.norm(normals, axis=1) == 0] = [0.0, 1.0, 0.0]
    triangles = fans[short_diagonals(mesh)].astype("<u4")
    chunks = [points.tobytes(), normals.astype("<f4").tobytes()]
    if uv is not None and mapped:
        flat = uv[first]
        # Section 3.7.2.1: the texture's origin is its upper left.
        chunks.append(np.stack([flat[:, 0], 1.0 - flat[:, 1]], axis=1).astype("<f4").tobytes())
    chunks.append(triangles.tobytes())
    gltf = _document(g, name, points, len(triangles), chunks, mapped)
    gltf.set_binary_blob(b"".join(chunks))
    return b"".join(gltf.save_to_bytes())


def short_diagonals(mesh: PolyMesh) -> NDArray[np.signedinteger]:
    """(T, 3) triangles as corner indices with quads split along their shorter diagonal."""
    tri = mesh.triangles.copy()
    quads = np.flatnonzero(mesh.sizes == 4)
    first = mesh.starts[quads]
    p = mesh.points[mesh.corners[first[:, None] + np.arange(4)]]
    other = np.linalg.norm(p[:, 1] - p[:, 3], axis=1) < np.linalg.norm(p[:, 0] - p[:, 2], axis=1) * (1 - 1e-9)
    row = np.searchsorted(mesh.triangle_faces, quads[other])
    a = first[other]
    tri[row] = np.stack([a + 1, a + 2, a + 3], axis=1)
    tri[row + 1] = np.stack([a + 1, a + 3, a], axis=1)
    return tri


def _document(g: Any, name: str, points: Any, n_triangles: int, chunks: list[bytes], mapped: bool) -> Any:
    offsets = np.concatenate([[0], np.cumsum([len(c) for c in chunks])]).tolist()
    n = len(points)
    accessors = [
        g.Accessor(bufferView=0, componentType=5126, count=n, type="VEC3",
                   min=points.min(axis=0).tolist(), max=points.max(axis=0).tolist()),
        g.Accessor(bufferView=1, componentType=5126, count=n, type="VEC3"),
    ]  # fmt: skip
    attributes = g.Attributes(POSITION=0, NORMAL=1)
    if mapped:
        accessors.append(g.Accessor(bufferView=2, componentType=5126, count=n, type="VEC2"))
        attributes.TEXCOORD_0 = 2
    accessors.append(g.Accessor(bufferView=len(chunks) - 1, componentType=5125, count=3 * n_triangles, type="SCALAR"))
    views = [
        g.BufferView(buffer=0, byteOffset=offsets[k], byteLength=len(chunk),
                     target=34963 if k == len(chunks) - 1 else 34962)
        for k, chunk in enumerate(chunks)
    ]  # fmt: skip
    material = g.Material(
        name=name,
        pbrMetallicRoughness=g.PbrMetallicRoughness(
            baseColorFactor=[0.8, 0.8, 0.8, 1.0], metallicFactor=0.0, roughnessFactor=0.8
        ),
    )
    primitive = g.Primitive(attributes=attributes, indices=len(accessors) - 1, material=0, mode=4)
    return g.GLTF2(
        asset=g.Asset(version="2.0", generator="Jacket"),
        scene=0,
        scenes=[g.Scene(nodes=[0])],
        nodes=[g.Node(mesh=0, name=name)],
        meshes=[g.Mesh(primitives=[primitive], name=name)],
        materials=[material],
        accessors=accessors,
        bufferViews=views,
        buffers=[g.Buffer(byteLength=offsets[-1])],
    )
