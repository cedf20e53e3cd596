"""Areas of faces on the sheet."""

from __future__ import annotations

import numpy as np

from jacket.core.jit import kernel
from jacket.core.mesh.polymesh import Floats, PolyMesh


def face_uv_areas(mesh: PolyMesh, uv: Floats) -> Floats:
    """(F,) signed areas on the sheet; NaN for unmapped faces."""
    return np.asarray(_face_areas(uv, mesh.triangles, mesh.triangle_faces, mesh.n_faces))


@kernel
def _face_areas(uv, triangles, owner, count):
    out = np.zeros(count)
    for t in range(len(triangles)):
        i, j, k = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        ax, ay, bx, by = uv[j, 0] - uv[i, 0], uv[j, 1] - uv[i, 1], uv[k, 0] - uv[i, 0], uv[k, 1] - uv[i, 1]
        out[owner[t]] += 0.5 * (ax * by - ay * bx)
    return out
