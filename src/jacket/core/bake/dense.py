"""What maps are baked from: one or several dense meshes as one, with all that their points and faces bring along."""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jacket.core.mesh.materials import Material
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.mesh.shading import HARD, corner_normals, place_normals
from jacket.core.space.rays import RayTree
from jacket.core.tone import to_linear


@dataclass(frozen=True, eq=False)
class Paint:
    """The look of the faces.

    pixels    (N,) uint8 of all pictures one after another, sRGB, rows from the top
    table     (M, 3) where a material's picture begins, its width and height; width 0 where there is none
    material  (T,) row of `table` and `tints` of each triangle
    uv        (T, 3, 2) of triangles' corners;  tints (M, 3) in linear light
    """

    pixels: NDArray[np.uint8]
    table: Ints
    material: Ints
    uv: Floats
    tints: Floats


@dataclass(frozen=True, eq=False)
class Dense:
    """tree      over the triangles;  normals (V, 3) at points;  leaf_normals (T, 9) those of triangles as the tree's leaves
    shaded    whether materials bring colours or pictures;  paint what they are
    colours   (V, 3) of points in linear light, or nothing
    part      (T,) the mesh each triangle is of, by `names`
    material, group  (T,) as the meshes have them, by `materials` and `groups`, −1 for none
    starts    (P + 1,) where each mesh's points begin
    """

    tree: RayTree
    normals: Floats
    leaf_normals: NDArray[np.float32]
    shaded: bool
    paint: Paint
    colours: Floats | None
    part: Ints
    material: Ints
    group: Ints
    names: tuple[str, ...]
    materials: tuple[str, ...]
    groups: tuple[str, ...]
    starts: Ints

    @property
    def diagonal(self) -> float:
        """Of the box around everything."""
        p = self.tree.points
        return float(np.linalg.norm(p.max(axis=0) - p.min(axis=0))) if len(p) else 0.0

    @staticmethod
    def of(sources: Sequence[tuple[str, PolyMesh]]) -> Dense:
        """Named meshes as one; no mesh at all gives one that no ray meets."""
        sources = [(n, m) for n, m in sources if m.n_faces]
        counts = [m.n_points for _, m in sources]
        starts = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
        rows = [m.triangle_points + s for (_, m), s in zip(sources, starts, strict=False)]
        points = np.concatenate([m.points for _, m in sources]) if sources else np.zeros((0, 3))
        tri = np.concatenate(rows).astype(np.int32) if rows else np.zeros((0, 3), np.int32)
        normals = np.concatenate([place_normals(m) for _, m in sources]) if sources else np.zeros((0, 3))
        part = np.concatenate([np.full(len(r), k, np.int32) for k, r in enumerate(rows)]) if rows else np.zeros(0, np.int32)
        materials, looks = _numbered([(m.face_data.get("material"), m.materials, m) for _, m in sources])
        groups, names = _numbered([(m.face_data.get("group"), m.groups, m) for _, m in sources])
        shaded = any(x.picture or tuple(x.colour[:3]) != (0.8, 0.8, 0.8) for x in looks)
        paint = _paint(sources, materials, looks) if shaded else _no_paint(len(tri))
        tree = RayTree.build(points, tri)
        shown = np.concatenate([_shown(m) for _, m in sources]) if sources else np.zeros((0, 3, 3))
        by_leaf = shown[tree.order].reshape(-1, 9).astype(np.float32)
        return Dense(tree, normals, by_leaf, shaded, paint, _colours([m for _, m in sources]), part,
                     materials, groups, tuple(n for n, _ in sources), tuple(x.name for x in looks), tuple(names), starts)  # fmt: skip


def _shown(mesh: PolyMesh) -> Floats:
    """(T, 3, 3) normals at the corners of triangles, broken at hard edges where a source has any."""
    if mesh.mark(HARD).size:
        return corner_normals(mesh)[mesh.triangles]
    return place_normals(mesh)[mesh.triangle_points]


def _numbered(rows: Sequence[tuple[NDArray[np.signedinteger] | None, Sequence[object], PolyMesh]]) -> tuple[Ints, list]:
    """(T,) numbers of materials or groups of all triangles, −1 for none, over all meshes; and what they stand for."""
    out, table = [], list[object]()
    for values, names, mesh in rows:
        mine = np.full(mesh.n_faces, -1, np.int32) if values is None or not names else np.asarray(values, np.int32)
        shifted = np.where(mine >= 0, mine + len(table), -1)
        out.append(shifted[mesh.triangle_faces])
        table += list(names) if values is not None else []
    return (np.concatenate(out).astype(np.int32) if out else np.zeros(0, np.int32)), table


def _colours(meshes: Sequence[PolyMesh]) -> Floats | None:
    if not any("colour" in m.point_data for m in meshes):
        return None
    rows = [m.point_data["colour"][:, :3] / 255.0 if "colour" in m.point_data else np.ones((m.n_points, 3)) for m in meshes]
    return to_linear(np.concatenate(rows))


def _no_paint(count: int) -> Paint:
    return Paint(np.zeros(0, np.uint8), np.zeros((1, 3), np.int64), np.zeros(0, np.int32), np.zeros((0, 3, 2)), np.ones((1, 3)))


def _paint(sources: Sequence[tuple[str, PolyMesh]], material: Ints, looks: Sequence[Material]) -> Paint:
    pixels, table, at = [], np.zeros((len(looks) + 1, 3), np.int64), 0
    tints = np.full((len(looks) + 1, 3), 0.6)
    for k, look in enumerate(looks):
        tints[k] = to_linear(np.array(look.colour[:3]))
        image = _decoded(look.picture)
        if image is not None:
            table[k] = at, image.shape[1], image.shape[0]
            pixels.append(image.ravel())
            at += image.size
    uv = [m.uv[m.triangles] if m.uv is not None else np.full((len(m.triangles), 3, 2), np.nan) for _, m in sources]
    return Paint(np.concatenate(pixels) if pixels else np.zeros(0, np.uint8), table,
                 np.where(material >= 0, material, len(looks)).astype(np.int32), np.concatenate(uv), tints)  # fmt: skip


def _decoded(data: bytes) -> NDArray[np.uint8] | None:
    """(H, W, 3) of a picture; None where there is none or it cannot be read."""
    if not data:
        return None
    from PIL import Image

    try:
        with Image.open(io.BytesIO(data)) as opened:
            return np.asarray(opened.convert("RGB"))
    except (OSError, ValueError, Image.DecompressionBombError):
        return None
