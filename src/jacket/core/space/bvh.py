"""A bounding-volume hierarchy over triangles, halved across the longest side.

The tree is an implicit complete binary tree over runs of triangles. Every run is halved where the box of its centres is longest
(Bentley, "Multidimensional binary search trees used for associative searching", 1975), so that the boxes of the two halves hardly
overlap; refitting is a sweep. Along a Morton curve the same tree was built in a third of the time, but a closest point took five
to nine times as long.
"""

from __future__ import annotations

import os
from dataclasses import dataclass
from itertools import pairwise
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jacket.core.beside import pool
from jacket.core.jit import inline, kernel

Floats = NDArray[np.float64]
Ints = NDArray[np.signedinteger]

LEAF = 4


class Hit(NamedTuple):
    """Where a ray meets a surface: triangle index, distance along the ray, position (3,)."""

    triangle: int
    distance: float
    position: Floats


MOST_LAID_OUT = 1_500_000
"""Triangles up to which a hierarchy holds their corners as well: 72 bytes each."""
MANY = 1500
"""Queries from which they are shared out among threads."""
THREADS = min(2, os.cpu_count() or 1)


@dataclass(frozen=True, eq=False)
class Bvh:
    """A hierarchy over triangles (T, 3) of points (V, 3)."""

    points: Floats
    triangles: Ints
    order: Ints
    boxes: Floats
    leaves: Floats
    """(T, 3, 3) corners of the triangles in the order of the leaves: found side by side they take two thirds of the time, on large meshes
    less; (0, 3, 3) of more than `MOST_LAID_OUT` triangles, where that would take more memory than it is worth."""

    @staticmethod
    def build(points: Floats, triangles: Ints) -> Bvh:
        """Sort and box the triangles; an empty set is allowed and is never hit."""
        points = np.ascontiguousarray(points, np.float64)
        triangles = np.ascontiguousarray(triangles, np.int32).reshape(-1, 3)
        if len(triangles) == 0:
            return Bvh(points, triangles, np.zeros(0, np.int32), np.zeros((1, 6)), np.zeros((0, 3, 3)))
        return _over(points, triangles, _halved(points, triangles, LEAF))

    @staticmethod
    def of_segments(segments: Floats) -> Bvh:
        """A hierarchy over line segments (S, 2, 3), each as a triangle without area: closest points on curves."""
        n = len(segments)
        thin = np.stack([2 * np.arange(n), 2 * np.arange(n) + 1, 2 * np.arange(n) + 1], axis=1)
        return Bvh.build(segments.reshape(-1, 3), thin.astype(np.int32))

    def refit(self, points: Floats) -> Bvh:
        """The same tree over moved points."""
        return _over(np.ascontiguousarray(points, np.float64), self.triangles, self.order)

    @property
    def arrays(self) -> tuple[Floats, Ints, Ints, Floats, Floats]:
        """What kernels that look for closest points take."""
        return self.points, self.triangles, self.order, self.boxes, self.leaves

    def ray(self, origin: Floats, direction: Floats, reach: float = np.inf) -> Hit | None:
        """The nearest triangle hit from either side along a ray, or None."""
        if len(self.triangles) == 0:
            return None
        origin = np.asarray(origin, np.float64)
        direction = np.asarray(direction, np.float64)
        t, tri = _ray(self.points, self.triangles, self.order, self.boxes, origin, direction, reach)
        if tri < 0:
            return None
        return Hit(int(tri), float(t), origin + t * direction)

    def closest(self, queries: Floats, within: Floats | None = None) -> tuple[Floats, Ints, Floats]:
        """Closest surface points to (Q, 3) queries: positions (Q, 3), triangles (Q,), distances (Q,).

        within   (Q,) distances within which the surface is thought to lie, which makes the search several times as
                 quick: for a point that was on the surface, how far it moved. Where it lies farther off the search
                 is made again without.
        """
        queries = np.ascontiguousarray(np.atleast_2d(queries), np.float64)
        if len(self.triangles) == 0:
            return queries.copy(), np.full(len(queries), -1, np.int32), np.full(len(queries), np.inf)
        bound = np.full(len(queries), np.inf) if within is None else np.ascontiguousarray(within, np.float64)
        own = self.arrays
        if len(queries) < MANY:
            return _closest_many(*own, queries, bound)
        # Each query is on its own, so that sharing them out changes nothing but the time.
        cuts = np.linspace(0, len(queries), THREADS + 1).astype(int)
        jobs = [pool(THREADS, "closest").submit(_closest_many, *own, queries[a:b], bound[a:b]) for a, b in pairwise(cuts)]
        where, which, far = zip(*(job.result() for job in jobs), strict=True)
        return np.concatenate(where), np.concatenate(which), np.concatenate(far)

    def project(self, queries: Floats, within: Floats | None = None) -> Floats:
        """Closest surface points only, (Q, 3)."""
        return self.closest(queries, within)[0]

    def across_plane(self, place: Floats, normal: Floats) -> Ints:
        """Triangles with points on both sides of a plane, ascending; points in the plane count as above it."""
        if len(self.triangles) == 0:
            return np.zeros(0, np.int32)
        normal = np.asarray(normal, np.float64)
        return np.sort(
            _across_plane(self.points, self.triangles, self.order, self.boxes, normal, float(np.dot(place, normal)))
        )

    def occluded(self, origins: Floats, directions: Floats, reach: Floats) -> NDArray[np.bool_]:
        """(Q,) whether something lies along each ray before `reach` (Q,)."""
        if len(self.triangles) == 0:
            return np.zeros(len(origins), bool)
        return _occluded_many(self.points, self.triangles, self.order, self.boxes, origins, directions, reach)


