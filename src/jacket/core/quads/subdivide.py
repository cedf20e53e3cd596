"""Splitting every face at its centre and edge middles, which leaves only quads."""

from __future__ import annotations

import numpy as np

from jacket.core.mesh.geometry import face_centres
from jacket.core.mesh.polymesh import PolyMesh


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
