"""Fitting a jacket to a new version of its source.

Non-rigid closest-point fitting: each point is drawn to the nearest place of the new surface that faces the same
way, the moves are kept smooth over the jacket (Laplacian), and their stiffness falls from round to round
(Amberg, Romdhani and Vetter, "Optimal step nonrigid ICP algorithms for surface registration", 2007, with
displacements in place of affine maps).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_array, csr_array, diags_array

from jacket.core.mesh.geometry import face_areas, point_normals, scaled_jacobian, unit
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.solve.cholesky import Factor
from jacket.core.space.bvh import Bvh
from jacket.errors import MeshError
from jacket.progress import Progress, silent


@dataclass(frozen=True, eq=False)
class Refit:
    """mesh    the jacket with its quads, UVs and marks as they were and its points on the new surface
    moved   (V,) how far each point moved, % of the new source's diagonal
    poor    points that could not be refitted well: they face another way than the surface, lie on a rim that
            was not one before, or are corners of a face that turned over or was squeezed to nothing
    """

    mesh: PolyMesh
    moved: Floats
    poor: Ints


def marked(result: Refit) -> PolyMesh:
    """The refitted jacket with how far its points moved ("moved", %) and which are poor ("poor") as point data."""
    poor = np.zeros(result.mesh.n_points, np.uint8)
    poor[result.poor] = 1
    data = {**result.mesh.point_data, "moved": result.moved.astype(np.float32), "poor": poor}
    return result.mesh.with_(point_data=data)


STIFFNESS = (60.0, 20.0, 8.0, 3.0, 1.0, 0.4)


def refit(
    jacket: PolyMesh, surface: Bvh, diagonal: float, old: Bvh | None = None, progress: Progress = silent
) -> Refit:
    """Refit `jacket` to the triangles of `surface`. With the `old` surface points keep the distance that they
    had from it where that was more than a 500th of the diagonal (lifted on purpose)."""
    if jacket.n_faces == 0:
        raise MeshError("The jacket has no faces, so there is nothing to refit.")
    if len(surface.triangles) == 0:
        raise MeshError("The new source has no faces to refit to.")
    start = jacket.points
    lift = _lifts(jacket, old, diagonal)
    facing = _normals(surface)
    stiff = _smoothness(jacket)
    progress(0.0, "fitting the jacket to the new source")
    start = _as_a_whole(jacket, surface, facing, lift)
    points = start.copy()
    for k, weight in enumerate(STIFFNESS):
        progress(k / len(STIFFNESS), "fitting the jacket to the new source")
        target, triangle, _ = surface.closest(points)
        normals = point_normals(jacket.with_points(points))
        trust = np.clip((normals * facing[triangle]).sum(axis=1), 0.0, 1.0) + 1e-3
        target = target + lift[:, None] * facing[triangle]
        moves = Factor(csr_array(diags_array(trust) + weight * stiff)).solve(trust[:, None] * (target - start))
        points = start + moves
    place, triangle, _ = surface.closest(points)
    points = place + lift[:, None] * facing[triangle]
    result = jacket.with_points(points)
    moved = np.linalg.norm(points - jacket.points, axis=1) / max(diagonal, 1e-300) * 100.0
    return Refit(result, moved, _poor(jacket, result, triangle, facing, surface, place, old, jacket.points))


def _normals(surface: Bvh) -> Floats:
    """(T, 3) unit normals of a surface's triangles."""
    a, b, c = (surface.points[surface.triangles[:, k]] for k in range(3))
    return unit(np.cross(b - a, c - a))


def _as_a_whole(jacket: PolyMesh, surface: Bvh, facing: Floats, lift: Floats) -> Floats:
    """Points after the best affine move of the whole jacket onto the surface, where that brings them nearer: a
    source that was turned, scaled or stretched is followed without its quads sliding over it."""
    points = best = jacket.points
    used = np.bincount(jacket.corners, minlength=jacket.n_points) > 0
    near = np.inf
    rows = np.concatenate([jacket.points, np.ones((jacket.n_points, 1))], axis=1)
    for _ in range(30):
        target, triangle, far = surface.closest(points - lift[:, None] * point_normals(jacket.with_points(points)))
        mean = float(far[used].mean())
        if not mean < near * (1 - 1e-3):
            break
        near, best = mean, points
        normals = point_normals(jacket.with_points(points))
        trust = np.clip((normals * facing[triangle]).sum(axis=1), 0.0, 1.0) * used
        # Places far off belong to parts that changed by themselves.
        trust *= far <= max(3.0 * mean, 1e-300)
        target = target + lift[:, None] * facing[triangle]
        if (trust > 0).sum() < 12:
            break
        # Only the way along the surface's normal counts, so points may slide while the whole settles
        # (Chen and Medioni 1992).
        a = (facing[triangle][:, :, None] * rows[:, None, :]).reshape(len(rows), 12) * trust[:, None]
        b = (facing[triangle] * (target - jacket.points)).sum(axis=1) * trust
        scale = np.abs(a).max(initial=1e-300)
        small = 1e-3 * scale * np.sqrt(len(rows)) * np.eye(12)
        move = np.linalg.lstsq(np.concatenate([a, 0.02 * small]), np.concatenate([b, np.zeros(12)]), rcond=None)[0]
        points = jacket.points + rows @ move.reshape(3, 4).T
    return best


