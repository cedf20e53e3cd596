"""How far shading normals that a receiver would see lie from those of the dense mesh, at places on the light one."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jacket.core.bake.cast import _meet
from jacket.core.bake.dense import Dense
from jacket.core.mesh.polymesh import Floats, Ints


@dataclass(frozen=True, eq=False)
class Delivered:
    """Triangles as a receiver has them, corner by corner: places, normals (T, 3, 3), tangents (T, 3, 4) or None, and places on
    the picture (T, 3, 2) with v down from its upper left, or None."""

    places: Floats
    normals: Floats
    tangents: Floats | None
    uv: Floats | None


@dataclass(frozen=True, eq=False)
class Samples:
    """Places on triangles, spread by area: their triangle, shares of its corners, and what the dense mesh has there: whether
    it is met within reach, its unit normal."""

    triangle: Ints
    shares: Floats
    met: NDArray[np.bool_]
    truth: Floats


def sampled(given: Delivered, dense: Dense, reach: float, count: int = 20_000, seed: int = 3) -> Samples:
    """Seeded samples of triangles, and the normals of the dense mesh where lines along the triangles' normals meet it, the
    nearest of both ways."""
    p = given.places
    area = np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1)
    rng = np.random.default_rng(seed)
    which = np.minimum(np.searchsorted(np.cumsum(area), (np.arange(count) + rng.random(count)) / count * area.sum()), len(area) - 1)
    u, v = rng.random(count), rng.random(count)
    over = u + v > 1
    u[over], v[over] = 1 - u[over], 1 - v[over]
    shares = np.stack([1 - u - v, u, v], axis=1)
    place = np.einsum("kc,kcd->kd", shares, p[which])
    way = unit_rows(np.einsum("kc,kcd->kd", shares, given.normals[which]))
    lines = np.concatenate([place, way, np.full((count, 2), reach)], axis=1)
    row, at, along = np.full(count, -1, np.int32), np.zeros((count, 3)), np.zeros(count, np.bool_)
    if len(dense.tree.order):
        _meet(*dense.tree.parts, lines, False, row, at, along)
    met = row >= 0
    leaf = dense.leaf_normals[np.maximum(row, 0)].reshape(-1, 3, 3).astype(float) if len(dense.leaf_normals) else np.zeros((count, 3, 3))
    weights = np.stack([1 - at[:, 1] - at[:, 2], at[:, 1], at[:, 2]], axis=1)
    return Samples(which, shares, met, unit_rows(np.einsum("kc,kcd->kd", weights, leaf)))


def unit_rows(vectors: Floats) -> Floats:
    """Rows of length one; rows of length zero stay."""
    return vectors / np.maximum(np.linalg.norm(vectors, axis=-1, keepdims=True), 1e-300)


def mixed(samples: Samples, values: Floats) -> Floats:
    """Values (T, 3, k) of corners at the samples, not made unit."""
    return np.einsum("kc,kcd->kd", samples.shares, values[samples.triangle])


def read(picture: NDArray[np.float32], uv: Floats) -> Floats:
    """Bilinear values of a picture (H, W, k) at places (N, 2) from its upper left, wrapped around as receivers do."""
    h, w = picture.shape[:2]
    x, y = uv[:, 0] * w - 0.5, uv[:, 1] * h - 0.5
    i, j = np.floor(x).astype(int), np.floor(y).astype(int)
    fx, fy = (x - i)[:, None], (y - j)[:, None]
    a, b = picture[j % h, i % w], picture[j % h, (i + 1) % w]
    c, d = picture[(j + 1) % h, i % w], picture[(j + 1) % h, (i + 1) % w]
    return np.asarray((a * (1 - fx) + b * fx) * (1 - fy) + (c * (1 - fx) + d * fx) * fy, np.float64)


def decoded(samples: Samples, given: Delivered, picture: NDArray[np.float32], down: bool = False, flipped: bool = False, signs: float = 1.0) -> Floats:
    """Unit shading normals at samples by a picture of tangent normals in 0..1, as mikktspace.h prescribes. `down` says that its
    green points down, `flipped` that its rows are read from below; `signs` multiplies the bitangents'."""
    assert given.uv is not None and given.tangents is not None
    uv = mixed(samples, given.uv)
    if flipped:
        uv[:, 1] = 1 - uv[:, 1]
    m = read(picture, uv) * 2 - 1
    if down:
        m[:, 1] = -m[:, 1]
    n, t = mixed(samples, given.normals), mixed(samples, given.tangents[..., :3])
    sign = given.tangents[samples.triangle, 0, 3:] * signs
    return unit_rows(m[:, :1] * t + m[:, 1:2] * sign * np.cross(n, t) + m[:, 2:3] * n)


def mean_angle(a: Floats, b: Floats, keep: NDArray[np.bool_]) -> float:
    """Mean angle in degrees between unit rows, where `keep` says."""
    if not keep.any():
        return float("nan")
    half = np.clip(np.linalg.norm(a[keep] - b[keep], axis=1) / 2, 0, 1)
    return float(np.degrees(2 * np.arcsin(half)).mean())


def halved(picture: NDArray[np.float32]) -> NDArray[np.float32]:
    """The next mip level of a picture (H, W, k): means of two by two."""
    h, w = picture.shape[0] // 2, picture.shape[1] // 2
    return picture[: 2 * h, : 2 * w].reshape(h, 2, w, 2, -1).mean(axis=(1, 3))
