"""The one way in which quads become triangles: for baking, for tangents and for every file."""

from __future__ import annotations

import numpy as np

from jacket.core.mesh.polymesh import Ints, PolyMesh


def short_diagonals(mesh: PolyMesh) -> Ints:
    """(T, 3) triangles as corner indices with quads split along their shorter diagonal in space; larger faces as fans.

    Where both are equally long the one from the quad's first corner is taken, so that the answer follows from the mesh
    alone and a receiver that gets the triangles cannot choose otherwise.
    """
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
