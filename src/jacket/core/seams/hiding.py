"""Leading seams where they are seen less: another way between the ends of a chain, when it is worth its length."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jacket.core.mesh.geometry import edge_lengths
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.mesh.walks import face_parts
from jacket.core.seams.cost import edge_costs
from jacket.core.seams.foreseen import faces_at, why_closed
from jacket.core.seams.sewing import chains
from jacket.core.seams.sight import seam_shown
from jacket.core.seams.turning import TURN, Turning, cheapest_path
from jacket.core.uv.chart import chart_of

WORTH = 0.95
"""Share of its cost that another way may have at most."""


@dataclass(frozen=True, eq=False)
class Led:
    """cut     (E,) the seams as they were led;  moved  how many chains went another way
    before, after   share of their length that shows;  longer  how much longer all of them are together, as a factor
    """

    cut: Bools
    moved: int
    before: float
    after: float
    longer: float


def led_hidden(mesh: PolyMesh, cut: Bools, meant: Ints, shown: Floats) -> Led:
    """Seams `cut` (E,) with the chains among the edges `meant` led another way where that is seen less for its length; every
    piece stays one that opens, and there are as many. shown (V,) from 0 to 1."""
    turning, length = Turning.of(mesh), edge_lengths(mesh)
    cost, turn = edge_costs(mesh, shown), TURN * float(length.mean())
    flags = np.zeros_like(cut)
    flags[meant] = True
    rows = chains(mesh, cut & flags, 180.0)
    out, moved = cut.copy(), 0
    old = np.zeros_like(cut)
    new = np.zeros_like(cut)
    for chain in sorted(rows, key=lambda c: -float(cost[c].sum())):
        way = _other_way(mesh, turning, out, chain, cost, turn)
        old[chain] = True
        new[way if len(way) else chain] = True
        if len(way):
            out[chain], moved = False, moved + 1
            out[way] = True
    factor = float(length[new].sum()) / max(float(length[old].sum()), 1e-300)
    return Led(out, moved, seam_shown(mesh, old, shown), seam_shown(mesh, new, shown), factor)


def _other_way(mesh: PolyMesh, turning: Turning, cut: Bools, chain: Ints, cost: Floats, turn: float) -> Ints:
    """Edges of a cheaper way between the ends of a chain; none where there is none that leaves the pieces as they are."""
    ends = mesh.topology.edge_points
    count = np.bincount(ends[chain].ravel(), minlength=mesh.n_points)
    tips = np.flatnonzero(count == 1)
    if len(tips) != 2:
        return chain[:0]
    rest = cut.copy()
    rest[chain] = False
    shut = np.zeros(mesh.n_points, bool)
    shut[ends[rest].ravel()] = True
    shut |= mesh.topology.border_points
    goals = np.zeros(mesh.n_points, bool)
    goals[tips[1]] = True
    way, _ = cheapest_path(turning, np.where(rest, np.inf, cost), tips[:1], goals, shut, turn)
    if len(way) == 0 or cost[way].sum() > WORTH * cost[chain].sum() or len(np.setxor1d(way, chain)) == 0:
        return chain[:0]
    new = rest.copy()
    new[way] = True
    before, _ = face_parts(mesh, cut)
    after, labels = face_parts(mesh, new)
    if before != after:
        return chain[:0]
    both = np.concatenate([faces_at(mesh, way), faces_at(mesh, chain)])
    for k in np.unique(labels[both]).tolist():
        if why_closed(chart_of(mesh, np.flatnonzero(labels == k), new)):
            return chain[:0]
    return way
