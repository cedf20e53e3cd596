"""Which way faces run round: making neighbours agree."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import kernel
from jacket.core.mesh.geometry import face_area_vectors
from jacket.core.mesh.polymesh import Floats, PolyMesh


def uneven_faces(mesh: PolyMesh) -> NDArray[np.bool_]:
    """(F,) faces to turn over so that neighbours across edges of two faces run the same way; within each patch the
    way of the larger area wins."""
    topology = mesh.topology
    return _consistent(topology.edge, topology.edge_uses, topology.edge_corner, mesh.corners, mesh.starts,
                       mesh.face_of_corner, _face_sizes(mesh))  # fmt: skip


def _face_sizes(mesh: PolyMesh) -> Floats:
    return np.linalg.norm(face_area_vectors(mesh), axis=1)


@kernel
def _consistent(edge, uses, edge_corner, corners, starts, face_of, areas):
    n = len(starts) - 1
    second = np.full(len(edge_corner), -1, np.int32)
    for c in range(len(edge)):
        if uses[edge[c]] == 2 and edge_corner[edge[c]] != c:
            second[edge[c]] = c
    flip = np.zeros(n, np.bool_)
    seen = np.zeros(n, np.bool_)
    stack = np.empty(n, np.int32)
    for first in range(n):
        if seen[first]:
            continue
        seen[first] = True
        stack[0] = first
        top, done = 1, 0
        kept, turned = 0.0, 0.0
        # A queue in the same array: what was taken stays behind `done` and names the patch.
        while done < top:
            f = stack[done]
            done += 1
            if flip[f]:
                turned += areas[f]
            else:
                kept += areas[f]
            for c in range(starts[f], starts[f + 1]):
                e = edge[c]
                if second[e] < 0:
                    continue
                d = second[e] if edge_corner[e] == c else edge_corner[e]
                g = face_of[d]
                if seen[g]:
                    continue
                same = corners[d] == corners[c]
                flip[g] = flip[f] != same
                seen[g] = True
                stack[top] = g
                top += 1
        if turned > kept:
            for k in range(top):
                flip[stack[k]] = not flip[stack[k]]
    return flip
