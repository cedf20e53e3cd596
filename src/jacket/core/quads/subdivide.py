"""Splitting every face at its centre and edge middles, which leaves only quads."""

from __future__ import annotations

import numpy as np

from jacket.core.mesh.geometry import face_centres
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh


def split_to_quads(mesh: PolyMesh) -> PolyMesh:
    """Each corner of each face becomes a quad: corner, edge middle, centre, edge middle."""
    topology = mesh.topology
    middles = mesh.points[topology.edge_points].mean(axis=1)
    points = np.concatenate([mesh.points, middles, face_centres(mesh)])
    first_edge, first_face = mesh.n_points, mesh.n_points + topology.n_edges
    quads = np.stack(
        [
            mesh.corners,
            first_edge + topology.edge,
            first_face + mesh.face_of_corner,
            first_edge + topology.edge[topology.prev],
        ],
        axis=1,
    )
    return PolyMesh.from_faces(points, quads.astype(np.int64))


def edges_split(points: Floats, triangles: Ints, marks: Bools) -> tuple[Floats, Ints]:
    """Triangles with the edges flagged in `marks` (E,) split at their middles: into two, three or four."""
    mesh = PolyMesh.from_faces(points, triangles)
    topology = mesh.topology
    number = np.cumsum(marks) - 1 + len(points)
    edge = topology.edge.reshape(-1, 3)
    hit, middle = marks[edge], number[edge]
    t = mesh.triangle_points
    rows = [t[~hit.any(axis=1)]]
    for k in range(3):
        a, b, c = (t[:, (k + j) % 3] for j in range(3))
        ab, bc, ca = (middle[:, (k + j) % 3] for j in range(3))
        one = hit[:, k] & ~hit[:, (k + 1) % 3] & ~hit[:, (k + 2) % 3]
        rows += [np.stack([a, ab, c], axis=1)[one], np.stack([ab, b, c], axis=1)[one]]
        # Edge k whole, the other two split: the corner between them, and the rest as two.
        two = ~hit[:, k] & hit[:, (k + 1) % 3] & hit[:, (k + 2) % 3]
        rows += [np.stack(r, axis=1)[two] for r in ((ca, bc, c), (a, b, ca), (b, bc, ca))]
    all_ = hit.all(axis=1)
    a, b, c = t.T
    ab, bc, ca = middle.T
    rows += [np.stack(r, axis=1)[all_] for r in ((a, ab, ca), (ab, b, bc), (ca, bc, c), (ab, bc, ca))]
    fresh = points[topology.edge_points[marks]].mean(axis=1)
    return np.concatenate([points, fresh]), np.concatenate(rows).astype(np.int32)
