"""What stands about a mesh without being of it: its pivot, and empty nodes where a game hangs things (sockets)."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from jacket.core.mesh.geometry import face_normals
from jacket.core.mesh.polymesh import Floats, PolyMesh

Place = tuple[float, float, float]
ORIGIN: Place = (0.0, 0.0, 0.0)


@dataclass(frozen=True)
class Socket:
    """An empty node by its name: where it is, and the unit vector (3,) its z axis points along."""

    name: str
    place: Place
    towards: Place = (0.0, 0.0, 1.0)

    def moved(self, matrix: NDArray[np.float64]) -> Socket:
        """The same, moved by a (4, 4) matrix that turns, shifts and scales evenly."""
        along = matrix[:3, :3] @ np.array(self.towards)
        return replace(self, place=moved_place(self.place, matrix), towards=as_place(along / max(float(np.linalg.norm(along)), 1e-300)))

    def quaternion(self) -> tuple[float, float, float, float]:
        """The shortest turn from the z axis to where it points, (x, y, z, w) of unit length."""
        x, y, z = self.towards
        if z < -1.0 + 1e-12:
            return (1.0, 0.0, 0.0, 0.0)  # any half turn across the axis
        q = np.array([-y, x, 0.0, 1.0 + z])
        q /= np.linalg.norm(q)
        return (float(q[0]), float(q[1]), 0.0, float(q[3]))


@dataclass(frozen=True)
class Nodes:
    """The pivot of a mesh, and its sockets."""

    pivot: Place = ORIGIN
    sockets: tuple[Socket, ...] = ()

    def moved(self, matrix: NDArray[np.float64]) -> Nodes:
        """The same, moved by a (4, 4) matrix; a pivot at the origin stays there."""
        pivot = self.pivot if self.pivot == ORIGIN else moved_place(self.pivot, matrix)
        return Nodes(pivot, tuple(s.moved(matrix) for s in self.sockets))


BARE = Nodes()


def as_place(values: Floats) -> Place:
    """Three numbers of an array (3,) as a place."""
    return float(values[0]), float(values[1]), float(values[2])


def moved_place(place: Place, matrix: NDArray[np.float64]) -> Place:
    """A place moved by a (4, 4) matrix."""
    return as_place(matrix[:3, :3] @ np.array(place) + matrix[:3, 3])


def middle_of(mesh: PolyMesh) -> Place:
    """The middle of the box around a mesh."""
    return as_place(mesh.middle)


def base_of(mesh: PolyMesh) -> Place:
    """Under the middle of a mesh, at its lowest height (Y up)."""
    x, _, z = middle_of(mesh)
    return x, float(mesh.points[:, 1].min()), z


def place_of(mesh: PolyMesh, points: NDArray[np.signedinteger]) -> Place:
    """The mean of some points."""
    return as_place(mesh.points[points].mean(axis=0))


def socket_at(mesh: PolyMesh, name: str, points: NDArray[np.signedinteger]) -> Socket:
    """A socket at the mean of some points, pointing the way that the faces around them face on average."""
    inside = np.zeros(mesh.n_points, bool)
    inside[points] = True
    whole = np.minimum.reduceat(inside[mesh.corners], mesh.starts[:-1]) if mesh.n_faces else np.zeros(0, bool)
    some = whole if whole.any() else np.maximum.reduceat(inside[mesh.corners], mesh.starts[:-1])
    along = face_normals(mesh)[some].sum(axis=0)
    long = float(np.linalg.norm(along))
    return Socket(name, place_of(mesh, points), as_place(along / long) if long > 1e-12 else (0.0, 0.0, 1.0))
