"""Faces mapped by a projection, as a start: from a view, onto a plane, a box, a cylinder, a sphere."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jacket.core.mesh.geometry import face_areas, face_centres, face_normals, unit
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.uv.sets import SLACK, apart_flags, cut_flags
from jacket.core.uv.sheets import Sheet
from jacket.errors import EditRefused

KINDS = (("view", "from this view"), ("plane", "a plane"), ("box", "a box"), ("cylinder", "a cylinder"), ("sphere", "a sphere"))


@dataclass(frozen=True, eq=False)
class Caster:
    """What faces are projected from: its middle (3,), and its frame (3, 3), rows right, up and out: a plane lies across its
    out, a cylinder and a ball stand on their up and are cut opposite their out."""

    middle: Floats
    frame: Floats

    def local(self, points: Floats) -> Floats:
        """(N, 3) points in the frame."""
        return np.asarray((points - self.middle) @ self.frame.T)

    def turned(self, way: Floats, which: int) -> Caster:
        """With a row of the frame (0 right, 1 up, 2 out) along a direction (3,), turned no further than that takes."""
        length = float(np.linalg.norm(way))
        if length < 1e-12:
            return self
        old, new = self.frame[which], way / length
        axis, cosine = np.cross(old, new), float(np.clip(old @ new, -1, 1))
        if cosine < -1 + 1e-9:
            axis, cosine = self.frame[(which + 1) % 3], -1.0
            return Caster(self.middle, 2 * np.outer(self.frame @ axis, axis) - self.frame)
        # Rodrigues' formula for the shortest turn from one to the other.
        k = np.array([[0, -axis[2], axis[1]], [axis[2], 0, -axis[0]], [-axis[1], axis[0], 0]])
        turn = np.eye(3) + k + k @ k / (1 + cosine)
        return Caster(self.middle, self.frame @ turn.T)


def fitted_caster(mesh: PolyMesh, faces: Bools, kind: str, way: Floats | None = None) -> Caster:
    """What fits the faces flagged (F,). Raises EditRefused where no face is flagged or there is no way.

    view      as somebody looks: rows right, up and towards the eye in `way` (3, 3)
    plane     across the mean normal of the faces
    cylinder  along the direction that their normals have least of: that of a cylinder they lie on
    box, sphere  upright
    """
    if not faces.any():
        raise EditRefused("Hold faces to project first.")
    area, normals, centres = face_areas(mesh), face_normals(mesh), face_centres(mesh)
    if not faces.all():
        area, normals, centres = area[faces], normals[faces], centres[faces]
    middle = area @ centres / max(float(area.sum()), 1e-300)
    frame: Floats | None = np.eye(3)
    if kind in ("view", "plane"):
        frame = way if kind == "view" else _frame(area @ normals)
        if frame is None:
            raise EditRefused("These faces look every way alike; project them onto a box, or from a view.")
    elif kind == "cylinder":
        spread, axes = np.linalg.eigh(normals.T @ (normals * area[:, None]))
        up = axes[:, 0] * (1.0 if axes[:, 0][int(np.argmax(np.abs(axes[:, 0])))] > 0 else -1.0)
        # Upright where nothing speaks for another way.
        frame = np.eye(3) if spread[0] > 0.6 * spread[1] or up[1] > 1 - 1e-6 else Caster(middle, np.eye(3)).turned(up, 1).frame
    elif kind not in ("box", "sphere"):
        raise ValueError(kind)
    assert frame is not None
    return Caster(middle, frame)


def projected(mesh: PolyMesh, faces: Bools, kind: str, sheet: Sheet, way: Floats | None = None, caster: Caster | None = None) -> PolyMesh:
    """The mesh with the faces flagged (F,) mapped by a projection to the middle of a sheet, as large
    as it fits, and cut where the map ends; from a `caster`, or from one that fits (`fitted_caster`, which also says what it
    refuses).

    box       each face onto the side that its normal is nearest to
    cylinder  round its axis, as wide as it is round at its mean radius
    sphere    by longitude and latitude (plate carrée; Snyder, Map Projections, 1987)
    """
    if caster is None:
        caster = fitted_caster(mesh, faces, kind, way)
    elif not faces.any():
        raise EditRefused("Hold faces to project first.")
    # Taking all of a table is free, choosing from it is not.
    corners: Bools | slice = slice(None) if faces.all() else faces[mesh.face_of_corner]
    owner, at = mesh.face_of_corner[corners], mesh.corners[corners]
    local = caster.local(mesh.points)
    sides = np.zeros(len(at), np.int64)
    if kind in ("view", "plane"):
        flat = local[:, :2][at]
    elif kind == "box":
        flat, sides = _box(local[at], (face_normals(mesh) @ caster.frame.T)[owner])
    elif kind in ("cylinder", "sphere"):
        flat = _round(local, caster.local(face_centres(mesh)), at, owner, kind)
    else:
        raise ValueError(kind)
    for side in np.unique(sides).tolist() if kind == "box" else ():
        # Sides of a box lie beside each other.
        own = sides == side
        flat[own] -= flat[own].min(axis=0)
        flat[own, 0] += 1.05 * float(flat[sides < side, 0].max(initial=0.0))
    # Column by column: NumPy is ten times as slow across the rows of long tables.
    low, high = (np.array([f(flat[:, 0]), f(flat[:, 1])]) for f in (np.min, np.max))
    uv = mesh.uv.copy() if mesh.uv is not None else np.full((mesh.n_corners, 2), np.nan)
    span = np.maximum(high - low, 1e-300)
    fits = float((0.8 * sheet.size / span).min())
    uv[corners] = sheet.coordinates((flat - low - span / 2) * fits + 0.5 * sheet.size)
    new = mesh.with_uv(uv)
    ends = mesh.topology
    flags = cut_flags(mesh)
    touched = np.zeros(ends.n_edges, bool)
    touched[ends.edge[corners]] = True
    # Inside what was projected the map says where it is cut; at its rim it ends.
    flags = np.where(touched, apart_flags(new, uv, max(SLACK, 1e-9)), flags)
    return new.with_cuts(ends.edge_points[flags & (ends.edge_uses > 1)])


def _frame(normal: Floats) -> Floats | None:
    """Rows right, up and out for a normal; up as upright as it can be; None for no direction."""
    length = float(np.linalg.norm(normal))
    if length < 1e-9:
        return None
    out = normal / length
    up = np.array([0.0, 1, 0]) if abs(out[1]) < 0.9 else np.array([0.0, 0, -1.0])
    right = np.cross(up, out)
    right /= np.linalg.norm(right)
    return np.stack([right, np.cross(out, right), out])


def _box(out: Floats, normals: Floats) -> tuple[Floats, np.ndarray]:
    """(N, 2) places on the six sides, side by side, and (N,) the side of each."""
    axis = np.argmax(np.abs(normals), axis=1)
    sign = np.sign(np.take_along_axis(normals, axis[:, None], 1)[:, 0])
    sides = 2 * axis + (sign < 0)
    flat = np.zeros((len(out), 2))
    for side in np.unique(sides).tolist():
        direction = np.zeros(3)
        direction[side // 2] = -1.0 if side % 2 else 1.0
        frame = _frame(direction)
        assert frame is not None
        own = sides == side
        flat[own] = np.stack([out[own] @ frame[0], out[own] @ frame[1]], axis=1)
    return flat, sides


def _round(points: Floats, centres: Floats, at: Ints, owner: Ints, kind: str) -> Floats:
    """(N, 2) places by angle round the upright axis and by height or latitude, for corners (N,) at points of faces. Angles are
    counted on from that of the face's middle, so that no face runs round the back."""
    around = np.hypot(points[:, 0], points[:, 2])
    radius = float(around[at].mean())
    base = np.arctan2(centres[:, 0], centres[:, 2])[owner]
    away = np.arctan2(points[:, 0], points[:, 2])[at] - base
    away -= 2 * np.pi * np.floor(away / (2 * np.pi) + 0.5)
    pole = around < 1e-9 * max(float(np.abs(points).max()), 1e-300)
    angle = base + (np.where(pole[at], 0.0, away) if pole.any() else away)
    if kind == "cylinder":
        return np.stack([radius * angle, points[at, 1]], axis=1)
    ball = float(np.linalg.norm(points, axis=1)[at].mean())
    return np.stack([ball * angle, ball * np.arcsin(np.clip(unit(points)[:, 1], -1, 1))[at]], axis=1)
