"""Checks of a delivery against what its receiver takes: limits, shading, what was baked."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from jacket.core.checks.model import Check
from jacket.core.mesh.geometry import dihedral_angles
from jacket.core.mesh.polymesh import Bools, Ints, PolyMesh
from jacket.core.mesh.shading import hard_edges
from jacket.core.uv.islands import Islands, texel_densities
from jacket.core.uv.sheets import ONE_SHEET, Sheets

SQUARE = 85.0
"""Degrees from which on an edge is taken for a corner that soft shading smears (common practice: hard, or supported)."""


def limit_checks(mesh: PolyMesh, sheets: Sheets, triangles: int, islands: int, most_sheets: int, density: float) -> list[Check]:
    """What a receiver takes at most, and pixels a unit that it wants at least; 0 for no limit, which is no check."""
    out = []
    count = int((mesh.sizes - 2).sum())
    if triangles:
        out.append(Check("most-triangles", "Triangles", f"{count:,} of {triangles:,}", "good" if count <= triangles else "wrong", number=count))
    found = Islands.of(mesh, sheets)
    if islands:
        n = int(found.count)
        out.append(Check("most-islands", "Islands", f"{n:,} of {islands:,}", "good" if n <= islands else "wrong", number=n))
    if most_sheets:
        n = len(sheets)
        out.append(Check("most-sheets", "Sheets", f"{n} of {most_sheets}", "good" if n <= most_sheets else "wrong", number=n))
    if density:
        low = texel_densities(found)
        bad = np.flatnonzero(np.isfinite(low) & (low < density)).astype(np.int32)
        out.append(Check("least-density", f"Below {density:g} px a unit", f"{len(bad):,} faces", "wrong" if len(bad) else "good", "faces", bad, len(bad)))
    return out


def shading_checks(mesh: PolyMesh, sheets: Sheets = ONE_SHEET) -> list[Check]:
    """Hard edges inside an island, where normal maps break without a seam to hide it; and soft edges on corners of about a
    right angle without a row of support beside them (both common practice)."""
    if mesh.n_faces == 0:
        return []
    inside = hard_inside(mesh, sheets)
    out = [_edges("hard-inside", "Hard inside islands", inside, "look")]
    return [*out, _edges("soft-corners", "Soft square corners", soft_corners(mesh), "look")]


def _edges(key: str, label: str, flags: Bools, level: str) -> Check:
    ids = np.flatnonzero(flags).astype(np.int32)
    return Check(key, label, f"{len(ids):,} edges", level if len(ids) else "good", "edges", ids, len(ids))  # type: ignore[arg-type]


def hard_inside(mesh: PolyMesh, sheets: Sheets = ONE_SHEET) -> Bools:
    """(E,) hard edges that no border of an island runs along."""
    topology = mesh.topology
    border = np.zeros(topology.n_edges, bool)
    if mesh.uv is not None:
        border[topology.edge[Islands.of(mesh, sheets).border_corners]] = True
    return hard_edges(mesh) & (topology.edge_uses == 2) & ~border


def soft_corners(mesh: PolyMesh) -> Bools:
    """(E,) soft edges of about a right angle whose neighbours across both faces lie far away: nothing supports the shading."""
    topology, angles = mesh.topology, dihedral_angles(mesh)
    square = (angles > SQUARE) & (topology.edge_uses == 2) & ~hard_edges(mesh)
    if not square.any():
        return square
    p = mesh.points[topology.edge_points]
    length = np.linalg.norm(p[:, 0] - p[:, 1], axis=1)
    a = topology.edge_corner
    b = np.maximum(topology.twin[a], 0)
    # How wide the faces on both sides are: the way along their other edges from this one.
    wide = [length[topology.edge[topology.next[c]]] for c in (a, b)]
    supported = np.minimum(*wide) < 0.25 * length
    # A row that is much narrower than the one beyond it supports too, however short the pieces it is cut into.
    for c, near in zip((a, b), wide, strict=True):
        over = topology.twin[topology.next[topology.next[c]]]
        beyond = length[topology.edge[topology.next[np.maximum(over, 0)]]]
        quad = (mesh.sizes[mesh.face_of_corner[c]] == 4) & (over >= 0)
        supported |= quad & (near < 0.5 * beyond)
    return square & ~supported


def bake_checks(missed: Sequence[float], behind: Sequence[float], stale: bool, failing: tuple[Ints, Ints] | None = None) -> list[Check]:
    """What became of the rays of the last bake; `failing` are the faces where they missed, and where they met from behind."""
    none = np.zeros(0, np.int32)
    lost, turned = failing if failing is not None else (none, none)
    worst, away = 100 * max(missed, default=0.0), 100 * max(behind, default=0.0)
    rows = [Check("rays-missed", "Rays that missed", f"{worst:.2f} %", "wrong" if worst > 2 else "look" if worst > 0.2 else "good", "faces", lost, worst),
            Check("rays-behind", "Met from behind", f"{away:.2f} %", "look" if away > 0.2 else "good", "faces", turned, away)]  # fmt: skip
    if stale:
        rows.append(Check("maps-stale", "Maps", "older than the jacket", "wrong", number=1))
    return rows
