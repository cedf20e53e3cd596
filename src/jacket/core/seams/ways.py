"""Ways along edges that a hand draws: what a path prefers, and loops that stop where they are told to."""

from __future__ import annotations

import numpy as np

from jacket.core.mesh.geometry import dihedral_angles, edge_lengths
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.seams.cost import edge_costs, signed_dihedral
from jacket.core.seams.turning import TURN, Turning

WAYS = (("straight", "straight rows"), ("short", "the shortest way"), ("hidden", "hidden places"), ("hollow", "hollows"),
        ("sharp", "sharp edges"))  # fmt: skip
"""What a path may prefer, and the words for it."""
AHEAD = np.radians(50)
"""How far a loop may turn at a pole and still go on."""


def way_costs(mesh: PolyMesh, kind: str, sky: Floats | None = None) -> tuple[Floats, float]:
    """(E,) what each edge costs a path that prefers something, and what a turn by 90° does. `sky` (V,) is needed for hidden
    places only. Raises ValueError for a preference there is not."""
    length = edge_lengths(mesh)
    step = float(length.mean()) if len(length) else 1.0
    length = np.maximum(length, 0.02 * step + 1e-300)
    if kind == "short":
        return length, 0.0
    if kind == "straight":
        return length, TURN * step
    if kind == "hidden":
        return edge_costs(mesh, sky if sky is not None else np.ones(mesh.n_points)), 0.5 * TURN * step
    if kind == "hollow":
        bent = np.clip(signed_dihedral(mesh) / 40.0, -1, 1)
        return length * np.where(bent > 0, 1 - 0.9 * bent, 1 - 1.5 * bent), 0.3 * TURN * step
    if kind == "sharp":
        bent = np.clip(dihedral_angles(mesh) / 45.0, 0, 1)
        return length * (1 - 0.92 * bent), 0.3 * TURN * step
    raise ValueError(kind)


def loop_between(mesh: PolyMesh, turning: Turning, edge: int, stop: Bools, poles: bool) -> Ints:
    """Edges of the loop through an edge, in order: straight on at points of four edges, at poles too (as straight as it
    goes) unless `poles` stops it, until a border, itself, or a point where another edge flagged in `stop` (E,) arrives."""
    a, b = mesh.topology.edge_points[edge].tolist()
    ahead, closed = _ahead(mesh, turning, edge, b, stop, poles)
    if closed:
        return np.array([edge, *ahead], np.int32)
    behind, _ = _ahead(mesh, turning, edge, a, stop, poles)
    used = set(ahead)
    behind = behind[: next((k for k, e in enumerate(behind) if e in used), len(behind))]
    return np.array([*behind[::-1], edge, *ahead], np.int32)


def _ahead(mesh: PolyMesh, turning: Turning, edge: int, point: int, stop: Bools, poles: bool) -> tuple[list[int], bool]:
    topology = mesh.topology
    start, around = topology.point_edges
    out: list[int] = []
    been = {edge}
    current = edge
    while True:
        here = around[start[point] : start[point + 1]]
        if any(stop[e] for e in here if e != current):
            return out, False
        on_border = bool(topology.border_points[point])
        if topology.edge_uses[current] == 1:
            rows = [int(e) for e in here if e != current and topology.edge_uses[e] == 1]
        elif on_border:
            return out, False
        else:
            rows = [int(e) for e in here if e != current]
        if len(rows) == 0 or (poles and not on_border and len(here) != 4):
            return out, False
        bends = [turning.turn(point, current, e) for e in rows]
        best = int(np.argmin(bends))
        if bends[best] > AHEAD and topology.edge_uses[current] != 1:
            return out, False
        following = rows[best]
        if following == edge:
            return out, True
        if following in been:
            return out, False
        been.add(following)
        out.append(following)
        p, q = topology.edge_points[following].tolist()
        point = q if p == point else p
        current = following


def next_loop(mesh: PolyMesh, edge: int, side: int) -> int:
    """The edge across the quad on one side (0 or 1) of an edge: where the loop one row further runs; −1 where there is
    none."""
    topology = mesh.topology
    corner = int(topology.edge_corner[edge])
    if side == 1:
        corner = int(topology.twin[corner])
    if corner < 0 or mesh.sizes[mesh.face_of_corner[corner]] != 4:
        return -1
    return int(topology.edge[topology.next[topology.next[corner]]])
