"""Opening the thinnest corners: points at the worst faces are tried in places around them, and go where the worst gets better.

Relaxing lowers a sum over all faces, which a few thin corners hardly feel; this looks at the least corner at each point alone
(optimisation-based smoothing after Freitag and Ollivier-Gooch, "Tetrahedral mesh improvement using swapping and smoothing",
1997), one point of a face at a time, on the surface."""

from __future__ import annotations

import numpy as np

from jacket.core.fit.relax import Lines
from jacket.core.jit import inline, kernel
from jacket.core.mesh.geometry import scaled_jacobian
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.space.bvh import Bvh

THIN = 0.9
"""Least sine of a face's corners under which its points are tried."""
RINGS = (0.5, 0.3, 0.15, 0.07, 0.03)
"""How far around a point places are tried, in mean edges at it."""
WAYS = 12
SOUND = 0.95
"""A corner that needs no opening."""


def opened(mesh: PolyMesh, surface: Bvh, held: Bools, lines: Lines | None = None, rounds: int = 240, thin: float = THIN) -> PolyMesh:
    """A mesh whose faces with corners thinner than `thin` are opened as far as moving single points on the surface does it;
    points flagged in `held` (V,), corners of lines and points of the border stay, points of lines slide along them."""
    if mesh.n_faces == 0:
        return mesh
    stay = held | mesh.topology.border_points
    slides = on_lines = np.zeros(mesh.n_points, bool)
    if lines is not None:
        on_lines = lines.sliding | lines.fixed
        stay, slides = stay | lines.fixed, lines.sliding & ~lines.fixed
    start, around = _faces_at(mesh)
    points, corners, starts = mesh.points.copy(), mesh.corners, mesh.starts
    stuck = np.zeros(mesh.n_points, bool)
    for _ in range(rounds):
        worst = scaled_jacobian(mesh.with_points(points))
        bad = worst < thin
        ids = np.unique(corners[bad[mesh.face_of_corner]])
        ids = _apart(ids[~(stay | stuck)[ids]], worst, start, around)
        if len(ids) == 0:
            break
        along = _along_lines(mesh, points, on_lines)[ids] * slides[ids][:, None]
        aims = _best_places(points, corners, starts, start, around, ids, along, np.array(RINGS), WAYS)
        step = np.linalg.norm(aims - points[ids], axis=1)
        moved, on_line = step > 0, slides[ids]
        free = np.flatnonzero(moved & ~on_line)
        aims[free] = surface.project(aims[free], 2 * step[free])
        if lines is not None and (moved & on_line).any():
            aims[moved & on_line] = lines.curve.project(aims[moved & on_line])
        # On the surface a place is another one than in the plane that was looked at: it has to be better there too.
        taken = _taken(points, corners, starts, start, around, ids, aims)
        # Who found nothing better is asked again once a neighbour has moved.
        stuck[ids[~taken]] = True
        went, near = np.zeros(mesh.n_points, bool), np.zeros(mesh.n_faces, bool)
        went[ids[taken]] = True
        near[mesh.face_of_corner[went[corners]]] = True
        stuck[corners[near[mesh.face_of_corner]]] = False
    return mesh.with_points(points)


def _faces_at(mesh: PolyMesh) -> tuple[Ints, Ints]:
    """Faces at points: those of point p are around[start[p]:start[p + 1]]."""
    order = np.argsort(mesh.corners, kind="stable")
    start = np.concatenate([[0], np.cumsum(np.bincount(mesh.corners, minlength=mesh.n_points))]).astype(np.int32)
    return start, mesh.face_of_corner[order].astype(np.int32)


def _along_lines(mesh: PolyMesh, points: Floats, on_lines: Bools) -> Floats:
    """(V, 3) the way of the line at points that slide along one, as their edges on it run; 0 elsewhere."""
    out = np.zeros_like(points)
    ends = mesh.topology.edge_points
    on = ends[on_lines[ends].all(axis=1)]
    way = points[on[:, 1]] - points[on[:, 0]]
    out[on.T] = way / np.maximum(np.linalg.norm(way, axis=1, keepdims=True), 1e-300)
    return out


def _apart(ids: Ints, worst: Floats, start: Ints, around: Ints) -> Ints:
    """Points of which no two share a face, those at the thinnest corners first."""
    least = _least_at(worst, start, around, ids)
    return ids[_first_apart(start, around, ids, np.argsort(least, kind="stable"), len(worst))].astype(np.int32)


@kernel
def _least_at(worst, start, around, ids):
    """(K,) the thinnest corner of the faces at each point."""
    out = np.empty(len(ids))
    for i in range(len(ids)):
        out[i] = np.inf
        for k in range(start[ids[i]], start[ids[i] + 1]):
            out[i] = min(out[i], worst[around[k]])
    return out


@kernel
def _first_apart(start, around, ids, order, n_faces):
    """Places in `ids` of those that, taken in an order, share no face with one before."""
    used = np.zeros(n_faces, np.bool_)
    out = np.empty(len(order), np.int64)
    n = 0
    for i in order:
        p = ids[i]
        free = True
        for k in range(start[p], start[p + 1]):
            free = free and not used[around[k]]
        if free:
            for k in range(start[p], start[p + 1]):
                used[around[k]] = True
            out[n] = i
            n += 1
    return out[:n].copy()


