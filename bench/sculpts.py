"""Sculpt-like sources from distance functions: props with bevels, folds and bumps, as dense as a sculpt. Ours; no licence needed."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import map_coordinates
from skimage.measure import marching_cubes

from jacket.core.mesh.polymesh import PolyMesh
from jacket.demo.forms import smooth_union

Field = NDArray[np.floating]
Space = tuple[Field, Field, Field]
Triple = tuple[float, float, float]


def _carve(a: Field, b: Field, k: float) -> Field:
    """What two have in common, rounded by k."""
    return -smooth_union(-a, -b, k)


def _capsule(at: Space, a: Triple, b: Triple, ra: float, rb: float) -> Field:
    d = np.subtract(b, a)
    t = np.clip(sum((at[i] - a[i]) * d[i] for i in range(3)) / (d @ d), 0, 1)
    return np.asarray(np.sqrt(sum((at[i] - a[i] - t * d[i]) ** 2 for i in range(3))) - (ra + (rb - ra) * t))


def _ball(at: Space, c: Triple, r: Triple) -> Field:
    """About the distance to an ellipsoid."""
    one = np.sqrt(sum(((at[i] - c[i]) / r[i]) ** 2 for i in range(3)))
    two = np.sqrt(sum(((at[i] - c[i]) / r[i] ** 2) ** 2 for i in range(3)))
    return np.asarray(one * (one - 1) / np.maximum(two, 1e-9))


def _box(at: Space, c: Triple, half: Triple, r: float) -> Field:
    q = [np.abs(at[i] - c[i]) - half[i] + r for i in range(3)]
    return np.asarray(np.sqrt(sum(np.maximum(a, 0) ** 2 for a in q)) + np.minimum(np.maximum.reduce(q), 0) - r)


def _bumps(at: Space, seed: int, often: float, octaves: int) -> Field:
    noise = np.random.default_rng(seed).standard_normal((32, 32, 32))
    return np.asarray(sum(map_coordinates(noise, np.stack([a * often * 2**k for a in at]), order=1, mode="grid-wrap") / 2**k for k in range(octaves)))


def rock(at: Space) -> Field:
    """Sixteen flat breaks with worn edges."""
    rng = np.random.default_rng(3)
    out = np.full(at[0].shape, -9.0)
    for _ in range(16):
        n = rng.standard_normal(3)
        n /= np.linalg.norm(n)
        out = _carve(out, n[0] * at[0] + n[1] * at[1] * 1.2 + n[2] * at[2] - rng.uniform(0.6, 1.0), 0.04)
    return np.asarray(out + 0.02 * _bumps(at, 1, 3.0, 4))


def cape(at: Space) -> Field:
    """A thin cloth in folds."""
    x, y, z = at
    drop = (1 - z) / 2
    fold = 0.12 * drop * np.sin(x * 9 + 1.5 * np.sin(2 * z)) + 0.05 * drop * np.sin(17 * x + z) + 0.15 * x**2
    return _carve(np.abs(y - fold) * 0.55 - 0.012, np.maximum(np.abs(x) - (0.55 + 0.3 * drop), np.abs(z) - 1.0), 0.01)


def sword(at: Space) -> Field:
    """Blade with a groove, guard, grip and pommel."""
    x, y, z = at
    w = 0.16 * np.clip((2.5 - z) / 0.5, 0, 1) ** 0.6
    blade = np.maximum.reduce([np.abs(x) * 0.25 + np.abs(y) - 0.05 * np.clip(w / 0.16, 0, 1), np.abs(x) - w, -z, z - 2.5])
    blade = np.maximum(blade, -np.maximum(np.sqrt((np.abs(y) - 0.075) ** 2 + x * x) - 0.05, z - 1.7))
    grip = _capsule(at, (0, 0, -0.1), (0, 0, -0.7), 0.055, 0.055) + 0.006 * np.sin(70 * z)
    return smooth_union(np.minimum.reduce([blade, _box(at, (0, 0, -0.03), (0.42, 0.07, 0.05), 0.02), grip]), _ball(at, (0, 0, -0.8), (0.1, 0.1, 0.1)), 0.02)


def bust(at: Space) -> Field:
    """A horned head on shoulders."""
    f = smooth_union(_ball(at, (0, 0, 0), (0.62, 0.75, 0.85)), _capsule(at, (0, -0.1, -0.5), (0, -0.15, -1.2), 0.38, 0.4), 0.15)
    f = smooth_union(smooth_union(f, _ball(at, (0, -0.15, -1.35), (1.0, 0.45, 0.3)), 0.15), _capsule(at, (0, 0.7, 0.05), (0, 0.88, -0.15), 0.08, 0.14), 0.08)
    for s in (-1, 1):
        f = smooth_union(_carve(f, -_ball(at, (0.25 * s, 0.78, 0.12), (0.17, 0.14, 0.12)), 0.06), _ball(at, (0.25 * s, 0.6, 0.12), (0.14, 0.14, 0.14)), 0.01)
        f = smooth_union(f, _ball(at, (0.66 * s, 0.0, 0.0), (0.08, 0.2, 0.28)), 0.03)
        f = smooth_union(f, _capsule(at, (0.35 * s, 0.1, 0.7), (0.6 * s, 0, 1.15), 0.16, 0.1), 0.05)
        f = smooth_union(f, _capsule(at, (0.6 * s, 0, 1.15), (0.55 * s, 0.15, 1.55), 0.1, 0.01), 0.03)
    return np.asarray(_carve(f, -_ball(at, (0, 0.78, -0.38), (0.24, 0.14, 0.05)), 0.03) + 0.008 * _bumps(at, 7, 5.0, 3))


def barrel(at: Space) -> Field:
    """Staves with gaps between them, hoops, and ends set in."""
    x, y, z = at
    out = np.sqrt(x * x + y * y) - (0.75 - 0.15 * z * z)
    f = _carve(out, np.abs(z) - 1.0, 0.02)
    angle = np.arctan2(y, x) * 16 / (2 * np.pi)
    gap = np.abs(angle - np.round(angle)) * 2 * np.pi / 16 * np.sqrt(x * x + y * y)
    f = _carve(f, -np.maximum(gap - 0.012, -(out + 0.03)), 0.01)
    for c in (-0.65, 0.65):
        f = smooth_union(f, np.maximum(np.abs(out - 0.015) - 0.02, np.abs(z - c) - 0.07), 0.008)
    return np.asarray(_carve(f, -np.maximum(out + 0.1, 0.9 - np.abs(z)), 0.02) + 0.004 * _bumps((x * 6, y * 6, z), 9, 2.0, 1))


def snake(at: Space) -> Field:
    """A tube in two and a half turns, close to itself."""
    t = np.linspace(0, 1, 140)
    angle, far = t * 2 * np.pi * 2.6, 0.95 - 0.3 * t
    middle = np.c_[far * np.cos(angle), far * np.sin(angle), 0.1 + 0.8 * t**1.3]
    thick = (0.03 + 0.14 * np.sin(np.pi * np.minimum(t * 1.4 + 0.02, 0.5))) * (1 - 5 * np.maximum(t - 0.9, 0))
    f = np.full(at[0].shape, 9.0)
    for k in range(139):
        f = np.minimum(f, _capsule(at, tuple(middle[k]), tuple(middle[k + 1]), thick[k], thick[k + 1]))
    return f


def bottle(at: Space) -> Field:
    """A bottle with a neck and a lip."""
    r, z = np.sqrt(at[0] ** 2 + at[1] ** 2), at[2]
    f = smooth_union(_carve(r - 0.55, np.abs(z + 0.2) - 0.8, 0.08), _carve(r - 0.18, np.abs(z - 0.7) - 0.65, 0.03), 0.25)
    return smooth_union(f, _carve(r - 0.23, np.abs(z - 1.25) - 0.06, 0.02), 0.01)


def mug(at: Space) -> Field:
    """A mug with a handle."""
    x, y, z = at
    r = np.sqrt(x * x + y * y)
    f = _carve(_carve(r - 0.55, np.abs(z) - 0.6, 0.04), -_carve(r - 0.47, -(z + 0.5), 0.04), 0.03)
    handle = np.sqrt((np.sqrt((x - 0.6) ** 2 + (z * 1.1) ** 2) - 0.32) ** 2 + y * y) - 0.07
    return smooth_union(f, np.maximum(handle, -(r - 0.5)), 0.04)


def bolt(at: Space) -> Field:
    """A hexagonal head on a round shaft, all edges worn."""
    x, y, z = at
    head = _carve(np.maximum(np.abs(x), np.abs(0.5 * x) + np.abs(0.866 * y)) - 0.6, np.abs(z - 0.45) - 0.22, 0.03)
    return smooth_union(head, _carve(np.sqrt(x * x + y * y) - 0.3, np.abs(z + 0.4) - 0.7, 0.05), 0.03)


def crate(at: Space) -> Field:
    """A box within twelve posts that stand out."""
    a = [np.abs(v) for v in at]
    posts = np.minimum.reduce([np.maximum.reduce([np.abs(a[i] - 0.88) - 0.12, np.abs(a[j] - 0.88) - 0.12, a[k] - 1.0]) for i, j, k in ((1, 2, 0), (0, 2, 1), (0, 1, 2))])
    return np.asarray(smooth_union(_box(at, (0, 0, 0), (0.9, 0.9, 0.9), 0.03), posts, 0.02) + 0.003 * _bumps(at, 21, 6.0, 2))


def chest(at: Space) -> Field:
    """A box with a vaulted lid, two straps and a lock."""
    x, y, z = at
    body = _carve(_box(at, (0, 0, 0), (0.8, 0.5, 0.45), 0.04), z - 0.2, 0.02)
    lid = _carve(_carve(np.sqrt(y * y + (z - 0.2) ** 2) - 0.5, np.abs(x) - 0.82, 0.04), 0.22 - z, 0.02)
    straps = np.minimum(np.abs(x - 0.45), np.abs(x + 0.45)) - 0.08
    around = np.maximum(np.minimum(body, lid) - 0.035, straps)
    lock = _box(at, (0, -0.52, 0.2), (0.12, 0.06, 0.14), 0.03)
    return np.asarray(smooth_union(smooth_union(np.minimum(body, lid), around, 0.02), lock, 0.02) + 0.003 * _bumps(at, 31, 5.0, 3))


def house(at: Space) -> Field:
    """Four walls, a roof that reaches over them, a chimney and a step."""
    x, y, z = at
    walls = _box(at, (0, 0, -0.2), (0.7, 0.5, 0.5), 0.02)
    roof = _carve(_carve(np.abs(y) * 0.8 + z * 0.6 - 0.56, np.abs(x) - 0.85, 0.02), 0.2 - z - 0.2 * np.abs(y), 0.02)
    more = np.minimum(_box(at, (0.4, 0.25, 0.7), (0.12, 0.12, 0.35), 0.02), _box(at, (0, -0.6, -0.62), (0.25, 0.15, 0.08), 0.02))
    return np.asarray(smooth_union(smooth_union(walls, roof, 0.03), more, 0.02) + 0.002 * _bumps(at, 41, 6.0, 3))


def brick(at: Space) -> Field:
    """A block with worn edges and chipped corners."""
    f = _box(at, (0, 0, 0), (1.0, 0.5, 0.35), 0.08)
    for c in ((1.0, 0.5, 0.35), (-1.0, -0.5, 0.3), (0.2, 0.55, -0.35)):
        f = _carve(f, 0.22 - np.sqrt(sum((at[i] - c[i]) ** 2 for i in range(3))), 0.05)
    return np.asarray(f + 0.012 * _bumps(at, 51, 2.5, 4))


SCULPTS: dict[str, tuple[Callable[[Space], Field], Triple, Triple, int]] = {
    "rock": (rock, (-1.8, -1.8, -1.8), (1.8, 1.8, 1.8), 240),
    "cape": (cape, (-1.0, -0.5, -1.1), (1.0, 0.5, 1.1), 300),
    "sword": (sword, (-0.5, -0.15, -1.0), (0.5, 0.15, 2.6), 420),
    "bust": (bust, (-1.2, -1.0, -1.8), (1.2, 1.2, 1.7), 200),
    "barrel": (barrel, (-0.9, -0.9, -1.1), (0.9, 0.9, 1.1), 200),
    "snake": (snake, (-1.2, -1.2, -0.2), (1.2, 1.2, 1.1), 210),
    "bottle": (bottle, (-0.7, -0.7, -1.1), (0.7, 0.7, 1.5), 230),
    "mug": (mug, (-0.8, -0.7, -0.75), (1.2, 0.7, 0.75), 200),
    "bolt": (bolt, (-0.8, -0.8, -1.2), (0.8, 0.8, 0.8), 200),
    "crate": (crate, (-1.1, -1.1, -1.1), (1.1, 1.1, 1.1), 200),
    "chest": (chest, (-1.0, -0.75, -0.6), (1.0, 0.75, 0.9), 200),
    "house": (house, (-1.0, -0.9, -0.85), (1.0, 0.9, 1.2), 200),
    "brick": (brick, (-1.2, -0.7, -0.5), (1.2, 0.7, 0.5), 200),
}
"""Each with the box it lies in and cells along the longest side of that."""


def sculpt(name: str) -> PolyMesh:
    """A dense triangle mesh of one of them, 80,000 to 330,000 triangles, facing out."""
    form, low, high, cells = SCULPTS[name]
    step = float(np.subtract(high, low).max()) / cells
    x, y, z = np.meshgrid(*(np.arange(a, b + step, step) for a, b in zip(low, high, strict=True)), indexing="ij")
    points, triangles, _, _ = marching_cubes(form((x, y, z)), 0.0)
    return PolyMesh.from_faces(points * step + np.array(low), triangles.astype(np.int32))
