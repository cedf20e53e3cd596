"""Rays from the jacket to the source: along the cage line, both ways, the nearest of either way kept.

A single ray from a hull around everything hits whatever stands in front; the nearest of both ways does not. Faces that
look along the cage line count first, then any. Where nothing is met within reach the jacket's own surface stands in.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jacket.core.bake.dense import Dense
from jacket.core.bake.texels import GUTTER, _cover
from jacket.core.jit import inline, kernel
from jacket.core.mesh.polymesh import Floats, Ints
from jacket.core.space.rays import entry, leaf_hit

BAND = 32
"""Rows of a sheet that are cast in one go."""
HIT, BEHIND, MISSED = 1, 2, 3
"""What became of a texel: a face that looks along the line, only one that looks away, none at all."""


@dataclass(frozen=True, eq=False)
class Target:
    """The triangles of jackets on one sheet, corner by corner.

    at      (T, 3, 2) places on the sheet in texels from its lower left
    sides   (B, 3) triangle and side along the outlines of islands, and the triangle across on the form, −1 for none
    places  (T, 3, 3) in space;  ways (T, 3, 3) unit cage directions
    frames  (T, 3, 2, 3) tangent and normal as delivered;  signs (T,) of the bitangent
    reach   (T, 3, 2) how far outwards and inwards
    """

    at: Floats
    sides: Ints
    places: Floats
    ways: Floats
    frames: Floats
    signs: Floats
    reach: Floats


@dataclass(frozen=True, eq=False)
class Band:
    """What rows of a sheet know, the lowest first: mean over the samples that met something.

    tangent, world, place  (R, W, 3) float32 normals in the frame and in space, the place met
    height   (R, W) how far along the cage line it lies
    values   (R, W, K) the channels of the source there;  shade (R, W, 3) its colour in linear light
    face     (R, W) the triangle met, −1 for none
    state    (R, W) uint8 0 off the islands, or HIT, BEHIND, MISSED;  share (R, W) of the samples that met something
    """

    tangent: NDArray[np.float32]
    world: NDArray[np.float32]
    place: NDArray[np.float32]
    height: NDArray[np.float32]
    values: NDArray[np.float32]
    shade: NDArray[np.float32]
    face: NDArray[np.int32]
    state: NDArray[np.uint8]
    share: NDArray[np.float32]


def cast(
    target: Target, dense: Dense, values: NDArray[np.float32], width: int, height: int, samples: int,
    take: Callable[[int, Band], None], gutter: float = GUTTER, threads: int = 0,
) -> None:  # fmt: skip
    """Cast samples² rays a texel and give every band to `take(first row, band)`, from several threads. values (V, K) are
    channels at the points of the source. What `take` raises ends the cast."""
    starts = list(range(0, height, BAND))

    def one(low: int) -> None:
        rows = min(BAND, height - low)
        take(low, cast_rows(target, dense, values, low, rows, width, samples, gutter))

    with ThreadPoolExecutor(threads or os.cpu_count() or 1) as pool:
        work = [pool.submit(one, low) for low in starts]
        try:
            for w in work:
                w.result()
        except BaseException:
            for w in work:
                w.cancel()
            raise


def cast_rows(
    target: Target, dense: Dense, values: NDArray[np.float32], low: int, rows: int, width: int, samples: int, gutter: float
) -> Band:
    """The band of rows from `low` on."""
    f = np.float32
    shaded = dense.shaded
    size = (rows, width)
    band = Band(
        np.zeros((*size, 3), f), np.zeros((*size, 3), f), np.zeros((*size, 3), f), np.zeros(size, f),
        np.zeros((*size, values.shape[1]), f), np.zeros((*size, 3) if shaded else (1, 1, 3), f),
        np.full(size, -1, np.int32), np.zeros(size, np.uint8), np.zeros(size, f),
    )  # fmt: skip
    samples_at, lines, frames = _samples(low, rows, width, samples, gutter, target.at, target.sides, target.places, target.ways,
                                         target.frames, target.reach)  # fmt: skip
    row, at, along = np.full(len(lines), -1, np.int32), np.zeros((len(lines), 3)), np.zeros(len(lines), np.bool_)
    if len(dense.tree.order):
        _meet(*dense.tree.parts, lines, False, row, at, along)
        _meet(*dense.tree.parts, lines, True, row, at, along)
    paint = dense.paint
    _shade(
        width, samples, samples_at, lines, frames, target.signs, row, at, along, dense.tree.order, dense.tree.triangles,
        dense.leaf_normals, values, paint.pixels, paint.table, paint.material, paint.uv, paint.tints, shaded, band.tangent,
        band.world, band.place, band.height, band.values, band.shade, band.face, band.state, band.share,
    )  # fmt: skip
    return band


@inline
def _line_entered(boxes, node, at, ox, oy, oz, ix, iy, iz, out, back):
    """The least way along a line, either way, at which a child's box is met; inf where it is missed or out of reach."""
    near, far = entry(boxes, node, at, ox, oy, oz, ix, iy, iz, -back, out)
    if far < near:
        return np.inf
    if near > 0:
        return near
    return -far if far < 0 else 0.0