def _over(points: Floats, triangles: Ints, order: Ints) -> Bvh:
    leaves = points[triangles[order]] if len(order) <= MOST_LAID_OUT else np.zeros((0, 3, 3))
    return Bvh(points, triangles, order, _boxes(points, triangles, order, LEAF), leaves)


@kernel
def _halved(points, triangles, leaf):
    """(T,) triangles in the order of the leaves: those of the first half of a run's leaves lie before the others along the axis
    along which the run is longest. Each half is found by selection (Hoare, "Algorithm 65: find", 1961)."""
    n = len(triangles)
    order = np.arange(n).astype(np.int32)
    centre = np.empty((n, 3))
    for t in range(n):
        for k in range(3):
            centre[t, k] = points[triangles[t, 0], k] + points[triangles[t, 1], k] + points[triangles[t, 2], k]
    leaves = 1
    while leaves * leaf < n:
        leaves *= 2
    # Runs that wait, by their first leaf and how many there are: one of each level and the one that is next.
    stack = np.empty((64, 2), np.int64)
    stack[0, 0], stack[0, 1] = 0, leaves
    top = 1
    while top > 0:
        top -= 1
        first, count = stack[top, 0], stack[top, 1]
        start, end = first * leaf, min((first + count) * leaf, n)
        if end - start <= leaf:
            continue
        half = count // 2
        middle = (first + half) * leaf
        stack[top, 0], stack[top, 1] = first, half
        top += 1
        if middle >= end:
            continue
        stack[top, 0], stack[top, 1] = first + half, half
        top += 1
        axis, longest = 0, -1.0
        for k in range(3):
            low, high = np.inf, -np.inf
            for i in range(start, end):
                low, high = min(low, centre[i, k]), max(high, centre[i, k])
            if high - low > longest:
                axis, longest = k, high - low
        _select(centre, order, axis, start, end - 1, middle)
    return order


