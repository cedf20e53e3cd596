"""What is drawn, as arrays: no OpenGL here, so scenes can be made and tested anywhere."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from jacket.core.derive import normals_of
from jacket.core.jit import kernel
from jacket.core.mesh.polymesh import PolyMesh
from jacket.render.skins import Lamps, Skin
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
class Board:
    """Squares over mapped faces: `squares` up a sheet and `across` times as many along it, in a colour for each sheet or not; or
    `pixels` (H, W, 3) in their place, the upper row first, with a `share` of their own and so much `light`."""

    squares: float
    across: float = 1.0
    by_sheet: bool = False
    pixels: NDArray[np.uint8] | None = None
    share: float = 1.0
    light: float = 1.0


@dataclass(frozen=True, eq=False)
class Layer:
    """Triangles, lines and dots that share a pull towards the eye.

    `push` lays faces so far out along their normals, as what lies on a surface; lines and dots are given where they go.
    fill (3T, 15), lines (S, 11), dots (K, 8); `stitch` breaks the lines into dashes of about that
    many pixels; `wire` colours the edges of faces where its last part is over 0; `board` lies over mapped faces; `shut`
    leaves out faces turned away, which something in front hides anyway.
    """

    fill: Array = field(default_factory=lambda: _none(FILL_WIDTH))
    lines: Array = field(default_factory=lambda: _none(LINE_WIDTH))
    dots: Array = field(default_factory=lambda: _none(DOT_WIDTH))
    pull: float = 0.0
    push: float = 0.0
    stitch: float = 0.0
    board: Board | None = None
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
    beside: tuple[Layer, ...] = ()
    """Where there are any, these are drawn in the right half of the view and `layers` in the left."""
    ground: tuple[float, float, float] = (0.44, 0.48, 0.52)
    through: bool = False
    """Whether layers are seen through the base."""
    look: Look = field(default_factory=Look)
    skins: tuple[Skin, ...] = ()
    """Drawn in place of the base in the left part of the view, up to `wipe` of its width."""
    lamps: Lamps | None = None
    wipe: float = 1.0
    apart: bool = False
    """Whether skins stand in the left half of the view and the base in the right one, each whole, in place of the wipe."""
    mip: int = 0


def fill_rows(
    mesh: PolyMesh, colours: NDArray[np.float64], places: NDArray[np.float64] | None = None,
    faces: NDArray[np.bool_] | None = None,
) -> Array:  # fmt: skip
    """(3T, 15) rows of a mesh's triangles. colours (F, 4) a face or (4,); places (C, 3) draws the
    corners elsewhere (on the sheet); faces (F,) keeps only some."""
    tri, face = mesh.triangles, mesh.triangle_faces
    if faces is not None:
        keep = np.flatnonzero(faces[face])
        tri, face = tri[keep], face[keep]
    uv = mesh.uv
    following = mesh.topology.next if len(tri) else np.zeros(0, np.int32)
    normals = normals_of(mesh) if places is None and len(tri) else np.zeros((0, 3))
    return _filled(
        tri, face, mesh.corners, mesh.points if places is None else places, normals, places is None,
        np.atleast_2d(np.asarray(colours, np.float64)), np.zeros((0, 2)) if uv is None else uv, following,
    )  # fmt: skip


@kernel
def _filled(tri, face, corners, points, normals, in_space, colours, uv, following):
    out = np.empty((3 * len(tri), 15), np.float32)
    for t in range(len(tri)):
        tint = face[t] if len(colours) > 1 else 0
        for k in range(3):
            c, row = tri[t, k], 3 * t + k
            if in_space:
                p = corners[c]
                for d in range(3):
                    out[row, d] = points[p, d]
                    out[row, 3 + d] = normals[p, d]
            else:
                for d in range(3):
                    out[row, d] = points[c, d] if d < points.shape[1] else 0.0
                    out[row, 3 + d] = 1.0 if d == 2 else 0.0
            for d in range(4):
                out[row, 6 + d] = colours[tint, d]
            for d in range(2):
                value = -1e6
                if len(uv) > 0 and not np.isnan(uv[c, d]):
                    value = uv[c, d]
                out[row, 10 + d] = value
        # Barycentric places of the corners, lifted by one opposite the diagonals inside faces, so that the shader can
        # find the distance to the nearest true edge (Bærentzen et al., "Single-pass wireframe rendering", 2006).
        for k in range(3):
            inside = following[tri[t, (k + 1) % 3]] != tri[t, (k + 2) % 3]
            for corner in range(3):
                out[3 * t + corner, 12 + k] = (1.0 if corner == k else 0.0) + (1.0 if inside else 0.0)
    return out


def line_rows(
    segments: NDArray[np.float64], colour: tuple[float, ...], width: float | NDArray[np.float64]
) -> Array:
    """(S, 11) rows of segments (S, 2, 2 or 3); width in pixels, one for all or (S,)."""
    out = np.zeros((len(segments), LINE_WIDTH), np.float32)
    size = segments.shape[2] if len(segments) else 3
    out[:, :size] = segments[:, 0] if len(segments) else 0
    out[:, 3 : 3 + size] = segments[:, 1] if len(segments) else 0
    out[:, 6:10] = colour
    out[:, 10] = width
    return out


def dot_rows(points: NDArray[np.float64], colour: tuple[float, ...], size: float | NDArray[np.floating]) -> Array:
    """(K, 8) rows of round dots of a size in pixels, one for all or (K,)."""
    out = np.zeros((len(points), DOT_WIDTH), np.float32)
    if len(points):
        out[:, : points.shape[1]] = points
    out[:, 3:7] = colour
    out[:, 7] = size
    return out
