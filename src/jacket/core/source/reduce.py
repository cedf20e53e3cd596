"""Reducing a source to a wanted number of triangles, its borders kept edge by edge."""

from __future__ import annotations

from typing import Any

import numpy as np
from scipy.spatial import cKDTree

from jacket.core.mesh.geometry import face_centres
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.source.mend import Mend, nonmanifold_split
from jacket.core.source.simplify import simplify
from jacket.core.source.weld import welded_triangles
from jacket.progress import Progress, part, silent


def reduced(mesh: PolyMesh, wanted: int, progress: Progress = silent) -> Mend:
    """Fewer triangles over the same form. Colours, materials and groups are taken over from the nearest old
    point or face; UVs, which a coarser mesh would tear, are not kept."""
    count = len(mesh.triangle_points)
    if count <= wanted:
        return Mend(mesh, f"The source has only {count:,} triangles")
    points, triangles = welded_triangles(mesh)
    whole = nonmanifold_split(PolyMesh.from_faces(points, triangles)).mesh
    points, triangles = simplify(
        whole.points, whole.triangle_points, wanted, part(progress, 0.05, 0.95), keep_rim=True
    )  # fmt: skip
    light = PolyMesh.from_faces(points, triangles)
    progress(0.95, "carrying colours over")
    light = light.with_(materials=mesh.materials, groups=mesh.groups, **_carried(mesh, light))
    ends = light.points[light.topology.edge_points]
    said = f"{len(triangles):,} of {count:,} triangles stay"
    if len(triangles) > wanted * 1.02:
        said += "; the borders and the form allow no fewer"
    return Mend(light, said, lines=ends[:: max(1, len(ends) // 60_000)])


def _carried(mesh: PolyMesh, light: PolyMesh) -> dict[str, Any]:
    out: dict[str, Any] = {}
    if mesh.point_data:
        near = cKDTree(mesh.points).query(light.points)[1]
        out["point_data"] = {k: v[near] for k, v in mesh.point_data.items()}
    if mesh.face_data:
        near = cKDTree(face_centres(mesh)).query(face_centres(light))[1]
        out["face_data"] = {k: np.asarray(v)[near] for k, v in mesh.face_data.items()}
    return out
