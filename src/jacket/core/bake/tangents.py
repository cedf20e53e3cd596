"""Tangent frames by the convention of MikkTSpace, which engines and bakers share.

Mikkelsen, "Simulation of wrinkled surfaces revisited" (2008), and the code published with it: triangles that meet at one
place with one normal and one UV, and are mapped with one handedness, share a tangent there.
"""

from __future__ import annotations

import numpy as np

from jacket.core.jit import inline, kernel
from jacket.core.mesh.polymesh import Floats, Ints


def tangents(points: Floats, normals: Floats, uv: Floats, triangles: Ints) -> Floats:
    """(T, 3, 4) unit tangents of the corners of triangles (T, 3) into points (N, 3), unit normals (N, 3) and uv (N, 2)
    with v up; the fourth number is the sign w of the bitangent w · N × T. Where nothing is mapped the tangent is X
    and w is −1, as there.

    Corners count as one where place, normal and UV are the same in single precision, as a reader of the file has them.
    """
    triangles = np.ascontiguousarray(triangles, np.int32).reshape(-1, 3)
    if len(triangles) == 0:
        return np.zeros((0, 3, 4))
    rows = np.concatenate([points, normals, uv], axis=1).astype(np.float32) + np.float32(0)  # −0 is 0
    welded = _welded(np.ascontiguousarray(rows))[triangles].astype(np.int32)
    neighbours = _neighbours(welded)
    p, n, t = (np.ascontiguousarray(a[triangles], np.float64) for a in (points, normals, np.nan_to_num(uv)))
    out, has, empty = _framed(welded, neighbours, p, n, t)
    return _spread(out, has, empty, welded)


def _welded(rows: np.ndarray) -> Ints:
    """(N,) one number for all rows of the same bits."""
    keys = rows.view(np.dtype((np.void, rows.dtype.itemsize * rows.shape[1]))).ravel()
    return np.unique(keys, return_inverse=True)[1].ravel()


def _neighbours(welded: Ints) -> Ints:
    """(T, 3) the triangle across each edge, −1 for none: edges that run both ways between the same two welded corners,
    paired in the order of triangles."""
    count = len(welded)
    a, b = welded.ravel().astype(np.int64), np.roll(welded, -1, axis=1).ravel().astype(np.int64)
    keys = np.minimum(a, b) * (int(welded.max()) + 1) + np.maximum(a, b)
    order = np.argsort(keys, kind="stable")
    return _paired(keys[order], order, a < b, count)


