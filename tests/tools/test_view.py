"""Cameras: rays, projection, nearing."""

from __future__ import annotations

import numpy as np

from jacket.tools.view import FlatCamera, FormCamera

CAMERA = FormCamera(np.array([0.0, 0.0, 0.0]), 6.0, yaw=0, pitch=0, width=800, height=800)


def test_rays_and_projection_are_inverse() -> None:
    camera = FormCamera(np.array([0.3, -0.2, 1.0]), 5.0, yaw=37, pitch=-22, width=640, height=480)
    rng = np.random.default_rng(0)
    for point in rng.normal(size=(20, 3)):
        x, y, depth = camera.project(point)[0]
        origin, direction = camera.ray(x, y)
        along = (point - origin) @ direction
        assert np.allclose(origin + along * direction, point) and depth > 0
        clip = camera.matrix @ np.append(point, 1)
        assert np.allclose([(clip[0] / clip[3] + 1) * 320, (1 - clip[1] / clip[3]) * 240], [x, y])
    flat = FlatCamera(np.array([0.5, 0.5]), 300, 400, 500)
    assert np.allclose(flat.place(*flat.project(np.array([[0.2, 0.9]]))[0]), [0.2, 0.9])
    near = flat.neared(3, 100, 120)
    assert np.allclose(near.place(100, 120), flat.place(100, 120)) and near.scale > flat.scale


def test_nearing_keeps_what_is_under_the_pointer() -> None:
    point = np.array([0.4, 0.5, 0.0])
    before, after = CAMERA.project(point)[0], CAMERA.neared(2, point).project(point)[0]
    assert np.allclose(before[:2], after[:2]) and after[2] < before[2]