@inline
def _select(centre, order, axis, left, right, middle):
    """Order rows from left to right so that none before `middle` comes after one behind it along an axis."""
    while left < right:
        p, q, r = centre[left, axis], centre[(left + right) // 2, axis], centre[right, axis]
        pivot = max(min(p, q), min(max(p, q), r))
        i, j = left, right
        while i <= j:
            while centre[i, axis] < pivot:
                i += 1
            while centre[j, axis] > pivot:
                j -= 1
            if i <= j:
                order[i], order[j] = order[j], order[i]
                for k in range(3):
                    centre[i, k], centre[j, k] = centre[j, k], centre[i, k]
                i += 1
                j -= 1
        if middle <= j:
            right = j
        elif middle >= i:
            left = i
        else:
            return


@kernel
def _boxes(points, triangles, order, leaf):
    n = len(order)
    leaves = 1
    while leaves * leaf < n:
        leaves *= 2
    boxes = np.empty((2 * leaves - 1, 6))
    # A hair of padding, so that rays that run along a box's face are inside it.
    pad = 0.0
    for p in range(len(points)):
        for k in range(3):
            pad = max(pad, abs(points[p, k]))
    pad = pad * 1e-12 + 1e-300
    for i in range(leaves):
        node = leaves - 1 + i
        for k in range(3):
            boxes[node, k] = np.inf
            boxes[node, k + 3] = -np.inf
        for j in range(i * leaf, min((i + 1) * leaf, n)):
            t = order[j]
            for c in range(3):
                for k in range(3):
                    v = points[triangles[t, c], k]
                    boxes[node, k] = min(boxes[node, k], v - pad)
                    boxes[node, k + 3] = max(boxes[node, k + 3], v + pad)
    for node in range(leaves - 2, -1, -1):
        for k in range(3):
            boxes[node, k] = min(boxes[2 * node + 1, k], boxes[2 * node + 2, k])
            boxes[node, k + 3] = max(boxes[2 * node + 1, k + 3], boxes[2 * node + 2, k + 3])
    return boxes


@inline
def _enter(boxes, node, ox, oy, oz, ix, iy, iz, best):
    """Distance at which a ray enters a box, or inf when it misses it or only later than `best`."""
    if boxes[node, 0] > boxes[node, 3]:
        return np.inf  # an empty leaf, whose infinite bounds would let some directions in
    x0, x1 = (boxes[node, 0] - ox) * ix, (boxes[node, 3] - ox) * ix
    near, far = min(x0, x1), max(x0, x1)
    y0, y1 = (boxes[node, 1] - oy) * iy, (boxes[node, 4] - oy) * iy
    near, far = max(near, min(y0, y1)), min(far, max(y0, y1))
    z0, z1 = (boxes[node, 2] - oz) * iz, (boxes[node, 5] - oz) * iz
    near, far = max(near, min(z0, z1)), min(far, max(z0, z1))
    # One part in 1e12 of slack keeps rays along box faces from slipping through.
    if far * (1 + 1e-12) + 1e-300 < max(near, 0.0) or near > best:
        return np.inf
    return max(near, 0.0)


@inline
def triangle_hit(points, triangles, t, ox, oy, oz, dx, dy, dz):
    """Distance along a ray to a triangle, or inf (Möller and Trumbore 1997)."""
    a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
    ex, ey, ez = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
    fx, fy, fz = points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2]
    px, py, pz = dy * fz - dz * fy, dz * fx - dx * fz, dx * fy - dy * fx
    det = ex * px + ey * py + ez * pz
    if det == 0.0:
        return np.inf
    sx, sy, sz = ox - points[a, 0], oy - points[a, 1], oz - points[a, 2]
    u = (sx * px + sy * py + sz * pz) / det
    if u < -1e-9 or u > 1.0 + 1e-9:
        return np.inf
    qx, qy, qz = sy * ez - sz * ey, sz * ex - sx * ez, sx * ey - sy * ex
    v = (dx * qx + dy * qy + dz * qz) / det
    if v < -1e-9 or u + v > 1.0 + 1e-9:
        return np.inf
    distance = (fx * qx + fy * qy + fz * qz) / det
    return distance if distance >= 0.0 else np.inf


@inline
def _reciprocal(x):
    return 1.0 / x if abs(x) > 1e-300 else 1e300


@kernel
def _ray(points, triangles, order, boxes, origin, direction, reach):
    return _first_hit(points, triangles, order, boxes, origin, direction, reach)


@inline
def _first_hit(points, triangles, order, boxes, origin, direction, reach):
    ox, oy, oz = origin[0], origin[1], origin[2]
    dx, dy, dz = direction[0], direction[1], direction[2]
    ix, iy, iz = _reciprocal(dx), _reciprocal(dy), _reciprocal(dz)
    leaves = (len(boxes) + 1) // 2
    stack = np.empty(64, np.int32)
    stack[0] = 0
    top = 1
    best, found = reach, -1
    while top > 0:
        top -= 1
        node = stack[top]
        if _enter(boxes, node, ox, oy, oz, ix, iy, iz, best) == np.inf:
            continue
        if node >= leaves - 1:
            first = (node - leaves + 1) * LEAF
            for j in range(first, min(first + LEAF, len(order))):
                d = triangle_hit(points, triangles, order[j], ox, oy, oz, dx, dy, dz)
                if d < best:
                    best, found = d, order[j]
            continue
        left, right = 2 * node + 1, 2 * node + 2
        a = _enter(boxes, left, ox, oy, oz, ix, iy, iz, best)
        b = _enter(boxes, right, ox, oy, oz, ix, iy, iz, best)
        if a > b:
            left, right, a, b = right, left, b, a
        if b < np.inf:
            stack[top] = right
            top += 1
        if a < np.inf:
            stack[top] = left
            top += 1
    return best, found


