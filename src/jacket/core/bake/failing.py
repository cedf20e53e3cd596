"""Where on a jacket rays met nothing or only faces from behind."""

from __future__ import annotations

import numpy as np

from jacket.core.bake.cast import BEHIND, MISSED
from jacket.core.bake.made import Bake
from jacket.core.bake.texels import covered_texels, texel_places
from jacket.core.mesh.diagonals import short_diagonals
from jacket.core.mesh.polymesh import Ints, PolyMesh

SHARE = 0.02
"""Share of a face's texels from which on it counts as failing."""


def failing_faces(mesh: PolyMesh, baked: Bake) -> tuple[Ints, Ints]:
    """Faces of which rays missed some texels, and faces met only from behind in some, ascending."""
    missed, behind, whole = (np.zeros(mesh.n_faces) for _ in range(3))
    tri = short_diagonals(mesh)
    for sheet in baked.sheets:
        height, width = sheet.state.shape
        at = texel_places(mesh, tri, sheet.sheet.origin, np.array([width, height], float))
        which = covered_texels(at, np.zeros((0, 2), np.int32), width, height, 0.0)[::-1]
        on = which >= 0
        face, state = mesh.triangle_faces[which[on]], sheet.state[on]
        whole += np.bincount(face, minlength=mesh.n_faces)
        missed += np.bincount(face[state == MISSED], minlength=mesh.n_faces)
        behind += np.bincount(face[state == BEHIND], minlength=mesh.n_faces)
    known = np.maximum(whole, 1)
    return (np.flatnonzero(missed / known > SHARE).astype(np.int32), np.flatnonzero(behind / known > SHARE).astype(np.int32))