@inline
def _looks_along(leaves, j, dx, dy, dz):
    nx = leaves[j, 4] * leaves[j, 8] - leaves[j, 5] * leaves[j, 7]
    ny = leaves[j, 5] * leaves[j, 6] - leaves[j, 3] * leaves[j, 8]
    nz = leaves[j, 3] * leaves[j, 7] - leaves[j, 4] * leaves[j, 6]
    return nx * dx + ny * dy + nz * dz > 0


@kernel
def _meet(order, children, boxes, leaves, lines, any_side, row_of, place, along):
    """For lines (Q, 8) of origin, direction, reach out and back that met nothing yet: the row in the leaves of the triangle
    of least |t|, (t, u, v) with the shares of its second and third corner, and whether it looks along the line. Only those
    that do count unless `any_side` is set."""
    stack, depth = np.empty(256, np.int32), np.empty(256)
    for q in range(len(lines)):
        if row_of[q] >= 0:
            continue
        ox, oy, oz, dx, dy, dz = lines[q, 0], lines[q, 1], lines[q, 2], lines[q, 3], lines[q, 4], lines[q, 5]
        out, back = lines[q, 6], lines[q, 7]
        ix = 1.0 / dx if abs(dx) > 1e-300 else 1e300
        iy = 1.0 / dy if abs(dy) > 1e-300 else 1e300
        iz = 1.0 / dz if abs(dz) > 1e-300 else 1e300
        best, row, way, bu, bv = (out if out > back else back) * (1 + 1e-12) + 1e-300, -1, 0.0, 0.0, 0.0
        node, top = 0, 0
        while True:
            m, n = children[node, 0, 1], children[node, 1, 1]
            to, fro = (best if best < out else out), (best if best < back else back)
            a = _line_entered(boxes, node, 0, ox, oy, oz, ix, iy, iz, to, fro)
            b = _line_entered(boxes, node, 6, ox, oy, oz, ix, iy, iz, to, fro)
            # Written out for either side: as a loop over the two it takes twice the time.
            if m != 0:
                if a <= best:
                    for j in range(children[node, 0, 0], children[node, 0, 0] + m):
                        t, u, v = leaf_hit(leaves, j, ox, oy, oz, dx, dy, dz)
                        if abs(t) < best and -back <= t <= out and (any_side or _looks_along(leaves, j, dx, dy, dz)):
                            best, row, way, bu, bv = abs(t), j, t, u, v
                a = np.inf
            if n != 0:
                if b <= best:
                    for j in range(children[node, 1, 0], children[node, 1, 0] + n):
                        t, u, v = leaf_hit(leaves, j, ox, oy, oz, dx, dy, dz)
                        if abs(t) < best and -back <= t <= out and (any_side or _looks_along(leaves, j, dx, dy, dz)):
                            best, row, way, bu, bv = abs(t), j, t, u, v
                b = np.inf
            if a <= best and b <= best:
                nearer = a <= b
                stack[top], depth[top] = (children[node, 1, 0], b) if nearer else (children[node, 0, 0], a)
                node = children[node, 0, 0] if nearer else children[node, 1, 0]
                top += 1
                continue
            if a <= best:
                node = children[node, 0, 0]
                continue
            if b <= best:
                node = children[node, 1, 0]
                continue
            while top > 0 and depth[top - 1] > best:
                top -= 1
            if top == 0:
                break
            top -= 1
            node = stack[top]
        row_of[q], along[q] = row, row >= 0 and not any_side
        place[q, 0], place[q, 1], place[q, 2] = way, bu, bv


@inline
def _pixel(pixels, table, m, x, y, k):
    """One linear value of a picture, wrapped around."""
    w, h = table[m, 1], table[m, 2]
    return pixels[table[m, 0] + 3 * ((y % h) * w + x % w) + k]


