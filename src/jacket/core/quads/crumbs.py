"""Parts too small for a grid of their own: six quads round each, or, where it is open or has handles, its own few
triangles split."""

from __future__ import annotations

import numpy as np

from jacket.core.mesh.pieces import put_side_by_side
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.mesh.walks import face_parts
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.source.simplify import simplify
from jacket.core.source.weld import compact
from jacket.core.space.bvh import Bvh
from jacket.progress import Progress

_CORNERS = np.array([[x, y, z] for z in (-1, 1) for y in (-1, 1) for x in (-1, 1)], float)
_SIDES = np.array([[0, 2, 3, 1], [4, 5, 7, 6], [0, 1, 5, 4], [2, 6, 7, 3], [0, 4, 6, 2], [1, 3, 7, 5]])


def crumbs_covered(crumbs: PolyMesh, progress: Progress) -> PolyMesh:
    """Quads over small parts, at least three a part."""
    count, labels = face_parts(crumbs)
    order = np.argsort(labels, kind="stable")
    ends = np.searchsorted(labels[order], np.arange(count + 1))
    out = []
    for k in range(count):
        if k % 50 == 0:
            progress(k / count, "covering small parts")
        faces = order[ends[k] : ends[k + 1]]
        out.append(_covered(*compact(crumbs.points, crumbs.triangle_points[faces])))
    return put_side_by_side(out)


def _covered(points: Floats, triangles: Ints) -> PolyMesh:
    part = PolyMesh.from_faces(points, triangles)
    topology = part.topology
    euler = part.n_points - topology.n_edges + part.n_faces
    if euler == 2 and not len(topology.border_edges) and not len(topology.nonmanifold_edges):
        return _boxed(part)
    if len(triangles) > 12:
        points, triangles = simplify(points, triangles, 8)
    return split_to_quads(PolyMesh.from_faces(points, triangles))


def _boxed(part: PolyMesh) -> PolyMesh:
    """Six quads whose corners are those of the part's own box, laid onto it, and outward as the part is."""
    middle = part.points.mean(axis=0)
    axes = np.linalg.svd(part.points - middle, full_matrices=False)[2]
    axes[2] = np.cross(axes[0], axes[1])
    within = (part.points - middle) @ axes.T
    low, high = within.min(axis=0), within.max(axis=0)
    corners = middle + ((low + high) / 2 + _CORNERS * (high - low) / 2) @ axes
    # The point of the part that reaches farthest towards a corner; two corners never take one point.
    towards = _CORNERS / np.maximum(high - low, 1e-300)
    free = np.ones(len(within), bool)
    laid = Bvh.build(part.points, part.triangle_points).project(corners)
    for k in range(8):
        best = int(np.argmax(np.where(free, within @ towards[k], -np.inf)))
        if part.n_points >= 8:
            laid[k], free[best] = part.points[best], False
    return PolyMesh.from_faces(laid, _SIDES)
