"""The nearest triangle of each pixel, against rays through the pixels' middles."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.space.raster import covered, nearest
from jacket.tools.view import FormCamera


def met(origin: np.ndarray, way: np.ndarray, corners: np.ndarray) -> tuple[int, np.ndarray]:
    """The nearest triangle (T, 3, 3) on a ray and the shares of its corners (Möller and Trumbore 1997)."""
    a, b, c = corners[:, 0], corners[:, 1], corners[:, 2]
    p = np.cross(way, c - a)
    det = np.einsum("ij,ij->i", b - a, p)
    s = origin - a
    u = np.einsum("ij,ij->i", s, p) / det
    q = np.cross(s, b - a)
    v, t = q @ way / det, np.einsum("ij,ij->i", c - a, q) / det
    t = np.where((u >= 0) & (v >= 0) & (u + v <= 1) & (t > 0), t, np.inf)
    k = int(np.argmin(t))
    return (k, np.array([1 - u[k] - v[k], u[k], v[k]])) if np.isfinite(t[k]) else (-1, np.zeros(3))


def test_nearest_triangles_and_shares_are_those_of_rays() -> None:
    rng = np.random.default_rng(4)
    corners = (rng.normal(size=(60, 1, 3)) + 0.8 * rng.normal(size=(60, 3, 3))).astype(float)
    camera = FormCamera(np.zeros(3), 6.0, width=64, height=48)
    points = corners.reshape(-1, 3)
    triangles = np.arange(len(points)).reshape(-1, 3)
    which, shares = nearest(camera.project(points), triangles, 64, 48)
    there = 0
    for y in range(0, 48, 3):
        for x in range(0, 64, 3):
            k, at = met(*camera.ray(x + 0.5, y + 0.5), corners)
            assert which[y, x] == k
            if k >= 0:
                there += 1
                # The perspective counts: shares are those on the form, not on the picture.
                assert shares[y, x] == pytest.approx(at, abs=1e-5)
    assert there > 100
    assert np.array_equal(which >= 0, covered(camera.project(points), triangles, 64, 48))


def test_what_is_behind_the_eye_or_nowhere_is_left_out() -> None:
    at = np.array([[0, 0, 1.0], [40, 0, 1], [0, 40, 1], [0, 0, np.nan], [40, 0, 0.5], [0, 40, 0.5], [0, 0, -1], [40, 0, -1], [0, 40, -1]])
    which, _ = nearest(at, np.arange(9).reshape(3, 3), 20, 10)
    assert (which == 0).all()
