"""What is known at the points of a dense mesh: occlusion, bent normals, thickness, curvature.

Computed once at the points and carried to texels by the place a ray meets, these cost nothing more for a larger map and are
more exact than a few rays a texel.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import numpy as np
from scipy import sparse

from jacket.core.bake.dense import Dense
from jacket.core.mesh.geometry import triangle_areas
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.quads.curvature import shape_tensors
from jacket.core.space.rays import RayTree, cosine_directions, fans
from jacket.progress import Progress, silent

OFF = 1e-4
"""How far above its point a ray starts, in diagonals."""
CHUNK = 512
MOST_ROUNDS = 200
"""Rounds of averaging at most, however dense the mesh."""


def sky_at_points(
    dense: Dense, rays: int = 64, ground: bool = False, alone: bool = False, reach: float = np.inf, progress: Progress = silent
) -> tuple[Floats, Floats]:
    """(V,) share of the sky over each point that nothing covers, weighted by the cosine, and (V, 3) the bent normal: the
    mean open direction, unit length (Landis, "Production-ready global illumination", 2002). `ground` lets a plane under the
    lowest point (Y up) cover the sky from below; `alone` lets each mesh cover only itself; what is further than `reach` away
    covers nothing."""
    points = dense.tree.points
    floor = float(points[:, 1].min()) if ground and len(points) else -np.inf
    off = OFF * dense.diagonal
    return _over_points(dense, alone, progress, "occlusion", lambda tree, p, n: tree.sky(p, n, rays, off, floor - off, reach))


def thickness_at_points(dense: Dense, rays: int, reach: float, progress: Progress = silent) -> Floats:
    """(V,) mean way through the form under each point as a share of `reach`, over the half sphere below it, weighted by the
    cosine; 1 where it is thicker everywhere."""
    found, _ = _over_points(dense, True, progress, "thickness", lambda tree, p, n: _depths(
        tree, p, n, cosine_directions(rays), OFF * dense.diagonal, reach))  # fmt: skip
    return found


def _over_points(
    dense: Dense, alone: bool, progress: Progress, what: str, work: Callable[[RayTree, Floats, Floats], tuple[Floats, Floats]]
) -> tuple[Floats, Floats]:
    points, first, second = dense.tree.points, np.ones(len(dense.normals)), np.zeros((len(dense.normals), 3))
    if len(points) == 0:
        return first, second
    parts = range(len(dense.names)) if alone and len(dense.names) > 1 else (-1,)
    for part in parts:
        tree = dense.tree if part < 0 else RayTree.build(points, dense.tree.triangles[dense.part == part])
        chosen = _neighbourly(tree, len(points))
        spans = [chosen[a : a + CHUNK] for a in range(0, len(chosen), CHUNK)]
        with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
            jobs = [pool.submit(work, tree, points[s], dense.normals[s]) for s in spans]
            try:
                for k, (job, s) in enumerate(zip(jobs, spans, strict=True)):
                    first[s], second[s] = job.result()
                    progress(k / len(spans), what)
            except BaseException:
                for job in jobs:
                    job.cancel()
                raise
    return first, second


def _neighbourly(tree: RayTree, count: int) -> Ints:
    """Points of a tree's triangles in the order of its leaves: rays from neighbours walk the same nodes, which saves a third
    of the time on scans whose points come in any order."""
    in_leaves = np.asarray(tree.triangles[tree.order]).ravel()
    first = np.full(count, -1, np.int64)
    first[in_leaves[::-1]] = np.arange(len(in_leaves) - 1, -1, -1)
    used = np.flatnonzero(first >= 0)
    return used[np.argsort(first[used], kind="stable")]


def _depths(tree: RayTree, places: Floats, normals: Floats, ways: Floats, off: float, reach: float) -> tuple[Floats, Floats]:
    """Mean way through the form under some points as a share of the reach; the second is for nothing."""
    origins, directions = fans(places, -normals, ways, off)
    which, far = tree.first(origins, directions, reach)
    return np.where(which >= 0, far, reach).reshape(len(places), len(ways)).mean(axis=1) / reach, np.zeros((len(places), 3))


def curvature_at_points(dense: Dense, width: float = 0.0) -> Floats:
    """(V,) mean curvature per unit length, positive where the surface is convex: the shape operator from normals
    (Rusinkiewicz, "Estimating curvatures and their derivatives on triangle meshes", 2004), averaged by area over about `width`
    around each point."""
    points, tri = dense.tree.points, dense.tree.triangles
    if len(tri) == 0:
        return np.zeros(len(points))
    mesh = PolyMesh.from_faces(points, np.asarray(tri))
    by_face = np.trace(shape_tensors(mesh, 0), axis1=1, axis2=2) / 2
    area = triangle_areas(points, tri)
    joined, weights = _averaging(tri, area, len(points))
    values = np.asarray(joined @ by_face) / np.maximum(weights, 1e-300)
    # A round of averaging over the faces around a point spreads by about its edges' length; squares add up.
    edge = np.sqrt(max(float(np.mean(area)), 1e-300) * 2)
    for _ in range(min(int(np.ceil((width / edge) ** 2)), MOST_ROUNDS) if width > 0 else 0):
        values = np.asarray(joined @ values[tri].mean(axis=1)) / np.maximum(weights, 1e-300)
    return values


def _averaging(tri: Ints, area: Floats, count: int) -> tuple[sparse.csr_array, Floats]:
    """(V, T) areas of the triangles at each point, and their sums (V,)."""
    rows, columns = tri.ravel(), np.repeat(np.arange(len(tri)), 3)
    joined = sparse.csr_array((np.repeat(area, 3), (rows, columns)), shape=(count, len(tri)))
    return joined, np.asarray(joined.sum(axis=1)).ravel()
