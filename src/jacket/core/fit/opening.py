"""Opening the thinnest corners: points at the worst faces are tried in places around them, and go where the worst gets better.

Relaxing lowers a sum over all faces, which a few thin corners hardly feel; this looks at the least corner at each point alone
(optimisation-based smoothing after Freitag and Ollivier-Gooch, "Tetrahedral mesh improvement using swapping and smoothing",
1997), one point of a face at a time, on the surface."""

from __future__ import annotations

import numpy as np

from jacket.core.fit.relax import Lines
from jacket.core.jit import inline, kernel
from jacket.core.mesh.polymesh import Bools, Ints, PolyMesh
from jacket.core.space.bvh import Bvh, closest_within

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
    points, empty = mesh.points.copy(), Bvh.build(np.zeros((0, 3)), np.zeros((0, 3), np.int32))
    curve = lines.curve if lines is not None else empty
    own = [tree.arrays for tree in (surface, curve)]
    slides = slides & bool(len(curve.triangles))
    _opened(points, mesh.corners, mesh.starts, start, around, stay, slides, _line_ends(mesh, on_lines), *own[0], *own[1],
            np.array(RINGS), WAYS, rounds, thin)  # fmt: skip
    return mesh.with_points(points)


def _faces_at(mesh: PolyMesh) -> tuple[Ints, Ints]:
    """Faces at points: those of point p are around[start[p]:start[p + 1]]."""
    order = np.argsort(mesh.corners, kind="stable")
    start = np.concatenate([[0], np.cumsum(np.bincount(mesh.corners, minlength=mesh.n_points))]).astype(np.int32)
    return start, mesh.face_of_corner[order].astype(np.int32)


def _line_ends(mesh: PolyMesh, on_lines: Bools) -> Ints:
    """(V, 2) ends of an edge at each point along which its line runs; −1 for none."""
    out = np.full((mesh.n_points, 2), -1, np.int32)
    ends = mesh.topology.edge_points
    on = ends[on_lines[ends].all(axis=1)]
    out[on[:, 0]] = on
    out[on[:, 1]] = on
    return out


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
def _short(points, corners, starts, start, around, p, x, y, z, most):
    """By how much the thin corners of the faces at p fall short with p at a place, the thinnest far more than others; summed no
    further than to `most`."""
    short = 0.0
    for k in range(start[p], start[p + 1]):
        f = around[k]
        one = SOUND - _thinnest(points, corners, starts[f], starts[f + 1], p, x, y, z)
        if one > 0:
            short += one * one * one
            if short >= most:
                break
    return short


@inline
def _best_place(points, corners, starts, start, around, p, line_x, line_y, line_z, rings, ways):
    """The best of the places around a point in the plane of its faces, on either side of it along a line where it has one, or
    where it is."""
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
    out_x, out_y, out_z = px, py, pz
    size = np.sqrt(nx * nx + ny * ny + nz * nz)
    if size <= 0 or count == 0:
        return out_x, out_y, out_z
    nx, ny, nz, far = nx / size, ny / size, nz / size, far / count
    # Two ways across the normal.
    if abs(nx) < 0.7:
        ax, ay, az = 0.0, nz, -ny
    else:
        ax, ay, az = -nz, 0.0, nx
    size = np.sqrt(ax * ax + ay * ay + az * az)
    ax, ay, az = ax / size, ay / size, az / size
    bx, by, bz = ny * az - nz * ay, nz * ax - nx * az, nx * ay - ny * ax
    on_line = line_x != 0 or line_y != 0 or line_z != 0
    if on_line:
        ax, ay, az, bx, by, bz = line_x, line_y, line_z, 0.0, 0.0, 0.0
    least = _short(points, corners, starts, start, around, p, px, py, pz, np.inf) - 1e-7
    for ring in range(len(rings)):
        for way in range(2 if on_line else ways):
            angle = np.pi * way if on_line else 2 * np.pi * (way + 0.5 * (ring % 2)) / ways
            u, v = far * rings[ring] * np.cos(angle), far * rings[ring] * np.sin(angle)
            x, y, z = px + u * ax + v * bx, py + u * ay + v * by, pz + u * az + v * bz
            short = _short(points, corners, starts, start, around, p, x, y, z, least)
            if short < least:
                least = short
                out_x, out_y, out_z = x, y, z
    return out_x, out_y, out_z


