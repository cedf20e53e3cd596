"""What is drawn, as arrays: no OpenGL here, so scenes can be made and tested anywhere."""

from __future__ import annotations

from dataclasses import dataclass, field
from weakref import WeakKeyDictionary

import numpy as np
from numpy.typing import NDArray

from jacket.core.mesh.connectivity import Connectivity
from jacket.core.mesh.geometry import point_normals
from jacket.core.mesh.polymesh import PolyMesh
from jacket.render.surfaces import Look, Surface

Array = NDArray[np.float32]

FILL_WIDTH = 15
"""position 3, normal 3, colour 4, uv 2, share of each corner 3 (over 1 opposite a hidden edge)"""
LINE_WIDTH = 11
"""from 3, to 3, colour 4, width 1"""
DOT_WIDTH = 8
"""position 3, colour 4, size 1"""


def _none(width: int) -> Array:
    return np.zeros((0, width), np.float32)


@dataclass(frozen=True, eq=False)
class Layer:
    """Triangles, lines and dots that share a pull towards the eye.

    fill (3T, 15), lines (S, 11), dots (K, 8); `stitch` breaks the lines into dashes of about that
    many pixels; `wire` colours the edges of faces where its last part is over 0; `checker` > 0 draws squares of 1 / checker sheet units over mapped faces; `shut`
    leaves out faces turned away, which something in front hides anyway.
    """

    fill: Array = field(default_factory=lambda: _none(FILL_WIDTH))
    lines: Array = field(default_factory=lambda: _none(LINE_WIDTH))
    dots: Array = field(default_factory=lambda: _none(DOT_WIDTH))
    pull: float = 0.0
    stitch: float = 0.0
    checker: float = 0.0
    wire: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 0.0)
    lit: bool = True
    shut: bool = False


@dataclass(frozen=True, eq=False)
class Scene:
    """`base` is kept as a picture while camera, base and look stay the same, and drawn piece by piece where it
    is heavy; one of `lights`, copies from light to less light, is drawn in its place while the view moves
    and until the base is done; `layers` are drawn over it each time."""

    base: tuple[Surface, ...] = ()
    lights: tuple[tuple[Surface, ...], ...] = ()
    layers: tuple[Layer, ...] = ()
    ground: tuple[float, float, float] = (0.44, 0.48, 0.52)
    through: bool = False
    """Whether layers are seen through the base."""
    look: Look = field(default_factory=Look)


def fill_rows(
    mesh: PolyMesh, colours: NDArray[np.float64], places: NDArray[np.float64] | None = None,
    faces: NDArray[np.bool_] | None = None,
) -> Array:  # fmt: skip
    """(3T, 15) rows of a mesh's triangles. colours (F, 4) a face or (4,); places (C, 3) draws the
    corners elsewhere (on the sheet); faces (F,) keeps only some."""
    tri, face = mesh.triangles, mesh.triangle_faces
    if faces is not None:
        keep = faces[face]
        tri, face = tri[keep], face[keep]
    point, shares = _fixed_parts(mesh) if faces is None else (mesh.corners[tri.ravel()], _corner_shares(mesh, tri))
    corner = tri.ravel()
    out = np.empty((len(corner), FILL_WIDTH), np.float32)
    if places is None:
        out[:, :3] = mesh.points.astype(np.float32)[point]
        out[:, 3:6] = point_normals(mesh).astype(np.float32)[point]
    else:
        out[:, :3] = places[corner]
        out[:, 3:5] = 0.0
        out[:, 5] = 1.0
    out[:, 6:10] = colours if np.ndim(colours) == 1 else np.repeat(colours.astype(np.float32)[face], 3, axis=0)
    uv = mesh.uv
    out[:, 10:12] = -1e6 if uv is None else np.nan_to_num(uv[corner], nan=-1e6)
    out[:, 12:] = shares
    return out


_parts: WeakKeyDictionary[Connectivity, tuple[NDArray[np.signedinteger], Array]] = WeakKeyDictionary()


def _fixed_parts(mesh: PolyMesh) -> tuple[NDArray[np.signedinteger], Array]:
    """Points and shares of all triangle corners; the same for as long as faces stay, however points move."""
    if mesh.topology not in _parts:
        _parts[mesh.topology] = mesh.corners[mesh.triangles.ravel()], _corner_shares(mesh, mesh.triangles)
    return _parts[mesh.topology]


def _corner_shares(mesh: PolyMesh, tri: NDArray[np.signedinteger]) -> Array:
    """Barycentric places of the corners, lifted by one opposite the diagonals inside faces, so that
    the shader can find the distance to the nearest true edge (Bærentzen et al., "Single-pass
    wireframe rendering", 2006)."""
    out = np.tile(np.eye(3, dtype=np.float32), (len(tri), 1, 1))
    following = mesh.topology.next if len(tri) else np.zeros(0, np.int32)
    for k in range(3):
        a, b = tri[:, (k + 1) % 3], tri[:, (k + 2) % 3]
        inside = following[a] != b
        out[inside, :, k] += 1.0
    return out.reshape(-1, 3)


def line_rows(segments: NDArray[np.float64], colour: tuple[float, ...], width: float) -> Array:
    """(S, 11) rows of segments (S, 2, 2 or 3)."""
    out = np.zeros((len(segments), LINE_WIDTH), np.float32)
    size = segments.shape[2] if len(segments) else 3
    out[:, :size] = segments[:, 0] if len(segments) else 0
    out[:, 3 : 3 + size] = segments[:, 1] if len(segments) else 0
    out[:, 6:10] = colour
    out[:, 10] = width
    return out


def dot_rows(points: NDArray[np.float64], colour: tuple[float, ...], size: float) -> Array:
    """(K, 8) rows of round dots."""
    out = np.zeros((len(points), DOT_WIDTH), np.float32)
    if len(points):
        out[:, : points.shape[1]] = points
    out[:, 3:7] = colour
    out[:, 7] = size
    return out
