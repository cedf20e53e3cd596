"""Hard and soft edges: which edges break the shading, and the normals of corners that follow."""

from __future__ import annotations

import numpy as np

from jacket.core.jit import kernel
from jacket.core.mesh.connectivity import corner_orbits
from jacket.core.mesh.geometry import dihedral_angles, face_area_vectors, unit
from jacket.core.mesh.polymesh import Bools, Floats, PolyMesh

HARD = "hard"
"""The mark of edges across which shading breaks."""


def hard_edges(mesh: PolyMesh) -> Bools:
    """(E,) edges marked as hard, and those that have no two faces to shade over."""
    return mesh.topology.edge_flags(mesh.mark(HARD)) | (mesh.topology.edge_uses != 2)


def hard_by_angle(mesh: PolyMesh, degrees: float) -> PolyMesh:
    """With exactly the edges hard whose faces meet at more than an angle."""
    sharp = (dihedral_angles(mesh) > degrees) & (mesh.topology.edge_uses == 2)
    return mesh.with_mark(HARD, mesh.topology.edge_points[sharp])


def with_hard(mesh: PolyMesh, edges: Bools, hard: bool) -> PolyMesh:
    """With flagged edges (E,) hard, or soft, and the others as they are."""
    flags = mesh.topology.edge_flags(mesh.mark(HARD))
    flags[edges] = hard
    return mesh.with_mark(HARD, mesh.topology.edge_points[flags])


def corner_normals(mesh: PolyMesh) -> Floats:
    """(C, 3) unit normals of corners: of the faces around the point up to the next hard edges, each by its angle there
    (Thürmer and Wüthrich, "Computing vertex normals from polygonal facets", 1998); zero where all of them are without area."""
    topology = mesh.topology
    twin = np.where(hard_edges(mesh)[topology.edge], -1, topology.twin).astype(np.int32)
    fans, _ = corner_orbits(topology.next, topology.prev, twin, mesh.corners)
    count = int(fans.max()) + 1 if len(fans) else 0
    normals = unit(face_area_vectors(mesh))
    return unit(_by_fan(mesh.points, mesh.corners, mesh.starts, normals, fans, count))[fans]


def place_normals(mesh: PolyMesh) -> Floats:
    """(V, 3) unit normals of points, each face by its angle there and no edge hard; zero where there is no face."""
    normals = unit(face_area_vectors(mesh))
    return unit(_by_fan(mesh.points, mesh.corners, mesh.starts, normals, mesh.corners, mesh.n_points))


@kernel
def _by_fan(points, corners, starts, normals, fans, count):
    out = np.zeros((count, 3))
    for f in range(len(starts) - 1):
        first, n = starts[f], starts[f + 1] - starts[f]
        for j in range(n):
            here, before, after = corners[first + j], corners[first + (j - 1) % n], corners[first + (j + 1) % n]
            dot = aa = bb = 0.0
            for k in range(3):
                a, b = points[before, k] - points[here, k], points[after, k] - points[here, k]
                dot, aa, bb = dot + a * b, aa + a * a, bb + b * b
            size = np.sqrt(aa * bb)
            angle = np.arccos(min(max(dot / size, -1.0), 1.0)) if size > 0 else 0.0
            for k in range(3):
                out[fans[first + j], k] += angle * normals[f, k]
    return out
