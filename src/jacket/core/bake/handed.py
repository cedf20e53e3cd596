"""A mesh as it is handed over: triangulated once, with the split points, normals and tangents that every file gets."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jacket.core.bake.tangents import tangents
from jacket.core.mesh.connectivity import corner_orbits
from jacket.core.mesh.diagonals import short_diagonals
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh, sorted_pairs
from jacket.core.mesh.shading import corner_normals
from jacket.core.seams.cuts import uv_border_pairs


@dataclass(frozen=True, eq=False)
class Handed:
    """corner     (N,) a corner of the mesh for each point that is handed over
    normals    (N, 3) unit;  uv (N, 2) with v up, or None where nothing is mapped;  tangents (N, 4) of them, or None
    triangles  (T, 3) into these points;  faces (T,) the face each is of
    """

    corner: Ints
    normals: Floats
    uv: Floats | None
    tangents: Floats | None
    triangles: Ints
    faces: Ints


def texture_fans(mesh: PolyMesh, uv: Floats) -> tuple[Ints, Ints]:
    """(C,) texture place of each corner and (T,) a corner of each place.

    Corners share a place only within one island and where they are mapped to one spot, so separate
    islands never share an index and cuts can be read back from the file.
    """
    topology = mesh.topology
    pairs = np.concatenate([uv_border_pairs(mesh, uv, 0.0), mesh.cuts])
    cut = topology.edge_flags(sorted_pairs(pairs))[topology.edge]
    twin = np.where(cut, -1, topology.twin).astype(np.int32)
    fans, _ = corner_orbits(topology.next, topology.prev, twin, mesh.corners)
    first = np.full(int(fans.max()) + 1 if len(fans) else 0, -1, np.int32)
    first[fans[::-1]] = np.arange(mesh.n_corners - 1, -1, -1, dtype=np.int32)
    return fans, first


def handed(mesh: PolyMesh, with_tangents: bool = True) -> Handed:
    """What a mesh is handed over as. Corners become one point where place on the form and on the sheet, island, normal and
    tangent are the same in single precision."""
    uv = mesh.uv
    mapped = uv is not None and bool(np.isfinite(uv).any())
    tri = short_diagonals(mesh)
    normals = corner_normals(mesh)
    normals[np.linalg.norm(normals, axis=1) == 0] = (0.0, 1.0, 0.0)
    fans = texture_fans(mesh, uv)[0] if uv is not None and mapped else mesh.corners
    rows: list[np.ndarray] = [fans[tri].reshape(-1, 1).astype(np.float64), normals.astype(np.float32)[tri].reshape(-1, 3)]
    frames = None
    if uv is not None and mapped and with_tangents:
        frames = tangents(mesh.points[mesh.corners], normals, np.nan_to_num(uv), tri).reshape(-1, 4)
        rows.append(frames.astype(np.float32))
    keys = np.ascontiguousarray(np.concatenate(rows, axis=1) + 0.0)
    _, first, back = np.unique(keys.view(np.dtype((np.void, 8 * keys.shape[1]))).ravel(), return_index=True, return_inverse=True)
    # In the order in which corners come, so that the file follows the mesh.
    order = np.argsort(first, kind="stable")
    place = np.empty(len(order), np.int64)
    place[order] = np.arange(len(order))
    corner = tri.ravel()[first[order]]
    return Handed(
        corner, normals[corner], np.nan_to_num(uv[corner]) if uv is not None and mapped else None,
        frames[first[order]] if frames is not None else None, place[back.ravel()].reshape(-1, 3).astype(np.int32),
        mesh.triangle_faces,
    )  # fmt: skip
