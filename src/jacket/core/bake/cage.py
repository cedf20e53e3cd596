"""The cage: where rays start and which way they go, for every corner of a jacket's triangles."""

from __future__ import annotations

import numpy as np

from jacket.core.bake.cast import Target
from jacket.core.bake.tangents import tangents
from jacket.core.bake.texels import border_sides, neighbours, texel_places
from jacket.core.mesh.diagonals import short_diagonals
from jacket.core.mesh.geometry import face_normals, unit
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.mesh.shading import corner_normals, place_normals
from jacket.core.space.bvh import Bvh
from jacket.core.space.sample import sample_surface
from jacket.core.uv.sheets import Sheet

REACH = "cage"
"""Channel of points: by how much the cage reaches further there, 1 where it is not painted."""
STRAIGHT = "straight"
"""Channel of points: how much rays follow the faces there and not the averaged normals, 0 to 1."""
SAMPLES = 4000
LEAST, MOST = 0.005, 0.08
"""Bounds of the reach that is found by itself, in diagonals of the jacket."""


def found_reach(mesh: PolyMesh, *surfaces: Bvh) -> float:
    """How far a cage reaches by itself: half more than the largest gap between the jacket and what its own places find
    nearest on any of the surfaces, within bounds."""
    size = mesh.diagonal
    places = np.concatenate([mesh.points, sample_surface(mesh.points, mesh.triangle_points, SAMPLES)])
    gaps = np.min([s.closest(places)[2] for s in surfaces], axis=0)
    return float(np.clip(1.5 * np.percentile(gaps, 99.9), LEAST * size, MOST * size))


def cage_ways(mesh: PolyMesh) -> Floats:
    """(C, 3) unit directions of rays at corners: the normal averaged at each place, turned towards the normals of the faces
    where that is painted."""
    ways = place_normals(mesh)[mesh.corners]
    straight = mesh.point_data.get(STRAIGHT)
    if straight is not None and np.any(straight):
        share = np.clip(np.asarray(straight, np.float64)[mesh.corners], 0, 1)[:, None]
        ways = unit((1 - share) * ways + share * face_normals(mesh)[mesh.face_of_corner])
    return ways


def target_of(mesh: PolyMesh, sheet: Sheet, size: tuple[int, int], reach: float, back: float = 0.0) -> Target:
    """The triangles of a jacket on one sheet of (width, height) texels; those on other sheets are left out. reach and back
    are how far outwards and inwards (0 for as far as outwards)."""
    triangles = on_sheet(mesh, short_diagonals(mesh), sheet)
    normals = corner_normals(mesh)
    uv = mesh.uv if mesh.uv is not None else np.full((mesh.n_corners, 2), np.nan)
    places = mesh.points[mesh.corners]
    frame = tangents(places, normals, uv, triangles)
    factor = np.asarray(mesh.point_data.get(REACH, np.ones(mesh.n_points)), np.float64)[mesh.corners]
    far = np.stack([factor * reach, factor * (back or reach)], axis=1)
    sides = border_sides(uv, triangles)
    return Target(
        texel_places(mesh, triangles, sheet.origin, np.array(size, float)),
        np.column_stack([sides, neighbours(mesh.corners[triangles], sides)]).astype(np.int32), places[triangles],
        cage_ways(mesh)[triangles], np.stack([frame[:, :, :3], normals[triangles]], axis=2),
        np.ascontiguousarray(frame[:, 0, 3]), far[triangles],
    )  # fmt: skip


def on_sheet(mesh: PolyMesh, triangles: Ints, sheet: Sheet) -> Ints:
    """The triangles (T, 3) whose middles lie on a sheet."""
    if mesh.uv is None:
        return triangles[:0]
    with np.errstate(invalid="ignore"):
        middle = mesh.uv[triangles].mean(axis=1) - sheet.origin
        inside = ((middle >= 0) & (middle <= 1)).all(axis=1)
    return triangles[inside]


def joined_targets(targets: list[Target]) -> Target:
    """Several jackets on one sheet."""
    starts = np.cumsum([0] + [len(t.at) for t in targets])
    sides = [np.stack([t.sides[:, 0] + s, t.sides[:, 1], np.where(t.sides[:, 2] >= 0, t.sides[:, 2] + s, -1)], axis=1).astype(np.int32)
             for t, s in zip(targets, starts, strict=False)]  # fmt: skip
    return Target(
        np.concatenate([t.at for t in targets]), np.concatenate(sides), np.concatenate([t.places for t in targets]),
        np.concatenate([t.ways for t in targets]), np.concatenate([t.frames for t in targets]),
        np.concatenate([t.signs for t in targets]), np.concatenate([t.reach for t in targets]),
    )  # fmt: skip