@inline
def _to_light(value):
    """sRGB to linear light (IEC 61966-2-1)."""
    return value / 12.92 if value <= 0.04045 else ((value + 0.055) / 1.055) ** 2.4


@inline
def _carried_on(at, sides, side, x, y, places, ways, frames, lines, n):
    """Lead a line of the gutter to where the form goes on across a soft seam, unfolded over it: what filtering reads past an
    outline is then what lies there, and both sides of a seam read alike. Hard edges keep what their own side carried on has."""
    t, k, t2 = sides[side, 0], sides[side, 1], sides[side, 2]
    k1, k2 = (k + 1) % 3, (k + 2) % 3
    sx, sy = at[t, k1, 0] - at[t, k, 0], at[t, k1, 1] - at[t, k, 1]
    size = sx * sx + sy * sy
    along = min(max(((x - at[t, k, 0]) * sx + (y - at[t, k, 1]) * sy) / size, 0.0), 1.0) if size > 0 else 0.0
    e, out, into, d = np.empty(3), np.empty(3), np.empty(3), np.empty(3)
    long = 0.0
    for c in range(3):
        e[c] = places[t, k1, c] - places[t, k, c]
        long += e[c] * e[c]
    if long <= 0:
        return
    long = np.sqrt(long)
    # The corner of the other triangle that is not on the seam is the farthest from it.
    third, most = 0, -1.0
    for q in range(3):
        dot, away = 0.0, 0.0
        for c in range(3):
            dot += (places[t2, q, c] - places[t, k, c]) * e[c] / long
        for c in range(3):
            away += (places[t2, q, c] - places[t, k, c] - dot * e[c] / long) ** 2
        if away > most:
            third, most = q, away
    # A soft edge has one normal for both sides at each of its ends.
    for end in range(2):
        own, best = k if end == 0 else k1, -2.0
        for q in range(3):
            if q != third:
                dot, near = 0.0, 0.0
                for c in range(3):
                    dot += frames[t, own, 1, c] * frames[t2, q, 1, c]
                    near += (places[t2, q, c] - places[t, own, c]) ** 2
                if near <= 1e-18 * long * long:
                    best = dot
        if best < 0.999:
            return
    d_e = d_o = 0.0
    out_e = into_e = 0.0
    for c in range(3):
        e[c] /= long
        out[c] = places[t, k, c] - places[t, k2, c]
        into[c] = places[t2, third, c] - places[t, k, c]
        out_e += out[c] * e[c]
        into_e += into[c] * e[c]
    out_size = into_size = 0.0
    for c in range(3):
        out[c] -= out_e * e[c]
        into[c] -= into_e * e[c]
        out_size += out[c] * out[c]
        into_size += into[c] * into[c]
    if out_size <= 0 or into_size <= 0:
        return
    for c in range(3):
        foot = places[t, k, c] + along * (places[t, k1, c] - places[t, k, c])
        d[c] = lines[n, c] - foot
        d_e += d[c] * e[c]
        d_o += d[c] * out[c] / np.sqrt(out_size)
    # Shares of the place in the other triangle, in the plane's own axes: along the seam, and into it.
    high = np.sqrt(into_size)
    w = max(d_o, 0.0) / high
    if w > 1.0:
        return  # past the next row already
    first = -1
    for q in range(3):
        if q != third and first < 0:
            near = 0.0
            for c in range(3):
                near += (places[t2, q, c] - places[t, k, c]) ** 2
            if near <= 1e-18 * long * long:
                first = q
    if first < 0:
        return
    second = 3 - third - first
    v = (along * long + d_e - w * into_e) / long
    u = 1.0 - v - w
    if min(u, v) < -1.0:
        return
    size = 0.0
    for c in range(3):
        lines[n, c] = u * places[t2, first, c] + v * places[t2, second, c] + w * places[t2, third, c]
        lines[n, 3 + c] = u * ways[t2, first, c] + v * ways[t2, second, c] + w * ways[t2, third, c]
        size += lines[n, 3 + c] ** 2
    size = 1.0 / np.sqrt(size) if size > 0 else 0.0
    for c in range(3):
        lines[n, 3 + c] *= size


