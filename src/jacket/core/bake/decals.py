"""Decals: pictures that lie on a surface as if pressed on from a frame in space.

A decal is a frame in space, not pixels: it stays as it is whatever becomes of the mesh, its islands and their sheets, and the
maps are made from it anew (laying.py). Points in front of and behind its plane take the picture straight through, or, with an
eye, along lines through that place, where nothing stands between.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from jacket.core.mesh.nodes import Place, as_place, moved_place
from jacket.core.mesh.polymesh import Floats

LAID = ("colour", "normal", "roughness", "metal", "opacity")
"""The maps that a decal can lie in."""


@dataclass(frozen=True)
class Decal:
    """A picture on a surface.

    role        the map it lies in;  path  of the picture
    place       (3,) the middle of its plane;  right, up  unit vectors across and up it, at a right angle
    width, height  in units; a width under nought mirrors the picture
    reach       how far in front of and behind its plane a surface takes it
    eye         how far above the plane the place stands that it is thrown from; 0 for straight through
    strength    how much of it shows, 0 to 1;  shown  whether it shows at all
    """

    id: int
    name: str
    path: str
    role: str
    place: Place
    right: Place
    up: Place
    width: float
    height: float
    reach: float
    eye: float = 0.0
    strength: float = 1.0
    shown: bool = True

    @property
    def axes(self) -> Floats:
        """(3, 3) rows: right, up, away from the surface."""
        return np.array([self.right, self.up, np.cross(self.right, self.up)])

    def moved(self, matrix: NDArray[np.float64]) -> Decal:
        """The same, moved by a (4, 4) matrix that turns, shifts, scales evenly and may mirror."""
        right, up = matrix[:3, :3] @ np.array(self.right), matrix[:3, :3] @ np.array(self.up)
        scale = float(np.linalg.norm(up))
        side = -1.0 if np.linalg.det(matrix[:3, :3]) < 0 else 1.0
        return replace(self, place=moved_place(self.place, matrix), right=as_place(side * right / scale), up=as_place(up / scale),
                       width=side * self.width * scale, height=self.height * scale, reach=self.reach * scale, eye=self.eye * scale)  # fmt: skip

    def at(self, points: Floats) -> Floats:
        """(N, 3) places on the picture of points (N, 3), both 0..1 from its lower left, and how far above the plane they lie."""
        x, y, z = ((np.atleast_2d(points) - np.array(self.place)) @ self.axes.T).T
        with np.errstate(divide="ignore", invalid="ignore"):
            times = self.eye / (self.eye - z) if self.eye > 0 else np.ones(len(z))
            return np.stack([x * times / self.width + 0.5, y * times / self.height + 0.5, z], axis=1)

    def corners(self) -> Floats:
        """(4, 3) of its plane, from the picture's lower left on."""
        across, up = np.array(self.right) * self.width / 2, np.array(self.up) * self.height / 2
        return np.array(self.place) + np.stack([-across - up, across - up, across + up, up - across])

    def turned(self, degrees: float) -> Decal:
        """Turned about its middle, counter-clockwise as one looks at it."""
        a = np.radians(degrees)
        right, up = np.array(self.right), np.array(self.up)
        return replace(self, right=as_place(np.cos(a) * right + np.sin(a) * up), up=as_place(np.cos(a) * up - np.sin(a) * right))

    def put(self, place: Floats, normal: Floats) -> Decal:
        """Laid elsewhere: its middle at a place, its plane across a unit normal, turned no further than that takes."""
        right, up = frame_across(normal, np.array(self.up), np.array(self.right))
        return replace(self, place=as_place(place), right=right, up=up)


def unit_vector(vector: Floats) -> Floats:
    """A vector (3,) at unit length; as it is where it has none."""
    return np.asarray(vector / max(float(np.linalg.norm(vector)), 1e-300))


def frame_across(normal: Floats, up: Floats, right: Floats) -> tuple[Place, Place]:
    """Right and up of a plane across a unit normal (3,), up as near to a wish as the plane has it; where the wish stands on the
    plane, right is."""
    lying = up - (up @ normal) * normal
    if np.linalg.norm(lying) < 1e-3:
        across = unit_vector(right - (right @ normal) * normal)
        return as_place(across), as_place(np.cross(normal, across))
    lying = unit_vector(lying)
    return as_place(np.cross(lying, normal)), as_place(lying)