@inline
def _thinnest(points, corners, first, last, p, x, y, z):
    """Least sine of a face's corners against its mean normal with point p at (x, y, z) (Knupp 2003)."""
    n = last - first
    nx = ny = nz = 0.0
    for k in range(n):
        a, b = corners[first + k], corners[first + (k + 1) % n]
        ax, ay, az = (x, y, z) if a == p else (points[a, 0], points[a, 1], points[a, 2])
        bx, by, bz = (x, y, z) if b == p else (points[b, 0], points[b, 1], points[b, 2])
        nx += ay * bz - az * by
        ny += az * bx - ax * bz
        nz += ax * by - ay * bx
    size = np.sqrt(nx * nx + ny * ny + nz * nz)
    if size <= 0:
        return -1.0
    least = 1.0
    for k in range(n):
        o, a, b = corners[first + k], corners[first + (k + 1) % n], corners[first + (k + n - 1) % n]
        ox, oy, oz = (x, y, z) if o == p else (points[o, 0], points[o, 1], points[o, 2])
        ax, ay, az = (x, y, z) if a == p else (points[a, 0], points[a, 1], points[a, 2])
        bx, by, bz = (x, y, z) if b == p else (points[b, 0], points[b, 1], points[b, 2])
        ux, uy, uz, vx, vy, vz = ax - ox, ay - oy, az - oz, bx - ox, by - oy, bz - oz
        long = np.sqrt((ux * ux + uy * uy + uz * uz) * (vx * vx + vy * vy + vz * vz))
        if long <= 0:
            return -1.0
        sine = ((uy * vz - uz * vy) * nx + (uz * vx - ux * vz) * ny + (ux * vy - uy * vx) * nz) / (size * long)
        least = min(least, sine)
    return least


@inline
def _worth(points, corners, starts, start, around, p, x, y, z):
    """What a place is worth: by how much the thin corners of the faces at p fall short, the thinnest far more than others."""
    short = 0.0
    for k in range(start[p], start[p + 1]):
        f = around[k]
        one = SOUND - _thinnest(points, corners, starts[f], starts[f + 1], p, x, y, z)
        if one > 0:
            short += one * one * one
    return -short


@kernel
def _best_places(points, corners, starts, start, around, ids, along, rings, ways):
    """(K, 3) the best of the places around each point in the plane of its faces, on either side of it along a line for those
    that have one in `along` (K, 3), or where it is."""
    out = np.empty((len(ids), 3))
    for i in range(len(ids)):
        p = ids[i]
        px, py, pz = points[p, 0], points[p, 1], points[p, 2]
        nx = ny = nz = far = 0.0
        count = 0
        for k in range(start[p], start[p + 1]):
            f = around[k]
            first, n = starts[f], starts[f + 1] - starts[f]
            for c in range(n):
                if corners[first + c] == p:
                    a, b = corners[first + (c + 1) % n], corners[first + (c + n - 1) % n]
                    ux, uy, uz = points[a, 0] - px, points[a, 1] - py, points[a, 2] - pz
                    vx, vy, vz = points[b, 0] - px, points[b, 1] - py, points[b, 2] - pz
                    nx, ny, nz = nx + uy * vz - uz * vy, ny + uz * vx - ux * vz, nz + ux * vy - uy * vx
                    far += np.sqrt(ux * ux + uy * uy + uz * uz)
                    count += 1
        out[i, 0], out[i, 1], out[i, 2] = px, py, pz
        size = np.sqrt(nx * nx + ny * ny + nz * nz)
        if size <= 0 or count == 0:
            continue
        nx, ny, nz, far = nx / size, ny / size, nz / size, far / count
        # Two ways across the normal.
        if abs(nx) < 0.7:
            ax, ay, az = 0.0, nz, -ny
        else:
            ax, ay, az = -nz, 0.0, nx
        size = np.sqrt(ax * ax + ay * ay + az * az)
        ax, ay, az = ax / size, ay / size, az / size
        bx, by, bz = ny * az - nz * ay, nz * ax - nx * az, nx * ay - ny * ax
        on_line = along[i, 0] != 0 or along[i, 1] != 0 or along[i, 2] != 0
        if on_line:
            ax, ay, az, bx, by, bz = along[i, 0], along[i, 1], along[i, 2], 0.0, 0.0, 0.0
        best = _worth(points, corners, starts, start, around, p, px, py, pz) + 1e-7
        for ring in range(len(rings)):
            for way in range(2 if on_line else ways):
                angle = np.pi * way if on_line else 2 * np.pi * (way + 0.5 * (ring % 2)) / ways
                u, v = far * rings[ring] * np.cos(angle), far * rings[ring] * np.sin(angle)
                x, y, z = px + u * ax + v * bx, py + u * ay + v * by, pz + u * az + v * bz
                worth = _worth(points, corners, starts, start, around, p, x, y, z)
                if worth > best:
                    best = worth
                    out[i, 0], out[i, 1], out[i, 2] = x, y, z
    return out


@kernel
def _taken(points, corners, starts, start, around, ids, aims):
    """Move each point to its place where that is better; (K,) which did."""
    out = np.zeros(len(ids), np.bool_)
    for i in range(len(ids)):
        p = ids[i]
        now = _worth(points, corners, starts, start, around, p, points[p, 0], points[p, 1], points[p, 2])
        if _worth(points, corners, starts, start, around, p, aims[i, 0], aims[i, 1], aims[i, 2]) > now + 5e-8:
            points[p, 0], points[p, 1], points[p, 2] = aims[i, 0], aims[i, 1], aims[i, 2]
            out[i] = True
    return out
