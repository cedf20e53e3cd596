"""Points lifted off the source on purpose: marked on the mesh, left alone by whatever lays points onto the source."""

from __future__ import annotations

import numpy as np

from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.space.bvh import Bvh

NAME = "lifted"


def lifted_points(mesh: PolyMesh) -> Bools:
    """(V,) which points are lifted."""
    values = mesh.point_data.get(NAME)
    return np.zeros(mesh.n_points, bool) if values is None else np.asarray(values) != 0


def with_lifted(mesh: PolyMesh, ids: Ints, lifted: bool = True) -> PolyMesh:
    """The mesh with points marked as lifted, or no longer."""
    flags = lifted_points(mesh)
    flags[np.asarray(ids, np.int64)] = lifted
    data = {k: v for k, v in mesh.point_data.items() if k != NAME}
    if flags.any():
        data[NAME] = flags.astype(np.uint8)
    return mesh.with_(point_data=data)


def settled(mesh: PolyMesh, surface: Bvh | None, ids: Ints, new: bool = False) -> PolyMesh:
    """Some points laid onto a surface unless they are lifted. `new` points all of whose other neighbours are lifted
    stay between them and are lifted too; the others lie between neighbours on the surface."""
    ids = np.asarray(ids, np.int64)
    if surface is None or len(ids) == 0:
        return mesh
    up = lifted_points(mesh)
    if new and up.any():
        up = up | _between(mesh, ids, up)
        mesh = with_lifted(mesh, np.flatnonzero(up))
    low = ids[~up[ids]]
    points = mesh.points.copy()
    points[low] = surface.project(points[low], _nearest_neighbour(mesh, low) if new else None)
    return mesh.with_points(points)


def _nearest_neighbour(mesh: PolyMesh, ids: Ints) -> Floats:
    """(K,) distance of points to the nearest point an edge joins them to: the surface is no farther off where that
    one lies on it."""
    out = np.full(mesh.n_points, np.inf)
    here = np.zeros(mesh.n_points, bool)
    here[ids] = True
    ends = mesh.topology.edge_points
    ends = ends[here[ends].any(axis=1)]
    far = np.linalg.norm(mesh.points[ends[:, 0]] - mesh.points[ends[:, 1]], axis=1)
    for k in range(2):
        old = ~here[ends[:, 1 - k]]
        np.minimum.at(out, ends[old, k], far[old])
    return out[ids]


def _between(mesh: PolyMesh, ids: Ints, up: Bools) -> Bools:
    fresh = np.zeros(mesh.n_points, bool)
    fresh[ids] = True
    ends = mesh.topology.edge_points
    on_ground = np.zeros(mesh.n_points, bool)
    in_air = np.zeros(mesh.n_points, bool)
    for k in range(2):
        one, other = ends[:, k], ends[:, 1 - k]
        old = fresh[one] & ~fresh[other]
        on_ground[one[old & ~up[other]]] = True
        in_air[one[old & up[other]]] = True
    return fresh & in_air & ~on_ground
