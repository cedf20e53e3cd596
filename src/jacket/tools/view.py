"""A camera in numbers: projecting points, casting rays, turning, shifting, nearing."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from jacket.core.mesh.tables import bounds

Floats = NDArray[np.float64]


NEAREST, FARTHEST = 1e-4, 300.0
"""Least and greatest distance of the eye, in radii of all there is."""


@dataclass(frozen=True, eq=False)
class FormCamera:
    """Looks at `target` from `distance` along angles in degrees; `width` × `height` in pixels.

    `yaw` turns about Y, `pitch` lifts; the opening angle is that of the shorter side, so that what fits stays in a view
    that becomes narrow.
    """

    target: Floats
    distance: float
    yaw: float = 30.0
    pitch: float = 18.0
    opening: float = 35.0
    width: int = 800
    height: int = 600
    size: float = 1.0
    """Radius of all there is: how near and how far one can go follows from it."""

    @cached_property
    def rotation(self) -> Floats:
        """(3, 3) rows: right, up, towards the eye."""
        y, p = np.radians(self.yaw), np.radians(self.pitch)
        back = np.array([np.sin(y) * np.cos(p), np.sin(p), np.cos(y) * np.cos(p)])
        right = np.array([np.cos(y), 0.0, -np.sin(y)])
        up = np.array([-np.sin(y) * np.sin(p), np.cos(p), -np.cos(y) * np.sin(p)])
        return np.stack([right, up, back])

    @cached_property
    def eye(self) -> Floats:
        """(3,) where the camera stands."""
        return self.target + self.rotation[2] * self.distance

    @property
    def focal(self) -> float:
        """Pixels on the screen of a length at the same distance in depth."""
        return float(max(min(self.width, self.height), 1) / 2 / np.tan(np.radians(self.opening) / 2))

    @property
    def near_far(self) -> tuple[float, float]:
        """Depth range that keeps the whole scene and its precision."""
        return max(self.distance * 0.02, 1e-6), self.distance * 12.0

    @cached_property
    def matrix(self) -> Floats:
        """(4, 4) world → clip, for column vectors."""
        near, far = self.near_far
        across, up = 2 * self.focal / max(self.width, 1), 2 * self.focal / max(self.height, 1)
        projection = np.array([
            [across, 0, 0, 0], [0, up, 0, 0],
            [0, 0, (far + near) / (near - far), 2 * far * near / (near - far)], [0, 0, -1, 0],
        ])  # fmt: skip
        view = np.eye(4)
        view[:3, :3] = self.rotation
        view[:3, 3] = -self.rotation @ self.eye
        return projection @ view

    def project(self, points: Floats) -> Floats:
        """(N, 3) pixels from the upper left, and depth along the view; NaN behind the eye."""
        local = (np.atleast_2d(points) - self.eye) @ self.rotation.T
        depth = -local[:, 2]
        f = self.focal
        with np.errstate(divide="ignore", invalid="ignore"):
            x = self.width / 2 + f * local[:, 0] / depth
            y = self.height / 2 - f * local[:, 1] / depth
        out = np.stack([x, y, depth], axis=1)
        out[depth <= 0] = np.nan
        return out

    def ray(self, x: float, y: float) -> tuple[Floats, Floats]:
        """Origin and unit direction through a pixel."""
        f = self.focal
        local = np.array([(x - self.width / 2) / f, -(y - self.height / 2) / f, -1.0])
        direction = self.rotation.T @ local
        return self.eye, direction / np.linalg.norm(direction)

    def pixel_size(self, depth: float) -> float:
        """Length of a pixel at a depth along the view."""
        return depth / self.focal

    def turned(self, dx: float, dy: float) -> FormCamera:
        """Turned by a drag in pixels."""
        pitch = float(np.clip(self.pitch + dy * 0.4, -89.0, 89.0))
        return replace(self, yaw=self.yaw - dx * 0.4, pitch=pitch)

    def shifted(self, dx: float, dy: float) -> FormCamera:
        """Shifted so that what is at the target's depth follows the pointer."""
        size = self.pixel_size(self.distance)
        right, up, _ = self.rotation
        return replace(self, target=self.target - right * dx * size + up * dy * size)

    def neared(self, steps: float, toward: Floats | None = None) -> FormCamera:
        """Nearer by wheel steps, at the place under the pointer where one is given."""
        low, high = min(NEAREST * self.size, self.distance), max(FARTHEST * self.size, self.distance)
        distance = float(np.clip(self.distance * 0.87 ** float(np.clip(steps, -100, 100)), low, high))
        target = self.target
        if toward is not None:
            target = toward + (self.target - toward) * (distance / self.distance)
        return replace(self, distance=distance, target=target)

    def framing(self, points: Floats, whole: bool = False) -> FormCamera:
        """Moved so that the points fill the view; `whole` where they are all there is."""
        if len(points) == 0:
            return self
        low, high = bounds(points)
        radius = max(float(np.linalg.norm(points - (low + high) / 2, axis=1).max()), 1e-6)
        distance = radius / np.sin(np.radians(self.opening) / 2) * 1.02
        return replace(self, target=(low + high) / 2, distance=distance, size=radius if whole else max(radius, self.size))


@dataclass(frozen=True, eq=False)
class FlatCamera:
    """Looks at the sheets: `centre` in sheet units, `scale` pixels a sheet unit upwards; `aspect` times as many across,
    as on a sheet that is not square."""

    centre: Floats
    scale: float
    width: int = 400
    height: int = 600
    aspect: float = 1.0

    @property
    def _per_unit(self) -> Floats:
        return np.array([self.scale * self.aspect, self.scale])

    @cached_property
    def matrix(self) -> Floats:
        """(4, 4) sheet → clip."""
        sx, sy = 2 * self._per_unit / [max(self.width, 1), max(self.height, 1)]
        out = np.eye(4)
        out[0, 0], out[0, 3] = sx, -self.centre[0] * sx
        out[1, 1], out[1, 3] = sy, -self.centre[1] * sy
        return out

    def project(self, uv: Floats) -> Floats:
        """(N, 2) pixels from the upper left."""
        at = (np.atleast_2d(uv)[:, :2] - self.centre) * self._per_unit
        return np.stack([self.width / 2 + at[:, 0], self.height / 2 - at[:, 1]], axis=1)

    def place(self, x: float, y: float) -> Floats:
        """(2,) sheet place under a pixel."""
        return np.asarray(self.centre + np.array([x - self.width / 2, self.height / 2 - y]) / self._per_unit)

    def shifted(self, dx: float, dy: float) -> FlatCamera:
        """Shifted with the pointer."""
        return replace(self, centre=self.centre + np.array([-dx, dy]) / self._per_unit)

    def neared(self, steps: float, x: float, y: float) -> FlatCamera:
        """Nearer at the pointer."""
        anchor = self.place(x, y)
        factor = 0.87**-steps
        scale = float(np.clip(self.scale * factor, 20.0, 200_000.0))
        return replace(self, scale=scale, centre=anchor + (self.centre - anchor) * (self.scale / scale))

    def framing(self, low: Floats, high: Floats) -> FlatCamera:
        """Moved so that a box fills the view."""
        span = np.maximum(high - low, 1e-6)
        scale = min(self.width / (span[0] * self.aspect), self.height / span[1]) * 0.82
        return replace(self, centre=(low + high) / 2, scale=float(np.clip(scale, 20.0, 200_000.0)))
