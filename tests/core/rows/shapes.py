"""Small meshes of quads whose rows are known."""

from __future__ import annotations

import numpy as np

from jacket.core.mesh.polymesh import PolyMesh


def torus(around: int, along: int, twist: int = 0) -> PolyMesh:
    """A torus of quads; a line along it comes back `twist` quads further round."""
    u, v = np.meshgrid(np.arange(around) * 2 * np.pi / around, np.arange(along) * 2 * np.pi / along, indexing="ij")
    ring = 2.0 + 0.7 * np.cos(v)
    points = np.stack([ring * np.cos(u), ring * np.sin(u), 0.7 * np.sin(v)], axis=-1).reshape(-1, 3)
    faces = []
    for i in range(around):
        for j in range(along):
            up = twist if j + 1 == along else 0
            j2 = (j + 1) % along
            faces.append([i * along + j, (i + 1) % around * along + j, (i + 1 + up) % around * along + j2,
                          (i + up) % around * along + j2])  # fmt: skip
    return PolyMesh.from_faces(points, np.array(faces))


def tube(around: int, along: int) -> PolyMesh:
    """An open tube of quads."""
    u, v = np.meshgrid(np.arange(around) * 2 * np.pi / around, np.arange(along + 1.0), indexing="ij")
    points = np.stack([np.cos(u), np.sin(u), v], axis=-1).reshape(-1, 3)
    n = along + 1
    faces = [[i * n + j, (i + 1) % around * n + j, (i + 1) % around * n + j + 1, i * n + j + 1]
             for i in range(around) for j in range(along)]  # fmt: skip
    return PolyMesh.from_faces(points, np.array(faces))
