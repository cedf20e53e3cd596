"""Faces mapped by a projection, as a start: from a view, onto a plane, a box, a cylinder, a sphere."""

from __future__ import annotations

import numpy as np

from jacket.core.mesh.geometry import face_areas, face_centres, face_normals, unit
from jacket.core.mesh.polymesh import Bools, Floats, PolyMesh
from jacket.core.uv.sets import SLACK, apart_flags, cut_flags
from jacket.core.uv.sheets import Sheet
from jacket.errors import EditRefused

KINDS = (("view", "from this view"), ("plane", "a plane"), ("box", "a box"), ("cylinder", "a cylinder"), ("sphere", "a sphere"))


def projected(mesh: PolyMesh, faces: Bools, kind: str, sheet: Sheet, way: Floats | None = None) -> PolyMesh:
    """The mesh with the faces flagged (F,) mapped by a projection to the middle of a sheet, as large
    as it fits, and cut where the map ends. way (3, 3) rows right, up and towards the eye, for "view". Raises
    EditRefused where no face is flagged or there is no way.

    plane     along the mean normal of the faces;  box  each face onto the side that its normal is nearest to
    cylinder  round the upright axis through their middle, as wide as it is round at its mean radius
    sphere    by longitude and latitude round their middle (plate carrée; Snyder, Map Projections, 1987)
    """
    if not faces.any():
        raise EditRefused("Hold faces to project first.")
    corners = faces[mesh.face_of_corner]
    points = mesh.points[mesh.corners[corners]]
    owner = mesh.face_of_corner[corners]
    area = face_areas(mesh)[faces]
    middle = (face_centres(mesh)[faces] * area[:, None]).sum(axis=0) / max(float(area.sum()), 1e-300)
    out = points - middle
    sides = np.zeros(len(points), np.int64)
    if kind in ("view", "plane"):
        frame = way if kind == "view" else _frame((face_normals(mesh)[faces] * area[:, None]).sum(axis=0))
        if frame is None:
            raise EditRefused("These faces look every way alike; project them onto a box, or from a view.")
        flat = np.stack([out @ frame[0], out @ frame[1]], axis=1)
    elif kind == "box":
        flat, sides = _box(out, face_normals(mesh)[owner])
    elif kind in ("cylinder", "sphere"):
        flat = _round(out, face_centres(mesh)[owner] - middle, kind)
    else:
        raise ValueError(kind)
    for side in np.unique(sides).tolist():
        # Sides of a box lie beside each other.
        own = sides == side
        flat[own] -= flat[own].min(axis=0)
        flat[own, 0] += 1.05 * float(flat[sides < side, 0].max(initial=0.0))
    uv = mesh.uv.copy() if mesh.uv is not None else np.full((mesh.n_corners, 2), np.nan)
    span = np.maximum(np.ptp(flat, axis=0), 1e-300)
    fits = float((0.8 * sheet.size / span).min())
    uv[corners] = sheet.coordinates((flat - flat.min(axis=0) - span / 2) * fits + 0.5 * sheet.size)
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


def _round(out: Floats, centre: Floats, kind: str) -> Floats:
    """(N, 2) places by angle round the upright axis and by height or latitude. `centre` (N, 3) is the middle of each corner's
    face: angles are counted on from it, so that no face runs round the back."""
    radius = float(np.hypot(out[:, 0], out[:, 2]).mean())
    base = np.arctan2(centre[:, 0], centre[:, 2])
    away = np.arctan2(out[:, 0], out[:, 2]) - base
    away = (away + np.pi) % (2 * np.pi) - np.pi
    pole = np.hypot(out[:, 0], out[:, 2]) < 1e-9 * max(float(np.abs(out).max()), 1e-300)
    angle = base + np.where(pole, 0.0, away)
    if kind == "cylinder":
        return np.stack([radius * angle, out[:, 1]], axis=1)
    ball = float(np.linalg.norm(out, axis=1).mean())
    direction = unit(out)
    return np.stack([ball * angle, ball * np.arcsin(np.clip(direction[:, 1], -1, 1))], axis=1)