@kernel
def _opened(points, corners, starts, start, around, stay, slides, line_ends, s_points, s_triangles, s_order, s_boxes, s_leaves,
            c_points, c_triangles, c_order, c_boxes, c_leaves, rings, ways, rounds, thin):  # fmt: skip
    """Open thin corners, writing into `points`; the surface is given by its tree, and so are lines."""
    n_faces, n_points = len(starts) - 1, len(points)
    worst = np.empty(n_faces)
    for f in range(n_faces):
        worst[f] = _thinnest(points, corners, starts[f], starts[f + 1], -1, 0.0, 0.0, 0.0)
    stuck, chosen, used = np.zeros(n_points, np.bool_), np.zeros(n_points, np.bool_), np.zeros(n_faces, np.bool_)
    ids, least = np.empty(n_points, np.int32), np.empty(n_points)
    stack, depth = np.empty(64, np.int32), np.empty(64)
    for _ in range(rounds):
        for f in range(n_faces):
            if worst[f] < thin:
                for c in range(starts[f], starts[f + 1]):
                    chosen[corners[c]] = not (stay[corners[c]] or stuck[corners[c]])
        n = 0
        for p in range(n_points):
            if chosen[p]:
                chosen[p] = False
                ids[n], least[n] = p, np.inf
                for k in range(start[p], start[p + 1]):
                    least[n] = min(least[n], worst[around[k]])
                n += 1
        if n == 0:
            return
        # Those at the thinnest corners first, and no two of one face in a round.
        used[:] = False
        for i in np.argsort(least[:n], kind="mergesort"):
            p = ids[i]
            free = True
            for k in range(start[p], start[p + 1]):
                free = free and not used[around[k]]
            if not free:
                continue
            for k in range(start[p], start[p + 1]):
                used[around[k]] = True
            px, py, pz = points[p, 0], points[p, 1], points[p, 2]
            wx = wy = wz = 0.0
            if slides[p] and line_ends[p, 0] >= 0:
                a, b = line_ends[p, 0], line_ends[p, 1]
                wx, wy, wz = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
                size = max(np.sqrt(wx * wx + wy * wy + wz * wz), 1e-300)
                wx, wy, wz = wx / size, wy / size, wz / size
            x, y, z = _best_place(points, corners, starts, start, around, p, wx, wy, wz, rings, ways)
            step = np.sqrt((x - px) ** 2 + (y - py) ** 2 + (z - pz) ** 2)
            better = False
            if step > 0:
                if slides[p]:
                    _, _, x, y, z = closest_within(c_points, c_triangles, c_order, c_boxes, c_leaves, x, y, z, stack, depth, np.inf)
                else:
                    _, _, x, y, z = closest_within(s_points, s_triangles, s_order, s_boxes, s_leaves, x, y, z, stack, depth, 2 * step)
                # On the surface a place is another one than in the plane that was looked at: it has to be better there too.
                least_now = _short(points, corners, starts, start, around, p, px, py, pz, np.inf) - 5e-8
                better = _short(points, corners, starts, start, around, p, x, y, z, least_now) < least_now
            # Who found nothing better is asked again once a neighbour has moved.
            stuck[p] = not better
            if better:
                points[p, 0], points[p, 1], points[p, 2] = x, y, z
                for k in range(start[p], start[p + 1]):
                    f = around[k]
                    worst[f] = _thinnest(points, corners, starts[f], starts[f + 1], -1, 0.0, 0.0, 0.0)
                    for c in range(starts[f], starts[f + 1]):
                        stuck[corners[c]] = False
