"""The three demo sources as implicit surfaces.

Everything here is made up for Jacket. Marching cubes comes from scikit-image (Lewiner et al. 2003),
which only this generator needs; the latch, whose edges are hard, is placed by the quadratic error
functions of dual contouring (Ju, Losasso, Schaefer and Warren 2002).
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.source.simplify import simplify
from jacket.core.source.weld import welded_triangles

Floats = NDArray[np.float64]
Field = Callable[[Floats], Floats]


def smooth_union(a: Floats, b: Floats, radius: float) -> Floats:
    """Two distances joined with a rounded valley."""
    h = np.clip(0.5 + 0.5 * (b - a) / radius, 0, 1)
    return b + (a - b) * h - radius * h * (1 - h)


# ---- whelk lantern: a ribbed spiral shell on a ring foot ----------------------------------------


def whelk(p: Floats) -> Floats:
    """Signed distance, roughly, of the shell; the lantern is some 2 units high and stands on y = 0."""
    x, y, z = p[:, 0], p[:, 1], p[:, 2]
    radius = np.hypot(x, z)
    angle = np.arctan2(z, x)
    best = np.full(len(p), np.inf)
    # A helico-spiral: each whorl is smaller and higher by the same factor.
    for turn in range(-1, 5):
        t = angle / (2 * np.pi) + turn
        inside = (t > -0.4) & (t < 3.6)
        shrink = np.exp(-0.42 * t)
        centre_r, centre_y = 0.52 * shrink, 1.92 - 1.22 * shrink
        ribs = 1 + 0.035 * np.cos(22 * 2 * np.pi * t) * np.clip(1.4 - 0.3 * t, 0.2, 1)
        fade = np.clip((t + 0.4) / 0.35, 0.0, 1.0)
        tube = 0.43 * shrink * ribs * (0.35 + 0.65 * fade * (2 - fade))
        d = np.hypot(radius - centre_r, (y - centre_y) * 0.95) - tube
        d = np.where(inside, d, np.inf)
        both = np.isfinite(d) & np.isfinite(best)
        best = np.where(both, smooth_union(np.where(both, d, 0), np.where(both, best, 0), 0.035), np.minimum(d, best))
    core = np.maximum(radius - 0.40 * (1.75 - y) * 0.8, np.abs(y - 1.0) - 0.66)
    shell = smooth_union(best, core, 0.05)
    foot = np.hypot(radius - 0.56, y - 0.15) - 0.15 * (1 + 0.04 * np.cos(18 * angle))
    neck = np.maximum(radius - 0.46, np.abs(y - 0.3) - 0.18)
    tip = np.sqrt(x**2 + ((y - 1.70) / 1.25) ** 2 + z**2) - 0.155
    out = smooth_union(smooth_union(shell, foot, 0.10), neck, 0.08)
    return smooth_union(out, tip, 0.12)


def whelk_lantern(triangles: int = 97_000) -> PolyMesh:
    """The sculpt: closed, with one part."""
    low, high = np.array([-1.2, -0.1, -1.2]), np.array([1.2, 2.1, 1.2])
    return _sculpt(whelk, low, high, triangles)


# ---- barnacled bollard: a scan, torn, tilted, in centimetres ------------------------------------


def _barnacles(seed: int) -> tuple[Floats, Floats]:
    rng = np.random.default_rng(seed)
    n = 46
    angle, height = rng.uniform(0, 2 * np.pi, n), rng.uniform(0.08, 0.85, n)
    radius = 0.42 + 0.05 * (1 - height)
    return np.stack([radius * np.cos(angle), height, radius * np.sin(angle)], axis=1), rng.uniform(0.025, 0.075, n)


def bollard(p: Floats) -> Floats:
    """Signed distance of the bollard before the scanner spoils it."""
    x, y, z = p[:, 0], p[:, 1], p[:, 2]
    radius = np.hypot(x, z)
    post = np.maximum(radius - (0.42 + 0.05 * (1 - y)), np.abs(y - 0.55) - 0.55)
    cap = np.sqrt((radius / 0.62) ** 2 + ((y - 1.17) / 0.24) ** 2) - 1
    out = smooth_union(post, cap * 0.24, 0.12)
    base = np.maximum(np.maximum(np.abs(x), np.abs(z)) - 0.62, np.abs(y - 0.0) - 0.10)
    out = smooth_union(out, base, 0.06)
    centres, sizes = _barnacles(11)
    for centre, size in zip(centres, sizes, strict=True):
        near = np.linalg.norm(p - centre, axis=1)
        outward = np.array([centre[0], 0, centre[2]]) / np.hypot(centre[0], centre[2])
        crater = np.linalg.norm(p - centre - outward * size * 0.9, axis=1) - 0.45 * size
        out = smooth_union(out, np.maximum(near - size, -crater), 0.02)
    return out


def barnacled_bollard(triangles: int = 80_000, seed: int = 11) -> PolyMesh:
    """The scan: noise, holes, floating crumbs, tilted by 17°, in centimetres."""
    low, high = np.array([-0.85, -0.2, -0.85]), np.array([0.85, 1.5, 0.85])
    clean = _sculpt(bollard, low, high, triangles)
    rng = np.random.default_rng(seed)
    points = clean.points.copy()
    wave = rng.normal(size=(40, 3)) * 24
    phase = rng.uniform(0, 2 * np.pi, 40)
    points += 0.0007 * np.sin(points @ wave.T + phase).sum(axis=1)[:, None] * rng.normal(size=3)
    points += rng.normal(scale=0.0009, size=points.shape)
    triangle = clean.corners.reshape(-1, 3)
    middle = points[triangle].mean(axis=1)
    torn = middle[:, 1] < -0.09  # the scanner never saw the underside
    for centre, size in (((0.35, 0.62, 0.32), 0.085), ((-0.44, 0.35, 0.1), 0.06), ((0.1, 1.40, -0.05), 0.09)):
        torn |= np.linalg.norm(middle - np.array(centre), axis=1) < size
    triangle = triangle[~torn]
    parts = [(points, triangle)]
    for _ in range(9):
        place = rng.uniform([-0.8, 0.1, -0.8], [0.8, 1.5, 0.8])
        place[[0, 2]] *= 0.8 / max(np.hypot(place[0], place[2]), 0.3)
        parts.append(_crumb(place, float(rng.uniform(0.008, 0.02))))
    offset, all_points, all_triangles = 0, [], []
    for some_points, some in parts:
        all_points.append(some_points)
        all_triangles.append(some + offset)
        offset += len(some_points)
    a = np.radians(17)
    tilt = np.array([[1, 0, 0], [0, np.cos(a), -np.sin(a)], [0, np.sin(a), np.cos(a)]])
    joined = PolyMesh.from_faces(np.concatenate(all_points) @ tilt.T * 100, np.concatenate(all_triangles))
    return PolyMesh.from_faces(*welded_triangles(joined))


def _crumb(place: Floats, size: float) -> tuple[Floats, NDArray[np.signedinteger]]:
    ring = np.array([[1, 0, 0], [-1, 0, 0], [0, 1, 0], [0, -1, 0], [0, 0, 1], [0, 0, -1]], float)
    faces = np.array([[0, 2, 4], [2, 1, 4], [1, 3, 4], [3, 0, 4], [2, 0, 5], [1, 2, 5], [3, 1, 5], [0, 3, 5]], np.int32)
    return ring * size + place, faces


# ---- porthole latch: hard edges, a thin lip, a pierced ring -------------------------------------


def latch(p: Floats) -> Floats:
    """Exact-ish distance of a plate with a lip, a pierced ring and a grip."""
    x, y, z = p[:, 0], p[:, 1], p[:, 2]

    def box(cx: float, cy: float, cz: float, hx: float, hy: float, hz: float) -> Floats:
        q = np.stack([np.abs(x - cx) - hx, np.abs(y - cy) - hy, np.abs(z - cz) - hz], axis=1)
        return np.linalg.norm(np.maximum(q, 0), axis=1) + np.minimum(q.max(axis=1), 0)

    def cylinder(cx: float, cy: float, radius: float, half: float, cz: float) -> Floats:
        q = np.stack([np.hypot(x - cx, y - cy) - radius, np.abs(z - cz) - half], axis=1)
        return np.linalg.norm(np.maximum(q, 0), axis=1) + np.minimum(q.max(axis=1), 0)

    plate = box(0.0, 0.5, 0.0, 0.42, 0.5, 0.09)
    lip = box(0.0, 0.97, 0.16, 0.42, 0.03, 0.17)
    ring = np.maximum(cylinder(0.0, 1.42, 0.46, 0.09, 0.0), -cylinder(0.0, 1.42, 0.25, 0.3, 0.0))
    bridge = box(0.0, 1.02, 0.0, 0.24, 0.12, 0.09)
    grip = box(0.0, 0.36, 0.22, 0.10, 0.22, 0.16)
    hole = cylinder(0.0, 0.72, 0.085, 0.3, 0.0)
    body = np.minimum.reduce([plate, lip, ring, bridge, grip])
    return np.maximum(body, -hole)


def porthole_latch(triangles: int = 60_000) -> PolyMesh:
    """The hard-edged part: closed, with two holes through it."""
    low, high = np.array([-0.62, -0.15, -0.25]), np.array([0.62, 2.05, 0.55])
    cells = int(np.sqrt(triangles / 2 / 2.6) * 1.1) + 8
    for _ in range(4):
        points, quads = dual_contour(latch, low, high, cells)
        count = 2 * len(quads)
        if abs(count / triangles - 1) < 0.06:
            break
        cells = int(cells * np.sqrt(triangles / count))
    triangle = np.concatenate([quads[:, [0, 1, 2]], quads[:, [0, 2, 3]]]).astype(np.int32)
    return PolyMesh.from_faces(*welded_triangles(PolyMesh.from_faces(points, triangle)))


# ---- making meshes of them ----------------------------------------------------------------------


def _grid(low: Floats, high: Floats, cells: int) -> tuple[list[Floats], float]:
    step = float((high - low).max()) / cells
    # An odd offset keeps grid planes off the forms' own planes.
    return [np.arange(low[k] + 0.137 * step, high[k], step) for k in range(3)], step


def _values(field: Field, axes: list[Floats]) -> Floats:
    out = np.empty([len(a) for a in axes])
    yz = np.stack(np.meshgrid(axes[1], axes[2], indexing="ij"), axis=-1).reshape(-1, 2)
    for i, x in enumerate(axes[0]):
        out[i] = field(np.column_stack([np.full(len(yz), x), yz])).reshape(len(axes[1]), len(axes[2]))
    return out


def _sculpt(field: Field, low: Floats, high: Floats, triangles: int) -> PolyMesh:
    """Marching cubes at a resolution that gives at least the wanted triangles, then reduced to them."""
    from skimage.measure import marching_cubes

    cells = 48
    while True:
        axes, step = _grid(low, high, cells)
        points, faces, _, _ = marching_cubes(
            _values(field, axes), 0.0, spacing=(step,) * 3, gradient_direction="ascent"
        )
        if len(faces) >= triangles * 1.05:
            break
        cells = int(cells * max(1.08, np.sqrt(1.15 * triangles / len(faces))))
    points = points.astype(np.float64) + [a[0] for a in axes]
    points, faces = welded_triangles(PolyMesh.from_faces(points, faces.astype(np.int64)))
    mesh = PolyMesh.from_faces(*simplify(points, faces, triangles, evenness=0.05))
    from jacket.core.mesh.geometry import volume

    if volume(mesh) < 0:
        mesh = PolyMesh.from_faces(mesh.points, mesh.corners.reshape(-1, 3)[:, ::-1].astype(np.int64))
    return mesh


def dual_contour(field: Field, low: Floats, high: Floats, cells: int) -> tuple[Floats, NDArray[np.signedinteger]]:
    """Quads with one point a cell where the field's planes meet best."""
    axes, step = _grid(low, high, cells)
    value = _values(field, axes)
    inside = value < 0
    shape = np.array(value.shape)
    origin = np.array([a[0] for a in axes])
    crossings: list[tuple[NDArray[np.signedinteger], int, Floats]] = []
    for axis in range(3):
        lower = [slice(None)] * 3
        upper = [slice(None)] * 3
        lower[axis], upper[axis] = slice(None, -1), slice(1, None)
        index = np.argwhere(inside[tuple(lower)] != inside[tuple(upper)])
        a = value[tuple(lower)][tuple(index.T)]
        b = value[tuple(upper)][tuple(index.T)]
        places = origin + index * step
        places[:, axis] += step * a / (a - b)
        crossings.append((index, axis, _on_surface(field, places, axis, step)))
    return _join_cells(field, crossings, inside, shape, origin, step)


