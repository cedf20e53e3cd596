"""Gradients and angles that fields are made from."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.mesh.geometry import face_normals
from jacket.core.quads.field import corner_angles
from jacket.core.quads.gridmap import hat_gradients
from tests.conftest import icosphere


def test_hat_gradients_of_linear_functions_are_exact() -> None:
    """Σ f(p) ∇φ_p is the gradient of a linear f, in the triangle's plane."""
    ball = icosphere(2)
    tri = ball.triangle_points
    gradients = hat_gradients(ball.points, tri, face_normals(ball))
    slope = np.array([0.3, -1.2, 0.7])
    values = ball.points @ slope
    got = np.einsum("tk,tki->ti", values[tri], gradients)
    normal = face_normals(ball)
    wanted = slope - normal * (normal @ slope)[:, None]
    assert np.abs(got - wanted).max() < 1e-12 and np.abs(gradients.sum(axis=1)).max() < 1e-12


def test_angles_of_a_triangle_sum_to_a_half_turn() -> None:
    ball = icosphere(2)
    assert np.allclose(corner_angles(ball).reshape(-1, 3).sum(axis=1), np.pi)
    defect = 2 * np.pi * ball.n_points - corner_angles(ball).sum()
    assert defect == pytest.approx(4 * np.pi)  # Descartes: the angle defects of a sphere sum to 4π
