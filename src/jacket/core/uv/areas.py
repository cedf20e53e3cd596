"""Areas of faces on the sheet."""

from __future__ import annotations

import numpy as np

from jacket.core.mesh.polymesh import Floats, PolyMesh


def face_uv_areas(mesh: PolyMesh, uv: Floats) -> Floats:
    """(F,) signed areas on the sheet; NaN for unmapped faces."""
    tri = uv[mesh.triangles]
    a, b = tri[:, 1] - tri[:, 0], tri[:, 2] - tri[:, 0]
    area = 0.5 * (a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0])
    return np.asarray(np.bincount(mesh.triangle_faces, area, minlength=mesh.n_faces), np.float64)
