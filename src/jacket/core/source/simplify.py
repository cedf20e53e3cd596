"""Quadric edge collapse that keeps the surface manifold, and a quick light copy for turning.

Garland and Heckbert, "Surface simplification using quadric error metrics" (1997), with the link
condition of Dey et al. (1999) so that no collapse can change the topology.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jacket.core.heap import heap_pop, heap_push
from jacket.core.jit import inline, kernel
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.tables import bounds
from jacket.core.source.weld import compact
from jacket.errors import MeshError
from jacket.progress import Progress, silent

Floats = NDArray[np.float64]
Ints = NDArray[np.signedinteger]


def simplify(
    points: Floats,
    triangles: Ints,
    wanted: int,
    progress: Progress = silent,
    evenness: float = 0.002,
    keep_rim: bool = False,
) -> tuple[Floats, Ints]:
    """Collapse edges until `wanted` triangles are left or nothing more may collapse.

    points (V, 3), triangles (T, 3); `evenness` weighs edge length against the quadric error, so
    that flat parts thin out evenly; `keep_rim` leaves every border edge as it is. Needs a manifold mesh
    (borders allowed).
    """
    if wanted < 4:
        raise MeshError("A mesh cannot be reduced below four triangles; ask for more.")
    if len(triangles) <= wanted:
        return points.copy(), triangles.copy()
    state = _Collapser(points, triangles, evenness, keep_rim)
    total = len(triangles) - wanted
    while True:
        left = state.run(wanted, 20_000)
        progress(1.0 - (left - wanted) / max(total, 1), "reducing the source")
        if state.done:
            break
    return compact(state.points, state.tris[state.alive])


class _Collapser:
    """Arrays of a running simplification, so that it can report and stop between batches."""

    def __init__(self, points: Floats, triangles: Ints, evenness: float, keep_rim: bool) -> None:
        scale = max(float(np.ptp(points, axis=0).max()), 1e-300)
        self.origin, self.scale = points.mean(axis=0), scale
        self.points = np.ascontiguousarray((points - self.origin) / scale)
        self.tris = np.ascontiguousarray(triangles, np.int32).copy()
        self.alive = np.ones(len(triangles), bool)
        self.evenness, self.keep_rim = evenness, keep_rim
        twin = PolyMesh.from_faces(self.points, self.tris).topology.twin
        self.quadrics = _point_quadrics(self.points, self.tris, twin)
        self.version = np.zeros(len(points), np.int32)
        self.start, self.count, self.pool, self.used = _point_faces(self.tris, len(points))
        self.cost, self.item, self.size = _first_heap(self.points, self.tris, self.quadrics, self.version, evenness)
        self.left = len(triangles)
        self.done = False

    def run(self, wanted: int, batch: int) -> int:
        target = max(wanted, self.left - batch)
        if self.used + 64 * batch > len(self.pool):
            self._repack(64 * batch)
        if self.size + 32 * batch > len(self.cost):
            room = self.size + 64 * batch
            self.cost, self.item = np.resize(self.cost, room), np.resize(self.item, (room, 4))
        self.left, self.used, self.size = _collapse(
            self.points, self.tris, self.alive, self.quadrics, self.version,
            self.start, self.count, self.pool, self.used,
            self.cost, self.item, self.size, self.left, target, self.evenness, self.keep_rim,
        )  # fmt: skip
        self.done = self.size == 0 or self.left <= wanted
        if self.done:
            self.points = self.points * self.scale + self.origin
        return self.left

    def _repack(self, room: int) -> None:
        self.start, self.count, self.pool, self.used = _pack_lists(
            self.start, self.count, self.pool, self.tris, self.alive, room
        )


@kernel
def _point_quadrics(points, tris, twin):
    """(V, 10) upper triangles of area-weighted plane quadrics, borders held by upright planes."""
    out = np.zeros((len(points), 10))
    for t in range(len(tris)):
        a, b, c = tris[t, 0], tris[t, 1], tris[t, 2]
        ux, uy, uz = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
        vx, vy, vz = points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2]
        nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
        size = np.sqrt(nx * nx + ny * ny + nz * nz)
        if size == 0.0:
            continue
        nx, ny, nz = nx / size, ny / size, nz / size
        d = -(nx * points[a, 0] + ny * points[a, 1] + nz * points[a, 2])
        for k in range(3):
            _add_plane(out, tris[t, k], nx, ny, nz, d, size / 6.0)
        for k in range(3):
            p, q = tris[t, k], tris[t, (k + 1) % 3]
            if twin[3 * t + k] != -1:
                continue
            ex, ey, ez = points[q, 0] - points[p, 0], points[q, 1] - points[p, 1], points[q, 2] - points[p, 2]
            mx, my, mz = ey * nz - ez * ny, ez * nx - ex * nz, ex * ny - ey * nx
            length = np.sqrt(mx * mx + my * my + mz * mz)
            if length == 0.0:
                continue
            mx, my, mz = mx / length, my / length, mz / length
            e = -(mx * points[p, 0] + my * points[p, 1] + mz * points[p, 2])
            _add_plane(out, p, mx, my, mz, e, length * length)
            _add_plane(out, q, mx, my, mz, e, length * length)
    return out


@inline
def _add_plane(q, p, a, b, c, d, w):
    q[p, 0] += w * a * a
    q[p, 1] += w * a * b
    q[p, 2] += w * a * c
    q[p, 3] += w * a * d
    q[p, 4] += w * b * b
    q[p, 5] += w * b * c
    q[p, 6] += w * b * d
    q[p, 7] += w * c * c
    q[p, 8] += w * c * d
    q[p, 9] += w * d * d


@kernel
def _point_faces(tris, n_points):
    count = np.zeros(n_points, np.int32)
    for t in range(len(tris)):
        for k in range(3):
            count[tris[t, k]] += 1
    start = np.zeros(n_points, np.int64)
    for p in range(1, n_points):
        start[p] = start[p - 1] + count[p - 1]
    used = 3 * len(tris)
    pool = np.empty(2 * used + 1_300_000, np.int32)
    fill = start.copy()
    for t in range(len(tris)):
        for k in range(3):
            pool[fill[tris[t, k]]] = t
            fill[tris[t, k]] += 1
    return start, count, pool, used


@kernel
def _pack_lists(start, count, pool, tris, alive, room):
    total = 0
    for p in range(len(start)):
        total += count[p]
    fresh = np.empty(2 * total + room + 1024, np.int32)
    used = 0
    for p in range(len(start)):
        first = used
        for j in range(start[p], start[p] + count[p]):
            t = pool[j]
            if alive[t]:
                fresh[used] = t
                used += 1
        start[p] = first
        count[p] = used - first
    return start, count, fresh, used


@inline
def _placing(points, quadrics, a, b, evenness):
    """Cost of collapsing an edge and the position (x, y, z) it would take."""
    q = np.empty(10)
    for k in range(10):
        q[k] = quadrics[a, k] + quadrics[b, k]
    mx, my, mz = (
        0.5 * (points[a, 0] + points[b, 0]),
        0.5 * (points[a, 1] + points[b, 1]),
        0.5 * (points[a, 2] + points[b, 2]),
    )
    length2 = (
        (points[a, 0] - points[b, 0]) ** 2 + (points[a, 1] - points[b, 1]) ** 2 + (points[a, 2] - points[b, 2]) ** 2
    )
    # A small pull towards the middle keeps the system well posed on flat parts.
    w = 1e-3 * (q[0] + q[4] + q[7]) + 1e-300
    xx, xy, xz, yy, yz, zz = q[0] + w, q[1], q[2], q[4] + w, q[5], q[7] + w
    rx, ry, rz = -q[3] + w * mx, -q[6] + w * my, -q[8] + w * mz
    c00, c01, c02 = yy * zz - yz * yz, xz * yz - xy * zz, xy * yz - xz * yy
    det = xx * c00 + xy * c01 + xz * c02
    x, y, z = mx, my, mz
    if det > 1e-300:
        c11, c12, c22 = xx * zz - xz * xz, xy * xz - xx * yz, xx * yy - xy * xy
        sx = (c00 * rx + c01 * ry + c02 * rz) / det
        sy = (c01 * rx + c11 * ry + c12 * rz) / det
        sz = (c02 * rx + c12 * ry + c22 * rz) / det
        if (sx - mx) ** 2 + (sy - my) ** 2 + (sz - mz) ** 2 < length2:
            x, y, z = sx, sy, sz
    cost = (
        q[0] * x * x + 2 * q[1] * x * y + 2 * q[2] * x * z + 2 * q[3] * x
        + q[4] * y * y + 2 * q[5] * y * z + 2 * q[6] * y + q[7] * z * z + 2 * q[8] * z + q[9]
    )  # fmt: skip
    return max(cost, 0.0) + evenness * length2 * length2, x, y, z


@kernel
def _first_heap(points, tris, quadrics, version, evenness):
    room = 3 * len(tris) + 700_000
    heap_cost = np.empty(room)
    heap_item = np.empty((room, 4), np.int32)
    size = 0
    for t in range(len(tris)):
        for k in range(3):
            a, b = tris[t, k], tris[t, (k + 1) % 3]
            # Inner edges are listed by both their triangles; the second entry does no harm, and
            # borders, which only one triangle lists, are never missed.
            cost, _, _, _ = _placing(points, quadrics, a, b, evenness)
            lo, hi = min(a, b), max(a, b)
            size = heap_push(heap_cost, heap_item, size, cost, lo, hi, version[lo], version[hi])
    return heap_cost, heap_item, size


@inline
def _link_is_safe(tris, alive, start, count, pool, a, b, mark, stamp):
    """The link condition: points beside both ends are exactly the tips of the shared triangles."""
    shared, common = 0, 0
    for j in range(start[a], start[a] + count[a]):
        t = pool[j]
        if not alive[t]:
            continue
        has = False
        for k in range(3):
            p = tris[t, k]
            if p == b:
                has = True
            mark[p] = stamp
        if has:
            shared += 1
    mark[a] = 0
    for j in range(start[b], start[b] + count[b]):
        t = pool[j]
        if not alive[t]:
            continue
        for k in range(3):
            p = tris[t, k]
            if p != b and p != a and mark[p] == stamp:
                mark[p] = 0
                common += 1
    return shared > 0 and shared <= 2 and common == shared


@inline
def _rim_count(tris, alive, start, count, pool, p):
    """Number of border edges at a point."""
    rim = 0
    for j in range(start[p], start[p] + count[p]):
        t = pool[j]
        if not alive[t]:
            continue
        for k in range(3):
            q = tris[t, k]
            if q == p:
                continue
            uses = 0
            for i in range(start[p], start[p] + count[p]):
                s = pool[i]
                if alive[s] and (tris[s, 0] == q or tris[s, 1] == q or tris[s, 2] == q):
                    uses += 1
            if uses == 1:
                rim += 1
    return rim


@inline
def _turns_over(points, tris, alive, start, count, pool, p, other, x, y, z):
    """Whether moving `p` would turn a triangle over or squash it, passing over those that vanish."""
    for j in range(start[p], start[p] + count[p]):
        t = pool[j]
        if not alive[t]:
            continue
        k = 0
        while tris[t, k] != p:
            k += 1
        b, c = tris[t, (k + 1) % 3], tris[t, (k + 2) % 3]
        if b == other or c == other:
            continue
        ex, ey, ez = points[c, 0] - points[b, 0], points[c, 1] - points[b, 1], points[c, 2] - points[b, 2]
        ux, uy, uz = points[p, 0] - points[b, 0], points[p, 1] - points[b, 1], points[p, 2] - points[b, 2]
        vx, vy, vz = x - points[b, 0], y - points[b, 1], z - points[b, 2]
        nx, ny, nz = ey * uz - ez * uy, ez * ux - ex * uz, ex * uy - ey * ux
        mx, my, mz = ey * vz - ez * vy, ez * vx - ex * vz, ex * vy - ey * vx
        n2, m2 = nx * nx + ny * ny + nz * nz, mx * mx + my * my + mz * mz
        wx, wy, wz = points[c, 0] - x, points[c, 1] - y, points[c, 2] - z
        longest = max(ex * ex + ey * ey + ez * ez, vx * vx + vy * vy + vz * vz, wx * wx + wy * wy + wz * wz)
        if m2 < 0.004 * longest * longest and m2 < n2:
            return True
        dot = nx * mx + ny * my + nz * mz
        if n2 > 0.0 and dot < 0.3 * np.sqrt(n2 * m2):
            return True
    return False


@kernel
def _collapse(
    points, tris, alive, quadrics, version, start, count, pool, used, cost, item, size, left, target, evenness, keep_rim
):
    mark = np.zeros(len(points), np.int32)
    stamp = 0
    while left > target and size > 0:
        a, b, va, vb = item[0, 0], item[0, 1], item[0, 2], item[0, 3]
        size = heap_pop(cost, item, size)
        if version[a] != va or version[b] != vb:
            continue
        stamp += 1
        if not _link_is_safe(tris, alive, start, count, pool, a, b, mark, stamp):
            continue
        ra = _rim_count(tris, alive, start, count, pool, a)
        rb = _rim_count(tris, alive, start, count, pool, b)
        shared = 0
        for j in range(start[a], start[a] + count[a]):
            t = pool[j]
            if alive[t] and (tris[t, 0] == b or tris[t, 1] == b or tris[t, 2] == b):
                shared += 1
        if (shared == 2 and ra > 0 and rb > 0) or (keep_rim and shared == 1):
            continue
        _, x, y, z = _placing(points, quadrics, a, b, evenness)
        if shared == 2 and ra > 0:
            x, y, z = points[a, 0], points[a, 1], points[a, 2]
        if shared == 2 and rb > 0:
            x, y, z = points[b, 0], points[b, 1], points[b, 2]
        if _turns_over(points, tris, alive, start, count, pool, a, b, x, y, z):
            continue
        if _turns_over(points, tris, alive, start, count, pool, b, a, x, y, z):
            continue
        first = used
        for side in range(2):
            p = a if side == 0 else b
            for j in range(start[p], start[p] + count[p]):
                t = pool[j]
                if not alive[t]:
                    continue
                if side == 0 and (tris[t, 0] == b or tris[t, 1] == b or tris[t, 2] == b):
                    alive[t] = False
                    left -= 1
                    continue
                for k in range(3):
                    if tris[t, k] == b:
                        tris[t, k] = a
                pool[used] = t
                used += 1
        start[a] = first
        count[a] = used - first
        count[b] = 0
        version[b] += 1
        version[a] += 1
        points[a, 0], points[a, 1], points[a, 2] = x, y, z
        for k in range(10):
            quadrics[a, k] += quadrics[b, k]
        stamp += 1
        mark[a] = stamp
        for j in range(first, used):
            t = pool[j]
            for k in range(3):
                q = tris[t, k]
                if mark[q] != stamp:
                    mark[q] = stamp
                    c, _, _, _ = _placing(points, quadrics, a, q, evenness)
                    lo, hi = min(a, q), max(a, q)
                    size = heap_push(cost, item, size, c, lo, hi, version[lo], version[hi])
        if used + 4096 > len(pool) or size + 4096 > len(cost):
            break
    return left, used, size


def navigation_copy(points: Floats, triangles: Ints, wanted: int = 60_000) -> tuple[Floats, Ints]:
    """A light copy for drawing while the view turns: points clustered on a grid, (V, 3), (T, 3).

    Quick rather than faithful (Rossignac and Borrel, "Multi-resolution 3D approximations", 1993);
    picking never uses it.
    """
    light_points, light, _ = clustered_copy(points, triangles, wanted)
    return light_points, light


def clustered_copy(points: Floats, triangles: Ints, wanted: int) -> tuple[Floats, Ints, Ints]:
    """The light copy and (V,) which of its points each point went into; the points of unused cells stay."""
    if len(triangles) <= wanted:
        return points, triangles, np.arange(len(points), dtype=np.int32)
    low, high = bounds(points)
    span = max(float((high - low).max()), 1e-300)
    cells = int(np.sqrt(wanted / 2.0) * 0.75)
    for _ in range(6):
        light_points, light, to = _clustered(points, triangles, low, cells / span)
        if len(light) <= wanted:
            break
        cells = int(cells * min(0.95, np.sqrt(wanted / len(light))))
    return light_points, light, to


@kernel
def _clustered(points, triangles, low, scale):
    """Mean points of the cells of a grid, the triangles whose corners lie in three of them, and the cell of
    each point. Cells are found by hashing."""
    n = len(points)
    size = 1024
    table = np.full(size, -1, np.int32)
    keys = np.empty(size // 2, np.int64)
    to = np.empty(n, np.int32)
    count = 0
    for p in range(n):
        x = np.int64((points[p, 0] - low[0]) * scale)
        y = np.int64((points[p, 1] - low[1]) * scale)
        z = np.int64((points[p, 2] - low[2]) * scale)
        key = (x << 42) | (y << 21) | z
        h = key * np.int64(0x5851F42D4C957F2D)
        slot = (h ^ (h >> 32)) & (size - 1)
        while table[slot] >= 0 and keys[table[slot]] != key:
            slot = (slot + 1) & (size - 1)
        if table[slot] < 0:
            table[slot] = count
            keys[count] = key
            count += 1
            to[p] = count - 1
            if 2 * count + 4 > size:
                size *= 2
                fresh = np.empty(size // 2, np.int64)
                fresh[:count] = keys[:count]
                keys = fresh
                table = np.full(size, -1, np.int32)
                for k in range(count):
                    g = keys[k] * np.int64(0x5851F42D4C957F2D)
                    s = (g ^ (g >> 32)) & (size - 1)
                    while table[s] >= 0:
                        s = (s + 1) & (size - 1)
                    table[s] = k
        else:
            to[p] = table[slot]
    centres = np.zeros((count, 3))
    members = np.zeros(count, np.int32)
    for p in range(n):
        c = to[p]
        members[c] += 1
        for k in range(3):
            centres[c, k] += points[p, k]
    for c in range(count):
        for k in range(3):
            centres[c, k] /= members[c]
    light = np.empty((len(triangles), 3), np.int32)
    kept = 0
    for t in range(len(triangles)):
        a, b, c = to[triangles[t, 0]], to[triangles[t, 1]], to[triangles[t, 2]]
        if a != b and b != c and c != a:
            light[kept, 0], light[kept, 1], light[kept, 2] = a, b, c
            kept += 1
    return centres, light[:kept].copy(), to