@kernel
def _across_plane(points, triangles, order, boxes, normal, offset):
    leaves = (len(boxes) + 1) // 2
    found = np.empty(len(order), np.int32)
    n = 0
    stack = np.empty(64, np.int64)
    stack[0] = 0
    depth = 1
    while depth > 0:
        depth -= 1
        node = stack[depth]
        if not boxes[node, 0] <= boxes[node, 3]:
            continue
        middle = reach = 0.0
        for k in range(3):
            middle += normal[k] * (boxes[node, k] + boxes[node, k + 3]) / 2
            reach += abs(normal[k]) * (boxes[node, k + 3] - boxes[node, k]) / 2
        if abs(middle - offset) > reach:
            continue
        if node >= leaves - 1:
            i = node - leaves + 1
            for j in range(i * LEAF, min((i + 1) * LEAF, len(order))):
                t = order[j]
                above = 0
                for k in range(3):
                    p = triangles[t, k]
                    height = points[p, 0] * normal[0] + points[p, 1] * normal[1] + points[p, 2] * normal[2] - offset
                    above += height >= 0
                if above == 1 or above == 2:
                    found[n] = t
                    n += 1
        else:
            stack[depth] = 2 * node + 1
            stack[depth + 1] = 2 * node + 2
            depth += 2
    return found[:n].copy()


@kernel
def _occluded_many(points, triangles, order, boxes, origins, directions, reach):
    out = np.zeros(len(origins), np.bool_)
    for q in range(len(origins)):
        _, found = _first_hit(points, triangles, order, boxes, origins[q], directions[q], reach[q])
        out[q] = found >= 0
    return out


@inline
def _box_distance(boxes, node, x, y, z):
    """Squared distance from a point to a box."""
    dx = max(boxes[node, 0] - x, 0.0, x - boxes[node, 3])
    dy = max(boxes[node, 1] - y, 0.0, y - boxes[node, 4])
    dz = max(boxes[node, 2] - z, 0.0, z - boxes[node, 5])
    return dx * dx + dy * dy + dz * dz


@inline
def _off_centre(boxes, node, x, y, z):
    """Squared distance from a point to a box's middle, four times over."""
    dx = boxes[node, 0] + boxes[node, 3] - 2 * x
    dy = boxes[node, 1] + boxes[node, 4] - 2 * y
    dz = boxes[node, 2] + boxes[node, 5] - 2 * z
    return dx * dx + dy * dy + dz * dz


@inline
def _closest_on_triangle(ax, ay, az, bx, by, bz, cx, cy, cz, x, y, z):
    """Closest point of a triangle (Ericson, Real-Time Collision Detection, 2005, 5.1.5)."""
    ux, uy, uz = bx - ax, by - ay, bz - az
    vx, vy, vz = cx - ax, cy - ay, cz - az
    px, py, pz = x - ax, y - ay, z - az
    d1 = ux * px + uy * py + uz * pz
    d2 = vx * px + vy * py + vz * pz
    if d1 <= 0.0 and d2 <= 0.0:
        return ax, ay, az
    qx, qy, qz = x - bx, y - by, z - bz
    d3 = ux * qx + uy * qy + uz * qz
    d4 = vx * qx + vy * qy + vz * qz
    if d3 >= 0.0 and d4 <= d3:
        return bx, by, bz
    vc = d1 * d4 - d3 * d2
    if vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0 and d1 > d3:
        s = d1 / (d1 - d3)
        return ax + s * ux, ay + s * uy, az + s * uz
    rx, ry, rz = x - cx, y - cy, z - cz
    d5 = ux * rx + uy * ry + uz * rz
    d6 = vx * rx + vy * ry + vz * rz
    if d6 >= 0.0 and d5 <= d6:
        return cx, cy, cz
    vb = d5 * d2 - d1 * d6
    if vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0 and d2 > d6:
        s = d2 / (d2 - d6)
        return ax + s * vx, ay + s * vy, az + s * vz
    va = d3 * d6 - d5 * d4
    if va <= 0.0 and d4 - d3 >= 0.0 and d5 - d6 >= 0.0 and (d4 - d3) + (d5 - d6) > 0.0:
        s = (d4 - d3) / ((d4 - d3) + (d5 - d6))
        return bx + s * (cx - bx), by + s * (cy - by), bz + s * (cz - bz)
    total = va + vb + vc
    if total <= 0.0:
        return ax, ay, az
    s, w = vb / total, vc / total
    return ax + s * ux + w * vx, ay + s * uy + w * vy, az + s * uz + w * vz