@kernel
def _paired(keys, order, rising, count):
    out = np.full((count, 3), -1, np.int32)
    done = np.zeros(3 * count, np.bool_)
    i = 0
    while i < len(order):
        end = i
        while end < len(order) and keys[end] == keys[i]:
            end += 1
        for j in range(i, end):
            if done[j]:
                continue
            for k in range(j + 1, end):
                x, y = order[j], order[k]
                if not done[k] and rising[x] != rising[y] and x // 3 != y // 3:
                    done[j] = done[k] = True
                    out[x // 3, x % 3], out[y // 3, y % 3] = y // 3, x // 3
                    break
        i = end
    return out


@inline
def _projected(x, y, z, nx, ny, nz):
    """A vector laid into the plane of a normal, with length one; zero where nothing is left."""
    d = x * nx + y * ny + z * nz
    x, y, z = x - d * nx, y - d * ny, z - d * nz
    size = np.sqrt(x * x + y * y + z * z)
    if size <= 1e-300:
        return 0.0, 0.0, 0.0
    return x / size, y / size, z / size


@kernel
def _framed(welded, neighbours, p, n, t):
    """Frames (T, 3, 4), which corners have one (T, 3), and which triangles are none (T,)."""
    count = len(welded)
    along = np.zeros((count, 3))
    plain, good, empty = np.zeros(count, np.bool_), np.zeros(count, np.bool_), np.zeros(count, np.bool_)
    for f in range(count):
        e, g = p[f, 1] - p[f, 0], p[f, 2] - p[f, 0]
        ux, uy, vx, vy = t[f, 1, 0] - t[f, 0, 0], t[f, 1, 1] - t[f, 0, 1], t[f, 2, 0] - t[f, 0, 0], t[f, 2, 1] - t[f, 0, 1]
        area = ux * vy - uy * vx
        plain[f] = area > 0
        size = 0.0
        for k in range(3):
            along[f, k] = vy * e[k] - uy * g[k]
            size += along[f, k] ** 2
        size = np.sqrt(size)
        good[f] = abs(area) > 1.17549435e-38 and size > 1e-300
        for k in range(3):
            along[f, k] = along[f, k] / size * (1.0 if plain[f] else -1.0) if size > 1e-300 else 0.0
        empty[f] = welded[f, 0] == welded[f, 1] or welded[f, 1] == welded[f, 2] or welded[f, 2] == welded[f, 0]
    group = np.full((count, 3), -1, np.int32)
    borrowed = np.zeros(count, np.bool_)
    queue = np.empty(3 * count + 1, np.int64)
    out = np.zeros((count, 3, 4))
    has = np.zeros((count, 3), np.bool_)
    number = 0
    for f in range(count):
        for c in range(3):
            if not good[f] or empty[f] or group[f, c] >= 0:
                continue
            head, tail = 0, 1
            queue[0] = 3 * f + c
            group[f, c] = number
            while head < tail:
                at, k = queue[head] // 3, queue[head] % 3
                head += 1
                for side in (k, (k + 2) % 3):
                    other = neighbours[at, side]
                    if other < 0 or empty[other]:
                        continue
                    m = 0
                    while m < 3 and welded[other, m] != welded[f, c]:
                        m += 1
                    if m == 3 or group[other, m] >= 0:
                        continue
                    if not good[other] and not borrowed[other]:
                        # A face without area on the sheet takes the handedness of the first group that comes by.
                        borrowed[other], plain[other] = True, plain[f]
                    if plain[other] != plain[f]:
                        continue
                    group[other, m] = number
                    queue[tail] = 3 * other + m
                    tail += 1
            x = y = z = 0.0
            for q in range(tail):
                at, k = queue[q] // 3, queue[q] % 3
                if not good[at]:
                    continue
                nx, ny, nz = n[at, k, 0], n[at, k, 1], n[at, k, 2]
                i, j = (k + 2) % 3, (k + 1) % 3
                ax, ay, az = _projected(p[at, i, 0] - p[at, k, 0], p[at, i, 1] - p[at, k, 1], p[at, i, 2] - p[at, k, 2], nx, ny, nz)
                bx, by, bz = _projected(p[at, j, 0] - p[at, k, 0], p[at, j, 1] - p[at, k, 1], p[at, j, 2] - p[at, k, 2], nx, ny, nz)
                angle = np.arccos(min(max(ax * bx + ay * by + az * bz, -1.0), 1.0))
                sx, sy, sz = _projected(along[at, 0], along[at, 1], along[at, 2], nx, ny, nz)
                x, y, z = x + angle * sx, y + angle * sy, z + angle * sz
            size = np.sqrt(x * x + y * y + z * z)
            for q in range(tail):
                at, k = queue[q] // 3, queue[q] % 3
                has[at, k] = True
                if size > 1e-300:
                    out[at, k, 0], out[at, k, 1], out[at, k, 2] = x / size, y / size, z / size
                else:
                    out[at, k, 0] = 1.0
                out[at, k, 3] = 1.0 if plain[f] else -1.0
            number += 1
    return out, has, empty


@kernel
def _spread(out, has, empty, welded):
    """Corners of triangles that are none take the frame of a corner at the same welded place; what is left gets X."""
    count = 0
    for f in range(len(welded)):
        for c in range(3):
            count = max(count, welded[f, c] + 1)
    first = np.full(count, -1, np.int64)
    for f in range(len(welded)):
        for c in range(3):
            if has[f, c] and first[welded[f, c]] < 0:
                first[welded[f, c]] = 3 * f + c
    for f in range(len(welded)):
        for c in range(3):
            if not has[f, c]:
                at = first[welded[f, c]]
                if at >= 0 and empty[f]:
                    for k in range(4):
                        out[f, c, k] = out[at // 3, at % 3, k]
                else:
                    out[f, c, 0], out[f, c, 3] = 1.0, -1.0
    return out
