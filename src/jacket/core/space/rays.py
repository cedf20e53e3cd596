"""A tree for rays: split where the surface-area heuristic says, walked many rays at a time.

The tree of `bvh` is quick to build and to refit and right for closest points; for rays a tree that was split by cost is
several times as quick. Binned splits: Wald, "On fast construction of SAH-based bounding volume hierarchies" (2007).
"""

from __future__ import annotations

import os
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.beside import both
from jacket.core.jit import inline, kernel
from jacket.core.mesh.tables import bounds

Floats = NDArray[np.float64]
Ints = NDArray[np.signedinteger]

BINS = 16
LEAF = 4
DEEP = 64
"""Levels from which on runs are halved: no input makes the tree so deep that a walk would lose its way."""


@dataclass(frozen=True, eq=False)
class RayTree:
    """A tree over triangles (T, 3) of points (V, 3).

    order     (T,) triangles as the leaves have them
    children  (N, 2, 2) per child: its node and 0, or the first of its triangles in `order` and their number
    boxes     (N, 12) float32 low and high corners of the one child and of the other, never smaller than what is in them
    leaves    (T, 9) by `order`: a corner and the two edges from it, so that a ray reads them one after another
    """

    points: Floats
    triangles: Ints
    order: Ints
    children: Ints
    boxes: NDArray[np.float32]
    leaves: Floats

    @staticmethod
    def build(points: Floats, triangles: Ints) -> RayTree:
        """The tree; an empty set of triangles is allowed and is never hit."""
        points = np.ascontiguousarray(points, np.float64)
        triangles = np.ascontiguousarray(triangles, np.int32).reshape(-1, 3)
        order, children, boxes = _built(points, triangles)
        return RayTree(points, triangles, order, children, boxes.reshape(-1, 12), _leaves(points, triangles, order))

    @property
    def parts(self) -> tuple[Any, Any, Any, Any]:
        """What kernels that walk the tree are given."""
        return self.order, self.children, self.boxes, self.leaves

    def first(self, origins: Floats, directions: Floats, reach: Floats | float = np.inf, any_will_do: bool = False) -> tuple[Ints, Floats]:
        """(Q,) the first triangle along each ray (Q, 3) from either side, −1 for none, and (Q,) how far along it lies, inf
        for none. With `any_will_do` whichever is found first, which is quicker where only that there is one counts."""
        origins, directions = _rows(origins), _rows(directions)
        reach = np.ascontiguousarray(np.broadcast_to(np.asarray(reach, np.float64), len(origins)))
        return _walk_many(*self.parts, origins, directions, reach, any_will_do)

    def covered(self, origins: Floats, directions: Floats, reach: Floats | float = np.inf) -> NDArray[np.bool_]:
        """(Q,) whether anything lies along each ray (Q, 3) within reach, one number or (Q,). By Embree where the extra `embree` is installed: three
        times as fast, in single precision, so that a ray that grazes an edge may come out otherwise (fewer than 1 in 10,000)."""
        fast = self._embree
        if fast is None:
            return self.first(origins, directions, reach, True)[0] >= 0
        scene, middle, scale = fast
        where = np.ascontiguousarray((origins - middle) * scale, np.float32)
        ways = np.ascontiguousarray(directions, np.float32)
        far = np.ascontiguousarray(np.broadcast_to(np.minimum(np.asarray(reach) * scale, 1e30), len(where)), np.float32)
        return np.asarray(scene.run(where, ways, dists=far, query="OCCLUDED")) >= 0

    @cached_property
    def _embree(self) -> Any:
        """A scene of Embree with the points about its middle and of size one, as single precision likes it; None where it is
        not installed or not wanted (`JACKET_OWN_RAYS`), or there is nothing to meet."""
        if len(self.triangles) == 0 or os.environ.get(OWN_RAYS) == "1":
            return None
        try:
            from embreex.mesh_construction import TriangleMesh
            from embreex.rtcore_scene import EmbreeScene
        except ImportError:
            return None
        low, high = bounds(self.points)
        middle, scale = (low + high) / 2, 1.0 / max(float((high - low).max()), 1e-300)
        scene = EmbreeScene()
        TriangleMesh(scene, ((self.points - middle) * scale).astype(np.float32), np.ascontiguousarray(self.triangles, np.int32))
        # The first ray makes it ready; later ones may come from several threads.
        scene.run(np.zeros((1, 3), np.float32), np.ones((1, 3), np.float32), query="OCCLUDED")
        return scene, middle, scale

    def open_share(self, points: Floats, normals: Floats, rays: int = 64, off: float = 0.0) -> Floats:
        """(P,) share of the sky above points (P, 3) that nothing covers: rays over the half sphere of the normal (P, 3), as
        dense as light from there is bright (cosine); 1 on a plane. `off` is how far above the point they start."""
        return self.sky(points, normals, rays, off)[0]

    def hidden(self, points: Floats, size: float) -> NDArray[np.bool_]:
        """(P,) which points of the surface itself nothing outside sees: hardly any of rays in all directions gets away, as from
        the walls of a pocket within a scan. `size` is that of the whole."""
        if len(self.order) == 0:
            return np.zeros(len(points), bool)
        # The same places are asked for again and again while quads over them move.
        keys = [(size, row.tobytes()) for row in _rows(points)]
        known = self._hidden
        new = [k for k, key in enumerate(keys) if key not in known]
        if new:
            asked, ways, enough = _rows(points)[new], sphere_directions(HIDDEN_RAYS), int(np.ceil(HIDDEN * HIDDEN_RAYS))
            halves = both(*(lambda part=part: _hidden_many(*self.parts, np.ascontiguousarray(part), ways, 1e-4 * size, enough)
                            for part in (asked[::2], asked[1::2])))  # fmt: skip
            known.update({keys[k]: bool(halves[i % 2][i // 2]) for i, k in enumerate(new)})
        return np.array([known[key] for key in keys], bool)

    @cached_property
    def _hidden(self) -> dict[tuple[float, bytes], bool]:
        """What was found out of places."""
        return {}

    def sky(
        self, points: Floats, normals: Floats, rays: int, off: float, floor: float = -np.inf, reach: float = np.inf
    ) -> tuple[Floats, Floats]:
        """As `open_share`, and (P, 3) the mean open direction of each point, unit length, its normal where all is covered. A
        plane at Y = `floor` covers too, what is further than `reach` away does not."""
        points, normals, ways = _rows(points), _rows(normals), cosine_directions(rays)
        if self._embree is None:
            return _open_many(*self.parts, points, normals, ways, off, floor, reach)
        share, bent = np.ones(len(points)), np.array(normals)
        # So few at once that their rays lie in memory that is there already: fresh pages cost more than the rays.
        step = max(4096 // rays, 1)
        for a in range(0, len(points), step):
            origins, directions = fans(points[a : a + step], normals[a : a + step], ways, off)
            free = ~self.covered(origins, directions, reach)
            if np.isfinite(floor):
                down = directions[:, 1] < 0
                free[down] &= (origins[down, 1] - floor) >= -directions[down, 1] * reach
            by_point = free.reshape(-1, rays)
            share[a : a + step] = by_point.mean(axis=1)
            mean = np.einsum("pw,pwk->pk", by_point, directions.reshape(-1, rays, 3))
            size = np.linalg.norm(mean, axis=1, keepdims=True)
            bent[a : a + step] = np.where(size > 1e-9, mean / np.maximum(size, 1e-9), normals[a : a + step])
        return share, bent


OWN_RAYS = "JACKET_OWN_RAYS"
"""Environment: 1 for rays by Jacket's own tree though Embree is installed."""
HIDDEN_RAYS, HIDDEN = 256, 0.07
"""Rays in all directions, and the share of them that has to get away from a place that can be seen."""


def sphere_directions(count: int) -> Floats:
    """(count, 3) directions spread evenly over the sphere: a spiral of equal areas (Fibonacci lattice; common practice)."""
    k = np.arange(count) + 0.5
    high, turn = 1 - 2 * k / count, np.pi * (1 + np.sqrt(5)) * k
    flat = np.sqrt(1 - high**2)
    return np.stack([flat * np.cos(turn), flat * np.sin(turn), high], axis=1)


def cosine_directions(count: int) -> Floats:
    """(count, 3) directions over the upper half sphere (Z), as dense as the cosine: points of a Hammersley set, lifted from
    the disk (Malley's method; Pharr, Jakob and Humphreys, Physically Based Rendering, 2016, 13.6.3)."""
    k = np.arange(count)
    radical, scale, rest = np.zeros(count), 0.5, k.copy()
    while rest.any():
        radical += scale * (rest & 1)
        rest >>= 1
        scale /= 2
    radius, angle = np.sqrt((k + 0.5) / count), 2 * np.pi * radical
    return np.stack([radius * np.cos(angle), radius * np.sin(angle), np.sqrt(1 - radius**2)], axis=1)


def _rows(values: Floats) -> Floats:
    return np.ascontiguousarray(np.atleast_2d(values), np.float64)


@inline
def _area(box):
    x, y, z = box[3] - box[0], box[4] - box[1], box[5] - box[2]
    return 0.0 if x < 0 else x * y + y * z + z * x


@inline
def _emptied(box):
    for k in range(3):
        box[k], box[k + 3] = np.inf, -np.inf


@inline
def _joined(box, other):
    for k in range(3):
        box[k] = min(box[k], other[k])
        box[k + 3] = max(box[k + 3], other[k + 3])


@inline
def _outwards(box, row):
    """A box in single precision, a little larger than in double."""
    for k in range(3):
        row[k] = np.float32(box[k] - 2.5e-7 * abs(box[k]) - 1e-37)
        row[k + 3] = np.float32(box[k + 3] + 2.5e-7 * abs(box[k + 3]) + 1e-37)


@inline
def _split(order, first, count, own, middle, spans, shares, sizes):
    """Put the triangles of a run in two parts where that costs least; how many come first, 0 where one part is best."""
    low, high = np.full(3, np.inf), np.full(3, -np.inf)
    for j in range(first, first + count):
        for k in range(3):
            low[k] = min(low[k], middle[order[j], k])
            high[k] = max(high[k], middle[order[j], k])
    best, axis, at = np.inf, -1, 0
    run = np.empty(6)
    for k in range(3):
        span = high[k] - low[k]
        if span <= 0:
            continue
        for b in range(BINS):
            _emptied(spans[b])
            sizes[b] = 0
        for j in range(first, first + count):
            t = order[j]
            b = min(int((middle[t, k] - low[k]) / span * BINS), BINS - 1)
            _joined(spans[b], own[t])
            sizes[b] += 1
        _emptied(run)
        n = 0
        for b in range(BINS - 1, 0, -1):
            _joined(run, spans[b])
            n += sizes[b]
            shares[b] = _area(run) * n
        _emptied(run)
        n = 0
        for b in range(BINS - 1):
            _joined(run, spans[b])
            n += sizes[b]
            if 0 < n < count:
                cost = _area(run) * n + shares[b + 1]
                if cost < best:
                    best, axis, at = cost, k, b
    if axis < 0:
        return count // 2
    span, j, end = high[axis] - low[axis], first, first + count
    while j < end:
        if min(int((middle[order[j], axis] - low[axis]) / span * BINS), BINS - 1) <= at:
            j += 1
        else:
            end -= 1
            order[j], order[end] = order[end], order[j]
    return j - first


@kernel
def _built(points, triangles):
    n = len(triangles)
    order = np.arange(n).astype(np.int32)
    own, middle = np.empty((n, 6)), np.empty((n, 3))
    for t in range(n):
        for k in range(3):
            a, b, c = points[triangles[t, 0], k], points[triangles[t, 1], k], points[triangles[t, 2], k]
            own[t, k], own[t, k + 3] = min(a, b, c), max(a, b, c)
            middle[t, k] = (own[t, k] + own[t, k + 3]) / 2
    children = np.zeros((max(n, 1), 2, 2), np.int32)
    boxes = np.zeros((max(n, 1), 2, 6), np.float32)
    spans, shares, sizes = np.empty((BINS, 6)), np.empty(BINS + 1), np.empty(BINS, np.int64)
    stack = np.empty((256, 4), np.int64)
    stack[0, 0], stack[0, 1], stack[0, 2], stack[0, 3] = 0, 0, n, 0
    top, nodes = 1, 1
    box = np.empty(6)
    while top > 0:
        top -= 1
        node, first, count, level = stack[top, 0], stack[top, 1], stack[top, 2], stack[top, 3]
        near = count
        if count > LEAF:
            near = count // 2
            if level < DEEP:
                near = _split(order, first, count, own, middle, spans, shares, sizes)
        for side in range(2):
            start, size = (first, near) if side == 0 else (first + near, count - near)
            _emptied(box)
            for j in range(start, start + size):
                _joined(box, own[order[j]])
            if size > 0:
                _outwards(box, boxes[node, side])
            else:
                for k in range(3):
                    boxes[node, side, k], boxes[node, side, k + 3] = 1.0, -1.0
            if size <= LEAF:
                children[node, side, 0], children[node, side, 1] = start, size
                if size == 0:
                    children[node, side, 1] = -1
            else:
                children[node, side, 0] = nodes
                stack[top, 0], stack[top, 1], stack[top, 2], stack[top, 3] = nodes, start, size, level + 1
                nodes += 1
                top += 1
    return order, children[:nodes].copy(), boxes[:nodes].copy()


@kernel
def _leaves(points, triangles, order):
    out = np.empty((len(order), 9))
    for j in range(len(order)):
        t = order[j]
        for k in range(3):
            a = points[triangles[t, 0], k]
            out[j, k], out[j, 3 + k], out[j, 6 + k] = a, points[triangles[t, 1], k] - a, points[triangles[t, 2], k] - a
    return out


@inline
def entry(boxes, node, at, ox, oy, oz, ix, iy, iz, near, far):
    """Where a line enters and leaves a child's box within near..far; it misses it where it leaves before it enters. Written
    with comparisons: min and max of Numba look out for numbers that are none, at twice the time."""
    p, q = (boxes[node, at] - ox) * ix, (boxes[node, at + 3] - ox) * ix
    if p > q:
        p, q = q, p
    near = p if p > near else near
    far = q if q < far else far
    p, q = (boxes[node, at + 1] - oy) * iy, (boxes[node, at + 4] - oy) * iy
    if p > q:
        p, q = q, p
    near = p if p > near else near
    far = q if q < far else far
    p, q = (boxes[node, at + 2] - oz) * iz, (boxes[node, at + 5] - oz) * iz
    if p > q:
        p, q = q, p
    near = p if p > near else near
    far = q if q < far else far
    return near, far


@inline
def _entered(boxes, node, at, ox, oy, oz, ix, iy, iz, best):
    """How far along a ray a child's box begins; inf where it is missed or begins after `best`."""
    near, far = entry(boxes, node, at, ox, oy, oz, ix, iy, iz, 0.0, best)
    return np.inf if far < near else near


@inline
def _inverse(x):
    return 1.0 / x if abs(x) > 1e-300 else 1e300


@inline
def leaf_hit(leaves, j, ox, oy, oz, dx, dy, dz):
    """Distance along a ray to the triangle of a row, negative where it lies behind, inf where it is missed (Möller and
    Trumbore 1997); and the shares of the triangle's second and third corner in the place."""
    ex, ey, ez = leaves[j, 3], leaves[j, 4], leaves[j, 5]
    fx, fy, fz = leaves[j, 6], leaves[j, 7], leaves[j, 8]
    px, py, pz = dy * fz - dz * fy, dz * fx - dx * fz, dx * fy - dy * fx
    det = ex * px + ey * py + ez * pz
    if det == 0.0:
        return np.inf, 0.0, 0.0
    det = 1.0 / det
    sx, sy, sz = ox - leaves[j, 0], oy - leaves[j, 1], oz - leaves[j, 2]
    u = (sx * px + sy * py + sz * pz) * det
    if u < -1e-9 or u > 1.0 + 1e-9:
        return np.inf, 0.0, 0.0
    qx, qy, qz = sy * ez - sz * ey, sz * ex - sx * ez, sx * ey - sy * ex
    v = (dx * qx + dy * qy + dz * qz) * det
    if v < -1e-9 or u + v > 1.0 + 1e-9:
        return np.inf, 0.0, 0.0
    return (fx * qx + fy * qy + fz * qz) * det, u, v


@inline
def walked(order, children, boxes, leaves, ox, oy, oz, dx, dy, dz, reach, any_will_do, stack, depth):
    """Distance to the first triangle along a ray, `reach` where there is none, and its row in the leaves, −1 for none.
    `any_will_do` takes whatever is found first. `stack` and `depth` are 256 long, the caller's to use again."""
    ix, iy, iz = _inverse(dx), _inverse(dy), _inverse(dz)
    best, found = reach, -1
    node, top = 0, 0
    while True:
        m, n = children[node, 0, 1], children[node, 1, 1]
        a = _entered(boxes, node, 0, ox, oy, oz, ix, iy, iz, best)
        b = _entered(boxes, node, 6, ox, oy, oz, ix, iy, iz, best)
        # Leaves are looked at at once; of nodes the nearer is next and the other waits. Written out for either side: as a
        # loop over the two it takes twice the time.
        if m != 0:
            if a < np.inf:
                for j in range(children[node, 0, 0], children[node, 0, 0] + m):
                    distance, _, _ = leaf_hit(leaves, j, ox, oy, oz, dx, dy, dz)
                    if 0.0 <= distance < best:
                        best, found = distance, j
                        if any_will_do:
                            return best, found
            a = np.inf
        if n != 0:
            if b < np.inf:
                for j in range(children[node, 1, 0], children[node, 1, 0] + n):
                    distance, _, _ = leaf_hit(leaves, j, ox, oy, oz, dx, dy, dz)
                    if 0.0 <= distance < best:
                        best, found = distance, j
                        if any_will_do:
                            return best, found
            b = np.inf
        if a < np.inf and b < np.inf:
            nearer = a <= b
            stack[top], depth[top] = (children[node, 1, 0], b) if nearer else (children[node, 0, 0], a)
            node = children[node, 0, 0] if nearer else children[node, 1, 0]
            top += 1
            continue
        if a < np.inf:
            node = children[node, 0, 0]
            continue
        if b < np.inf:
            node = children[node, 1, 0]
            continue
        while top > 0 and depth[top - 1] > best:
            top -= 1
        if top == 0:
            return best, found
        top -= 1
        node = stack[top]


@kernel
def _walk_many(order, children, boxes, leaves, origins, directions, reach, any_will_do):
    """The one walker that is compiled: rays (Q, 3) as arrays, whatever they are for."""
    n = len(origins)
    which, far = np.full(n, -1, np.int32), np.full(n, np.inf)
    stack, depth = np.empty(256, np.int32), np.empty(256)
    if len(order) == 0:
        return which, far
    for q in range(n):
        distance, found = walked(order, children, boxes, leaves, origins[q, 0], origins[q, 1], origins[q, 2], directions[q, 0],
                                 directions[q, 1], directions[q, 2], reach[q], any_will_do, stack, depth)  # fmt: skip
        if found >= 0:
            which[q], far[q] = order[found], distance
    return which, far


@inline
def _upright(x, y, z, u, v, h):
    """A direction (u, v, h) about Z turned to stand about a unit vector: a frame without a square root (Duff et al.,
    "Building an orthonormal basis, revisited", 2017)."""
    sign = 1.0 if z >= 0 else -1.0
    a = -1.0 / (sign + z)
    b = x * y * a
    return u * (1 + sign * x * x * a) + v * b + h * x, u * sign * b + v * (sign + y * y * a) + h * y, -u * sign * x - v * y + h * z


@kernel
def fans(places, normals, ways, off):
    """(P · W, 3) origins and directions of rays that stand about normals (P, 3) as `ways` (W, 3) stand about Z, begun `off`
    above their places."""
    origins, directions = np.empty((len(places) * len(ways), 3)), np.empty((len(places) * len(ways), 3))
    for q in range(len(places)):
        x, y, z = normals[q, 0], normals[q, 1], normals[q, 2]
        for w in range(len(ways)):
            n = q * len(ways) + w
            origins[n, 0], origins[n, 1], origins[n, 2] = places[q, 0] + off * x, places[q, 1] + off * y, places[q, 2] + off * z
            directions[n, 0], directions[n, 1], directions[n, 2] = _upright(x, y, z, ways[w, 0], ways[w, 1], ways[w, 2])
    return origins, directions


@kernel
def _hidden_many(order, children, boxes, leaves, points, ways, off, enough):
    """(P,) whether fewer than `enough` of the rays get away; in an order in which the first already tell of all sides."""
    out = np.ones(len(points), np.bool_)
    stack, depth = np.empty(256, np.int32), np.empty(256)
    n = len(ways)
    for q in range(len(points)):
        free = 0
        for k in range(n):
            # 61 and the number of rays have no common divisor, so that each comes once.
            w = k * 61 % n
            dx, dy, dz = ways[w, 0], ways[w, 1], ways[w, 2]
            ox, oy, oz = points[q, 0] + off * dx, points[q, 1] + off * dy, points[q, 2] + off * dz
            _, found = walked(order, children, boxes, leaves, ox, oy, oz, dx, dy, dz, np.inf, True, stack, depth)
            if found < 0:
                free += 1
                if free >= enough:
                    out[q] = False
                    break
            if free + n - 1 - k < enough:
                break
    return out


@kernel
def _open_many(order, children, boxes, leaves, places, normals, ways, off, floor, reach):
    out, bent = np.ones(len(places)), np.empty((len(places), 3))
    stack, depth = np.empty(256, np.int32), np.empty(256)
    for q in range(len(places)):
        x, y, z = normals[q, 0], normals[q, 1], normals[q, 2]
        ox, oy, oz = places[q, 0] + off * x, places[q, 1] + off * y, places[q, 2] + off * z
        bx = by = bz = 0.0
        free = 0
        for w in range(len(ways)):
            dx, dy, dz = _upright(x, y, z, ways[w, 0], ways[w, 1], ways[w, 2])
            if dy < 0 and oy - floor < -dy * reach:
                continue
            found = -1
            if len(order) > 0:
                _, found = walked(order, children, boxes, leaves, ox, oy, oz, dx, dy, dz, reach, True, stack, depth)
            if found < 0:
                free += 1
                bx, by, bz = bx + dx, by + dy, bz + dz
        out[q] = free / len(ways)
        size = np.sqrt(bx * bx + by * by + bz * bz)
        bent[q, 0], bent[q, 1], bent[q, 2] = (bx / size, by / size, bz / size) if size > 1e-9 else (x, y, z)
    return out, bent