def _on_surface(field: Field, places: Floats, axis: int, step: float) -> Floats:
    """Crossings sharpened by a few secant steps along the edge."""
    eps = step * 1e-3
    for _ in range(3):
        ahead = places.copy()
        ahead[:, axis] += eps
        f = field(places)
        slope = (field(ahead) - f) / eps
        move = np.where(np.abs(slope) > 0.05, -f / np.where(np.abs(slope) > 0.05, slope, 1), 0)
        places[:, axis] += np.clip(move, -0.2 * step, 0.2 * step)
    return places


def _join_cells(field, crossings, inside, shape, origin, step):
    """One least-squares point per crossed cell, and the quads round crossed edges."""
    size = int(np.prod(shape))
    matrix, right = np.zeros((size, 3, 3)), np.zeros((size, 3))
    mass, count = np.zeros((size, 3)), np.zeros(size)
    quads = []
    strides = np.array([shape[1] * shape[2], shape[2], 1])
    for index, axis, places in crossings:
        normals = _gradient(field, places, step)
        others = [k for k in range(3) if k != axis]
        around = []
        for da, db in ((0, 0), (-1, 0), (-1, -1), (0, -1)):
            cell = index.copy()
            cell[:, others[0]] += da
            cell[:, others[1]] += db
            around.append(cell)
        ok = np.all([(c >= 0).all(axis=1) & (c < shape - 1).all(axis=1) for c in around], axis=0)
        flat = [c @ strides for c in around]
        for cells in flat:
            cells = cells[ok]
            np.add.at(matrix, cells, normals[ok][:, :, None] * normals[ok][:, None, :])
            np.add.at(right, cells, normals[ok] * (normals[ok] * places[ok]).sum(axis=1, keepdims=True))
            np.add.at(mass, cells, places[ok])
            np.add.at(count, cells, 1)
        ring = np.stack(flat, axis=1)[ok]
        out_first = inside[tuple(index[ok].T)] ^ (axis == 1)
        quads.append(np.where(out_first[:, None], ring, ring[:, ::-1]))
    used = np.flatnonzero(count)
    centre = mass[used] / count[used][:, None]
    values, vectors = np.linalg.eigh(matrix[used])
    residual = right[used] - np.einsum("nij,nj->ni", matrix[used], centre)
    local = np.einsum("nji,nj->ni", vectors, residual)
    keep = values > 0.08 * values.max(axis=1, keepdims=True)
    move = np.einsum("nij,nj->ni", vectors, np.where(keep, local / np.where(keep, values, 1), 0))
    points = centre + np.clip(move, -0.9 * step, 0.9 * step)
    new = np.full(size, -1)
    new[used] = np.arange(len(used))
    return points, new[np.concatenate(quads)]


def _gradient(field: Field, places: Floats, step: float) -> Floats:
    eps = step * 2e-3
    out = np.stack([field(places + eps * e) - field(places - eps * e) for e in np.eye(3)], axis=1)
    return out / np.maximum(np.linalg.norm(out, axis=1, keepdims=True), 1e-12)
