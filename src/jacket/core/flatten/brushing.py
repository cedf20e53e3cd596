"""What brushes on the sheet need many times a second: where to relax to, and how far points may move before a face turns over."""

from __future__ import annotations

import numpy as np

from jacket.core.flatten.energies import least_root
from jacket.core.jit import kernel
from jacket.core.mesh.polymesh import Bools, Floats, Ints


def relaxing(places: Floats, ends: Ints, border: Bools, weight: Floats) -> Floats:
    """(P, 2) moves of flat points towards the middle of their neighbours by weights (P,). Neighbours are joined by edges
    (E, 2); along the outline, flagged by `border` (P,), only neighbours on the outline count: it does not shrink."""
    moves = np.zeros_like(places)
    _relaxing(places, ends, border, weight, moves, np.zeros(len(places)))
    return moves


@kernel
def _relaxing(places, ends, border, weight, moves, count):
    for e in range(len(ends)):
        a, b = ends[e, 0], ends[e, 1]
        if weight[a] == 0.0 and weight[b] == 0.0:
            continue
        rim = border[a] and border[b]
        for one, other in ((a, b), (b, a)):
            if weight[one] != 0.0 and (rim or not border[one]) and np.isfinite(places[other, 0]) and np.isfinite(places[other, 1]):
                moves[one, 0] += places[other, 0]
                moves[one, 1] += places[other, 1]
                count[one] += 1.0
    for p in range(len(moves)):
        if count[p] > 0.0 and np.isfinite(places[p, 0]) and np.isfinite(places[p, 1]):
            for k in range(2):
                moves[p, k] = weight[p] * (moves[p, k] / count[p] - places[p, k])
        else:
            moves[p, 0] = moves[p, 1] = 0.0


def room(places: Floats, moves: Floats, triangles: Ints) -> float:
    """The largest share of moves (P, 2) before one of triangles (T, 3) of places (P, 2) loses its area; mirrored triangles stay
    mirrored, those without area or unmapped hold nothing up."""
    return float(_room(places, moves, triangles))


@kernel
def _room(places, moves, triangles):
    best = np.inf
    for t in range(len(triangles)):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        if moves[a, 0] == 0.0 and moves[a, 1] == 0.0 and moves[b, 0] == 0.0 and moves[b, 1] == 0.0 and moves[c, 0] == 0.0 and moves[c, 1] == 0.0:
            continue
        ux, uy = places[b, 0] - places[a, 0], places[b, 1] - places[a, 1]
        vx, vy = places[c, 0] - places[a, 0], places[c, 1] - places[a, 1]
        area = ux * vy - uy * vx
        if not abs(area) > 0.0:
            continue
        px, py = moves[b, 0] - moves[a, 0], moves[b, 1] - moves[a, 1]
        qx, qy = moves[c, 0] - moves[a, 0], moves[c, 1] - moves[a, 1]
        # Seen from behind, the turn of a mirrored triangle is the other way.
        sign = 1.0 if area > 0 else -1.0
        best = min(best, least_root(sign * area, sign * (ux * qy + px * vy - uy * qx - py * vx), sign * (px * qy - py * qx)))
    return best
