"""Limbs thinner than a step: a grid keeps a width only on a form that is thick enough for one.

Rounding a grid leaves a tube that fewer than about two steps go round no width at all. The same triangles with their points moved
outwards make a form that four steps go round; a grid over that one, read off where the triangles really lie, gives a thin limb rows
of four long quads, as one would draw them by hand.
"""

from __future__ import annotations

import numpy as np
from scipy import sparse

from jacket.core.mesh.geometry import face_areas, point_normals
from jacket.core.mesh.means import means_over
from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.core.space.bvh import Bvh
from jacket.core.space.rays import RayTree
from jacket.core.space.segments import shares_in

ROUND = 0.7
"""Half the thickness wanted, in steps: four of them go round a circle of radius .64."""
EVENED, ROUNDS, SMOOTHED = 4, 12, 4
"""How often the ways of points are evened with those of their neighbours, how often the step is found anew at most, and how often it is
smoothed."""
BACK = -0.6
"""How far smoothing is taken back each time, so that ends of limbs stay about where they are (Taubin, "A signal processing approach to fair
surface design", 1995)."""
HARDLY = 1.05
"""Times the area from which on a form has become another one."""


def half_thickness(mesh: PolyMesh, normals: Floats) -> Floats:
    """(V,) half the way inwards, against normals (V, 3), from each point to the other side of a mesh of triangles, inf where there is none."""
    tree = RayTree.build(mesh.points, mesh.triangle_points)
    which, far = tree.first(mesh.points - 1e-4 * mesh.diagonal * normals, -normals)
    return np.where(which >= 0, 0.5 * far, np.inf)


def stout(mesh: PolyMesh, wanted: int) -> tuple[PolyMesh, float] | None:
    """A form of the same triangles that is nowhere thinner than so many quads over it are wide, and their step; None where the mesh is
    hardly thinner anywhere, or none comes of it."""
    normals, even = point_normals(mesh), _means(mesh)
    half = half_thickness(mesh, normals)
    area = float(face_areas(mesh).sum())
    step, form = float(np.sqrt(area / wanted)), mesh
    # A thicker form has a larger step, for which it is to be thicker still.
    for _ in range(ROUNDS):
        way = np.clip(ROUND * step - half, 0.0, None)
        for _ in range(EVENED):
            way = even @ way
        form = mesh.with_points(mesh.points + way[:, None] * normals)
        before, step = step, float(np.sqrt(face_areas(form).sum() / wanted))
        if abs(step - before) <= 0.01 * before:
            break
    else:
        # So few quads go round nothing: it would be thicker and thicker.
        return None
    if face_areas(form).sum() <= HARDLY * area:
        return None
    # On the inner side of bends it folds.
    thin = (half < ROUND * step)[:, None]
    for _ in range(SMOOTHED):
        for share in (1.0, BACK):
            form = form.with_points(form.points + np.where(thin, share * (even @ form.points - form.points), 0.0))
    areas = face_areas(form)
    return (form, float(np.sqrt(areas.sum() / wanted))) if (areas > 0).all() else None


def _means(mesh: PolyMesh) -> sparse.csr_array:
    """(V, V) means over a point and its neighbours."""
    ends, n = mesh.topology.edge_points, mesh.n_points
    both = sparse.coo_array((np.ones(2 * len(ends)), (ends.T.ravel(), ends[:, ::-1].T.ravel())), shape=(n, n)).tocsr()
    return means_over(both)


def carried(quads: PolyMesh, form: PolyMesh, mesh: PolyMesh) -> PolyMesh:
    """Quads that lie on a form, with their points where its triangles lie in a mesh of the same triangles."""
    places, triangle, _ = Bvh.build(form.points, form.triangle_points).closest(quads.points)
    corners = form.triangle_points[triangle]
    shares = shares_in(form.points[corners], places)
    return quads.with_points(np.einsum("ki,kij->kj", shares, mesh.points[corners]))