@kernel
def _samples(low, rows, width, step, gutter, at, sides, places, ways, frames, reach):
    """The samples of a band that lie on a triangle, texel by texel: (Q, 2) texel and triangle; their lines (Q, 8); and the
    tangents and normals there as interpolated (Q, 6)."""
    which, far, over = (np.empty((rows * step, width * step), np.int32), np.empty((rows * step, width * step)),
                        np.empty((rows * step, width * step), np.int32))  # fmt: skip
    _cover(at, sides, low, rows, width, step, gutter, which, far, over)
    count = 0
    for j in range(rows * step):
        for i in range(width * step):
            count += which[j, i] >= 0
    inverse = np.empty((len(at), 4))
    for t in range(len(at)):
        ux, uy, vx, vy = at[t, 1, 0] - at[t, 0, 0], at[t, 1, 1] - at[t, 0, 1], at[t, 2, 0] - at[t, 0, 0], at[t, 2, 1] - at[t, 0, 1]
        area = ux * vy - uy * vx
        inverse[t, 0], inverse[t, 1], inverse[t, 2], inverse[t, 3] = vy / area, -vx / area, -uy / area, ux / area
    where, lines, framed = np.empty((count, 2), np.int32), np.empty((count, 8)), np.empty((count, 6))
    part, n = 1.0 / step, 0
    for j in range(rows):
        for i in range(width):
            for s in range(step * step):
                t = which[j * step + s // step, i * step + s % step]
                if t < 0:
                    continue
                x, y = i + (s % step + 0.5) * part - at[t, 0, 0], low + j + (s // step + 0.5) * part - at[t, 0, 1]
                b1, b2 = inverse[t, 0] * x + inverse[t, 1] * y, inverse[t, 2] * x + inverse[t, 3] * y
                b0 = 1.0 - b1 - b2
                where[n, 0], where[n, 1] = j * width + i, t
                size = 0.0
                for k in range(3):
                    lines[n, k] = b0 * places[t, 0, k] + b1 * places[t, 1, k] + b2 * places[t, 2, k]
                    lines[n, 3 + k] = b0 * ways[t, 0, k] + b1 * ways[t, 1, k] + b2 * ways[t, 2, k]
                    size += lines[n, 3 + k] ** 2
                    framed[n, k] = b0 * frames[t, 0, 0, k] + b1 * frames[t, 1, 0, k] + b2 * frames[t, 2, 0, k]
                    framed[n, 3 + k] = b0 * frames[t, 0, 1, k] + b1 * frames[t, 1, 1, k] + b2 * frames[t, 2, 1, k]
                size = 1.0 / np.sqrt(size) if size > 0 else 0.0
                for k in range(3):
                    lines[n, 3 + k] *= size
                for k in range(2):
                    lines[n, 6 + k] = max(b0 * reach[t, 0, k] + b1 * reach[t, 1, k] + b2 * reach[t, 2, k], 0.0)
                side = over[j * step + s // step, i * step + s % step]
                if side >= 0 and sides[side, 2] >= 0:
                    _carried_on(at, sides, side, x + at[t, 0, 0], y + at[t, 0, 1], places, ways, frames, lines, n)
                n += 1
    return where, lines, framed


@kernel
def _shade(
    width, step, where, lines, framed, signs, rows_met, met_at, along, order, triangles, normals, channels, pixels, table,
    material, uv, tints, shaded, tangent, world, place, height, values, shade, face, state, share,
):  # fmt: skip
    light = np.empty(256)
    for k in range(256):
        light[k] = _to_light(k / 255.0)
    count, end = channels.shape[1], 0
    while end < len(where):
        begin, texel = end, where[end, 0]
        j, i = texel // width, texel % width
        met = fronts = 0
        ex = ey = ez = 0.0
        hx = hy = hz = 0.0
        while end < len(where) and where[end, 0] == texel:
            q, t = end, where[end, 1]
            end += 1
            ox, oy, oz = lines[q, 0], lines[q, 1], lines[q, 2]
            nx, ny, nz = framed[q, 3], framed[q, 4], framed[q, 5]
            row = rows_met[q]
            if row < 0:
                ex, ey, ez = ex + nx, ey + ny, ez + nz
                hx, hy, hz = hx + ox, hy + oy, hz + oz
                continue
            way, u, v = met_at[q, 0], met_at[q, 1], met_at[q, 2]
            met += 1
            fronts += along[q]
            f = order[row]
            o = 1.0 - u - v
            mx = o * normals[row, 0] + u * normals[row, 3] + v * normals[row, 6]
            my = o * normals[row, 1] + u * normals[row, 4] + v * normals[row, 7]
            mz = o * normals[row, 2] + u * normals[row, 5] + v * normals[row, 8]
            size = np.sqrt(mx * mx + my * my + mz * mz)
            if size <= 0:
                mx, my, mz, size = nx, ny, nz, np.sqrt(nx * nx + ny * ny + nz * nz) + 1e-300
            size = 1.0 / size
            mx, my, mz = mx * size, my * size, mz * size
            # The receiver decodes with T, w · N × T and N as interpolated, not made unit: the inverse encodes.
            tx, ty, tz = framed[q, 0], framed[q, 1], framed[q, 2]
            bx, by, bz = signs[t] * (ny * tz - nz * ty), signs[t] * (nz * tx - nx * tz), signs[t] * (nx * ty - ny * tx)
            det = tx * (by * nz - bz * ny) + bx * (ny * tz - nz * ty) + nx * (ty * bz - tz * by)
            cx, cy, cz = 0.0, 0.0, 1.0
            if abs(det) > 1e-12:
                side = 1.0 if det > 0 else -1.0
                cx = side * (mx * (by * nz - bz * ny) + bx * (ny * mz - nz * my) + nx * (my * bz - mz * by))
                cy = side * (tx * (my * nz - mz * ny) + mx * (ny * tz - nz * ty) + nx * (ty * mz - tz * my))
                cz = side * (tx * (by * mz - bz * my) + bx * (my * tz - mz * ty) + mx * (ty * bz - tz * by))
            size = 1.0 / np.sqrt(cx * cx + cy * cy + cz * cz)
            tangent[j, i, 0] += cx * size
            tangent[j, i, 1] += cy * size
            tangent[j, i, 2] += cz * size
            world[j, i, 0] += mx
            world[j, i, 1] += my
            world[j, i, 2] += mz
            place[j, i, 0] += ox + way * lines[q, 3]
            place[j, i, 1] += oy + way * lines[q, 4]
            place[j, i, 2] += oz + way * lines[q, 5]
            height[j, i] += way
            a, b, c = triangles[f, 0], triangles[f, 1], triangles[f, 2]
            for k in range(count):
                values[j, i, k] += o * channels[a, k] + u * channels[b, k] + v * channels[c, k]
            if shaded:
                m = material[f]
                red, green, blue = tints[m, 0], tints[m, 1], tints[m, 2]
                if table[m, 1] > 0:
                    px = (o * uv[f, 0, 0] + u * uv[f, 1, 0] + v * uv[f, 2, 0]) * table[m, 1] - 0.5
                    py = (1.0 - (o * uv[f, 0, 1] + u * uv[f, 1, 1] + v * uv[f, 2, 1])) * table[m, 2] - 0.5
                    if np.isfinite(px) and np.isfinite(py):
                        ax, ay = int(np.floor(px)), int(np.floor(py))
                        px, py = px - ax, py - ay
                        red = green = blue = 0.0
                        for corner in range(4):
                            wx, wy = corner % 2, corner // 2
                            w = (px if wx else 1 - px) * (py if wy else 1 - py)
                            red += w * light[_pixel(pixels, table, m, ax + wx, ay + wy, 0)]
                            green += w * light[_pixel(pixels, table, m, ax + wx, ay + wy, 1)]
                            blue += w * light[_pixel(pixels, table, m, ax + wx, ay + wy, 2)]
                shade[j, i, 0] += red
                shade[j, i, 1] += green
                shade[j, i, 2] += blue
            if face[j, i] < 0:
                face[j, i] = f
        on = end - begin
        share[j, i] = met / on
        state[j, i] = 1 if fronts > 0 else (2 if met > 0 else 3)
        if met == 0:
            size = np.sqrt(ex * ex + ey * ey + ez * ez) + 1e-300
            tangent[j, i, 2] = 1.0
            world[j, i, 0], world[j, i, 1], world[j, i, 2] = ex / size, ey / size, ez / size
            place[j, i, 0], place[j, i, 1], place[j, i, 2] = hx / on, hy / on, hz / on
            continue
        for vectors in (tangent, world):
            size = np.sqrt(vectors[j, i, 0] ** 2 + vectors[j, i, 1] ** 2 + vectors[j, i, 2] ** 2)
            for k in range(3):
                vectors[j, i, k] = vectors[j, i, k] / size if size > 1e-20 else (1.0 if k == 2 else 0.0)
        for k in range(3):
            place[j, i, k] /= met
            if shaded:
                shade[j, i, k] /= met
        height[j, i] /= met
        for k in range(count):
            values[j, i, k] /= met