def _lifts(jacket: PolyMesh, old: Bvh | None, diagonal: float) -> Floats:
    if old is None or len(old.triangles) == 0:
        return np.zeros(jacket.n_points)
    place, triangle, far = old.closest(jacket.points)
    corner = old.points[old.triangles[triangle]]
    normal = unit(np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]))
    lift = ((jacket.points - place) * normal).sum(axis=1)
    # Beyond a rim the distance is no lift: it does not run along the normal.
    return np.where((far > 0.002 * diagonal) & (np.abs(lift) > 0.9 * far), lift, 0.0)


def _smoothness(mesh: PolyMesh) -> csr_array:
    """Graph Laplacian squared over the jacket's edges: moves that run straight on cost nothing."""
    ends = mesh.topology.edge_points
    n = mesh.n_points
    ones = np.ones(len(ends))
    graph = coo_array((np.concatenate([ones, ones]), (ends.ravel(order="F"), ends[:, ::-1].ravel(order="F"))),
                      shape=(n, n)).tocsr()  # fmt: skip
    degree = np.asarray(graph.sum(axis=1)).ravel()
    mean = diags_array(1.0 / np.maximum(degree, 1)) @ graph
    umbrella = csr_array(diags_array((degree > 0).astype(float)) - mean)
    return csr_array(umbrella.T @ umbrella)


def _poor(
    before: PolyMesh, after: PolyMesh, triangle: Ints, facing: Floats, surface: Bvh, place: Floats,
    old: Bvh | None, start: Floats,
) -> Ints:  # fmt: skip
    """Points that could not be refitted well."""
    normals = point_normals(after)
    bad = (normals * facing[triangle]).sum(axis=1) < 0.5
    if old is not None and len(old.triangles):
        # What faced another way before, at a sharp rib say, was not lost by the refit.
        bad &= (point_normals(before) * _normals(old)[old.closest(start)[1]]).sum(axis=1) >= 0.5
    turned = (scaled_jacobian(after) <= 0) & (scaled_jacobian(before) > 0)
    bad[after.corners[turned[after.face_of_corner]]] = True
    size, was = face_areas(after), face_areas(before)
    ratio = size / np.maximum(was, 1e-300)
    squeezed = ratio < 0.15 * np.median(ratio)
    bad[after.corners[squeezed[after.face_of_corner]]] = True
    bad |= _on_rim(surface, triangle, place) & ~before.topology.border_points & ~_was_on_rim(old, start)
    used = np.bincount(after.corners, minlength=after.n_points) > 0
    return np.flatnonzero(bad & used).astype(np.int32)


def _was_on_rim(old: Bvh | None, start: Floats) -> NDArray[np.bool_]:
    if old is None or len(old.triangles) == 0:
        return np.zeros(len(start), bool)
    place, triangle, _ = old.closest(start)
    return _on_rim(old, triangle, place)


def _on_rim(surface: Bvh, triangle: Ints, place: Floats) -> NDArray[np.bool_]:
    """Whether closest places lie on border edges of the surface."""
    tri = surface.triangles.astype(np.int64)
    sides = np.sort(np.concatenate([tri[:, [0, 1]], tri[:, [1, 2]], tri[:, [2, 0]]]), axis=1)
    keys = sides[:, 0] << 32 | sides[:, 1]
    unique, inverse, counts = np.unique(keys, return_inverse=True, return_counts=True)
    del unique
    border = (counts[inverse] == 1).reshape(3, -1).T
    out = np.zeros(len(place), bool)
    for k in range(3):
        a, b = surface.points[tri[triangle, k]], surface.points[tri[triangle, (k + 1) % 3]]
        d = b - a
        length2 = np.maximum((d * d).sum(axis=1), 1e-300)
        share = np.clip(((place - a) * d).sum(axis=1) / length2, 0, 1)
        far2 = ((a + share[:, None] * d - place) ** 2).sum(axis=1)
        out |= border[triangle, k] & (far2 <= 1e-12 * length2)
    return out