@inline
def _closest(points, triangles, order, boxes, leaves, x, y, z, stack, depth, bound):
    first_leaf, laid_out = (len(boxes) + 1) // 2 - 1, len(leaves) > 0
    stack[0] = 0
    depth[0] = _box_distance(boxes, 0, x, y, z)
    top = 1
    best, found = bound, -1
    bx, by, bz = x, y, z
    while top > 0:
        top -= 1
        node = stack[top]
        if depth[top] >= best:
            continue
        if node >= first_leaf:
            first = (node - first_leaf) * LEAF
            for j in range(first, min(first + LEAF, len(order))):
                if laid_out:
                    px, py, pz = _closest_on_triangle(
                        leaves[j, 0, 0], leaves[j, 0, 1], leaves[j, 0, 2], leaves[j, 1, 0], leaves[j, 1, 1], leaves[j, 1, 2],
                        leaves[j, 2, 0], leaves[j, 2, 1], leaves[j, 2, 2], x, y, z,
                    )  # fmt: skip
                else:
                    a, b, c = triangles[order[j], 0], triangles[order[j], 1], triangles[order[j], 2]
                    px, py, pz = _closest_on_triangle(
                        points[a, 0], points[a, 1], points[a, 2], points[b, 0], points[b, 1], points[b, 2],
                        points[c, 0], points[c, 1], points[c, 2], x, y, z,
                    )  # fmt: skip
                d = (px - x) ** 2 + (py - y) ** 2 + (pz - z) ** 2
                if d < best:
                    best, found, bx, by, bz = d, j, px, py, pz
            continue
        left, right = 2 * node + 1, 2 * node + 2
        near, far = _box_distance(boxes, left, x, y, z), _box_distance(boxes, right, x, y, z)
        # A point on the surface lies in many boxes at once: the one it lies deeper in is likelier to hold it.
        if near > far or (near == far and _off_centre(boxes, left, x, y, z) > _off_centre(boxes, right, x, y, z)):
            left, right, near, far = right, left, far, near
        if far < best:
            stack[top] = right
            depth[top] = far
            top += 1
        if near < best:
            stack[top] = left
            depth[top] = near
            top += 1
    return order[found] if found >= 0 else -1, np.sqrt(best), bx, by, bz


@inline
def closest_within(points, triangles, order, boxes, leaves, x, y, z, stack, depth, within):
    """The triangle closest to a place, how far it is and where, thought to lie `within` a distance; looked for without where it
    does not. `stack` and `depth` are 64 long, the caller's to use again."""
    # A hair more, so that rounding never hides what lies just at it.
    t, d, px, py, pz = _closest(points, triangles, order, boxes, leaves, x, y, z, stack, depth, within * within * (1 + 1e-9) + 1e-300)
    if t < 0:
        t, d, px, py, pz = _closest(points, triangles, order, boxes, leaves, x, y, z, stack, depth, np.inf)
    return t, d, px, py, pz


@kernel
def _closest_many(points, triangles, order, boxes, leaves, queries, bound):
    n = len(queries)
    where = np.empty((n, 3))
    which = np.empty(n, np.int32)
    far = np.empty(n)
    stack = np.empty(64, np.int32)
    depth = np.empty(64)
    for q in range(n):
        t, d, x, y, z = closest_within(
            points, triangles, order, boxes, leaves, queries[q, 0], queries[q, 1], queries[q, 2], stack, depth, bound[q]
        )
        which[q] = t
        far[q] = d
        where[q, 0] = x
        where[q, 1] = y
        where[q, 2] = z
    return where, which, far
