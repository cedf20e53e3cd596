"""Flat parts: the islands of a jacket as a mesh that lies flat, and what was made over them wrapped round the form again.

The flat parts lie in the plane z = 0 as they lie on the sheet, as large on average as on the form, so that what one builds on
them (stitches, letters, straps) keeps its size when it goes round.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jacket.core.mesh.diagonals import short_diagonals
from jacket.core.mesh.geometry import unit
from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.core.mesh.shading import place_normals
from jacket.core.space.bvh import Bvh
from jacket.core.uv.islands import Islands
from jacket.core.uv.sets import flat_points
from jacket.core.uv.sheets import ONE_SHEET, Sheets
from jacket.errors import EditRefused

ASTRAY = 0.05
"""How far off all islands a point may lie and still go round, in sizes of the flat parts: past a seam things hang over."""


def _flat_places(islands: Islands) -> Floats:
    """(C, 2) where corners lie in the plane, in units of the form; NaN where they are not mapped. Raises EditRefused where nothing
    is mapped."""
    pixels, surface = float(islands.pixel_area.sum()), float(islands.surface_area[islands.pixel_area > 0].sum())
    if not pixels > 0 or not surface > 0:
        raise EditRefused("Nothing lies on the sheet yet; flatten the layer first.")
    return np.asarray(islands.places * np.sqrt(surface / pixels))


def flat_parts(mesh: PolyMesh, sheets: Sheets = ONE_SHEET) -> PolyMesh:
    """The mapped islands as a mesh that lies flat, its UVs, materials and names of islands kept."""
    islands = Islands.of(mesh, sheets)
    places, (fans, first) = _flat_places(islands), flat_points(mesh)
    points = np.column_stack([places[first], np.zeros(len(first))])
    keep = islands.mapped[islands.labels]
    corners = keep[mesh.face_of_corner]
    used, number = np.unique(fans[corners], return_inverse=True)
    starts = np.concatenate([[0], np.cumsum(mesh.sizes[keep])]).astype(np.int32)
    return PolyMesh(
        points[used], number.astype(np.int32), starts, {}, {k: v[keep].copy() for k, v in mesh.face_data.items()},
        {k: v[corners].copy() for k, v in mesh.corner_data.items()}, {}, mesh.uv_sets, mesh.active_uv, mesh.materials, mesh.groups,
    )  # fmt: skip


@dataclass(frozen=True, eq=False)
class Wrapped:
    """(N, 3) where points come to lie, and (N,) how far each lay off all islands, in units."""

    points: Floats
    off: Floats


def wrapped(points: Floats, onto: PolyMesh, sheets: Sheets = ONE_SHEET) -> Wrapped:
    """Points (N, 3) over the flat parts of a mesh, laid round it: x and y say where, z how far out along its smooth normals. Past
    the edge of an island they go on as its outermost triangle does. Raises EditRefused where many lie nowhere near an island."""
    islands = Islands.of(onto, sheets)
    places = _flat_places(islands)
    triangles = short_diagonals(onto)
    triangles = triangles[np.isfinite(places[triangles]).all(axis=(1, 2))]
    flat = np.column_stack([np.nan_to_num(places), np.zeros(onto.n_corners)])
    ground = np.column_stack([points[:, :2], np.zeros(len(points))])
    _, which, off = Bvh.build(flat, triangles).closest(ground)
    size = float(np.linalg.norm(np.ptp(flat[triangles.ravel()], axis=0)))
    astray = int((off > ASTRAY * size).sum())
    if astray > 0.02 * len(points):
        raise EditRefused(f"{astray:,} of {len(points):,} points lie over no island; lay the part over the flat parts first (x and y as they lie, z up).")
    corners = triangles[which]
    a, b, c = (flat[corners[:, k], :2] for k in range(3))
    e, f, d = b - a, c - a, points[:, :2] - a
    det = e[:, 0] * f[:, 1] - e[:, 1] * f[:, 0]
    det = np.where(np.abs(det) > 1e-300, det, 1e-300)
    v, w = (d[:, 0] * f[:, 1] - d[:, 1] * f[:, 0]) / det, (e[:, 0] * d[:, 1] - e[:, 1] * d[:, 0]) / det
    shares = np.stack([1 - v - w, v, w], axis=1)
    ids = onto.corners[corners]
    normals = unit(np.einsum("nk,nkd->nd", shares, place_normals(onto)[ids]))
    # Islands that lie mirrored on the sheet are seen from behind there: up is still away from the form.
    return Wrapped(np.einsum("nk,nkd->nd", shares, onto.points[ids]) + points[:, 2:] * normals, off)
