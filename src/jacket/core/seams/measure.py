"""Figures of seams: islands, length, turns, how much they are seen, how far they lie on sharp edges."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from jacket.core.mesh.geometry import dihedral_angles, edge_lengths, face_areas
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.mesh.walks import face_parts
from jacket.core.seams.laying import QUICK, lay
from jacket.core.seams.sight import seam_shown
from jacket.core.seams.sky import seen

SHARP = 30.0


@dataclass(frozen=True)
class SeamFigures:
    """islands  pieces of the surface as it is cut
    edges    that are cut;  length  of them, in √ of the surface's area
    turns    points of four edges where a seam does not go straight on, per 100 cut edges
    seen     share of the open sky over the seams against the mean over all edges
    sharp    share of the seams' length on edges over 30°
    """

    islands: int
    edges: int
    length: float
    turns: float
    seen: float
    sharp: float

    def as_dict(self) -> dict[str, Any]:
        """Plain values for a JSON report."""
        return asdict(self)


def seam_figures(mesh: PolyMesh, cut: Bools, sky: Floats) -> SeamFigures:
    """Figures of the edges flagged in `cut` (E,); sky (V,) from `open_sky`."""
    cut = cut & (mesh.topology.edge_uses > 1)
    length = edge_lengths(mesh)
    whole = float(length[cut].sum())
    sharp = float(length[cut & (dihedral_angles(mesh) > SHARP)].sum()) / whole if whole > 0 else 0.0
    turned = turning_points(mesh, cut)
    count = int(cut.sum())
    return SeamFigures(
        face_parts(mesh, cut)[0], count, whole / max(float(np.sqrt(face_areas(mesh).sum())), 1e-300),
        100 * len(turned) / count if count else 0.0, seen(mesh, cut, sky), sharp,
    )  # fmt: skip


def turning_points(mesh: PolyMesh, cut: Bools) -> Ints:
    """Inner points of four edges at which two seam edges meet that do not lie opposite each other."""
    topology = mesh.topology
    count = np.bincount(topology.edge_points[cut].ravel(), minlength=mesh.n_points)
    inner = (topology.valence == 4) & ~topology.border_points
    # Edges side by side at a point share a face there: a corner whose both half-edges are cut.
    corner = cut[topology.edge] & cut[topology.edge[topology.prev]]
    beside = np.bincount(mesh.corners[corner], minlength=mesh.n_points) > 0
    return np.flatnonzero(inner & (count == 2) & beside).astype(np.int32)


@dataclass(frozen=True)
class SetFigures:
    """islands  pieces of the surface as it is cut;  closed  of them, that do not open
    length   of the seams, in √ of the surface's area;  shown  share of it that is seen
    turns    as in `SeamFigures`;  stretch  mean energy over the islands that open, inf where none does
    """

    islands: int
    closed: int
    length: float
    shown: float
    turns: float
    stretch: float


def set_figures(mesh: PolyMesh, cut: Bools, shown: Floats) -> SetFigures:
    """Figures of the edges flagged in `cut` (E,) as a way to cut a mesh, its islands laid flat quickly; shown (V,) from 0 to 1
    is how much each point is seen."""
    cut = cut & (mesh.topology.edge_uses > 1)
    count, labels = face_parts(mesh, cut)
    area, total, energy, closed = face_areas(mesh), 0.0, 0.0, 0
    order = np.argsort(labels, kind="stable")
    bounds = np.searchsorted(labels[order], np.arange(count + 1))
    for k in range(count):
        faces = order[bounds[k] : bounds[k + 1]].astype(np.int32)
        laid = lay(mesh, faces, cut, QUICK)
        if laid is None:
            closed += 1
        else:
            total += float(area[faces].sum())
            energy += float(area[faces].sum()) * laid.energy
    edges = int(cut.sum())
    return SetFigures(
        count, closed, float(edge_lengths(mesh)[cut].sum()) / max(float(np.sqrt(area.sum())), 1e-300), seam_shown(mesh, cut, shown),
        100 * len(turning_points(mesh, cut)) / edges if edges else 0.0, energy / total if total > 0 else np.inf,
    )  # fmt: skip
