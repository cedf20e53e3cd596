"""Sight lines: from where a form will be looked at, and how much of it shows from there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from jacket.core.mesh.geometry import edge_lengths, point_normals
from jacket.core.mesh.polymesh import Bools, Floats, PolyMesh
from jacket.core.seams.sky import OFF, at_edges
from jacket.core.space.rays import RayTree

KINDS = ("eye", "ring", "around")
ROUND = 12
"""Places on a ring round a form from which it is looked at."""
ALL = 40
"""Places all around it."""


@dataclass(frozen=True)
class Sight:
    """A view that matters.

    kind     "eye" for one place, "ring" for all places at its height round the upright axis through the target, "around"
             for all directions at its distance
    eye, target   where one looks from and to;  weight  how much it counts beside others
    """

    id: int
    name: str
    kind: str
    eye: tuple[float, float, float]
    target: tuple[float, float, float]
    weight: float = 1.0

    def places(self) -> Floats:
        """(K, 3) where it is looked from."""
        eye, target = np.array(self.eye), np.array(self.target)
        away = eye - target
        if self.kind == "ring":
            turn = 2 * np.pi * np.arange(ROUND) / ROUND
            x, z = away[0] * np.cos(turn) + away[2] * np.sin(turn), away[2] * np.cos(turn) - away[0] * np.sin(turn)
            return target + np.stack([x, np.full(ROUND, away[1]), z], axis=1)
        if self.kind == "around":
            # Spread evenly along a spiral (Fibonacci lattice; Swinbank and Purser 2006).
            k = np.arange(ALL) + 0.5
            height, turn = 1 - 2 * k / ALL, np.pi * (1 + np.sqrt(5)) * k
            flat = np.sqrt(1 - height**2)
            ways = np.stack([flat * np.cos(turn), height, flat * np.sin(turn)], axis=1)
            return target + float(np.linalg.norm(away)) * ways
        return eye[None, :]


def shown_from(mesh: PolyMesh, sights: Sequence[Sight], tree: RayTree) -> Floats:
    """(V,) weighted share of the places of sight lines from which each point of a mesh shows: turned towards them, and
    nothing of what `tree` holds between. 0 without sight lines."""
    normals = point_normals(mesh)
    start = mesh.points + OFF * mesh.diagonal * normals
    total, weight = np.zeros(mesh.n_points), 0.0
    for sight in sights:
        places = sight.places()
        for place in places:
            way = place - start
            far = np.linalg.norm(way, axis=1)
            front = np.einsum("ij,ij->i", way, normals) > 0
            open_ = np.zeros(mesh.n_points, bool)
            unit = way[front] / np.maximum(far[front], 1e-300)[:, None]
            open_[front] = tree.first(start[front], unit, far[front])[0] < 0
            total += sight.weight / len(places) * open_
        weight += sight.weight
    return total / weight if weight > 0 else total


def seam_shown(mesh: PolyMesh, edges: Bools, shown: Floats) -> float:
    """Share of the length of flagged edges (E,) that shows, by the values (V,) of `shown_from` or of the open sky; 0 where no
    edge is flagged."""
    length = edge_lengths(mesh)[edges]
    total = float(length.sum())
    return float((length * at_edges(mesh, shown)[edges]).sum()) / total if total > 0 else 0.0
