"""A strip of quads along a path: rungs across it, turned with it and never folding over each other."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jacket.core.mesh.geometry import unit
from jacket.core.mesh.polymesh import Floats
from jacket.core.space.bvh import Bvh
from jacket.core.strokes.path import evened, length_along, normals_at, tangents
from jacket.errors import EditRefused


@dataclass(frozen=True, eq=False)
class Ladder:
    """left, right (n, 3): the ends of the rungs, seen along the path from outside."""

    left: Floats
    right: Floats


def ladder(
    path: Floats, surface: Bvh, width: float, first: Floats | None = None, last: Floats | None = None,
    step: float | None = None,
) -> Ladder:  # fmt: skip
    """Rungs of a width along a path (K, 3) on a surface, about as far apart as they are wide.

    first, last   (2, 3) left and right end of a rung that is there already; the strip grows out of it
    step          wanted distance of rungs
    Raises EditRefused for a path shorter than half a rung.
    """
    total = float(length_along(path)[-1]) if len(path) > 1 else 0.0
    step = width if step is None else step
    if total < 0.5 * step or width <= 0:
        raise EditRefused("The path is too short for a quad; drag farther or make the strip narrower.")
    count = max(2, round(total / step) + 1)
    centre = evened(path, count)
    across = _across(centre, surface)
    half = np.full(count, width / 2)
    if first is not None:
        centre, across, half = _from_rung(centre, across, half, first, 0)
    if last is not None:
        centre, across, half = _from_rung(centre, across, half, last, count - 1)
    left, right = _sides(centre, across, half, normals_at(surface, centre))
    left, right = surface.project(left), surface.project(right)
    for end, rung in ((0, first), (count - 1, last)):
        if rung is not None:
            left[end], right[end] = rung
    return Ladder(left, right)


def _across(centre: Floats, surface: Bvh) -> Floats:
    """Unit directions to the left of the path, within the surface."""
    along = tangents(centre)
    normals = normals_at(surface, centre)
    for _ in range(2):
        if len(normals) > 2:
            normals[1:-1] = unit(normals[:-2] + normals[1:-1] + normals[2:])
    return unit(np.cross(normals, along))


def _from_rung(centre: Floats, across: Floats, half: Floats, rung: Floats, end: int) -> tuple[Floats, Floats, Floats]:
    """Begin (or end) at a rung that is there: its middle, direction and width run out over a few rungs."""
    centre, across, half = centre.copy(), across.copy(), half.copy()
    middle, direction = rung.mean(axis=0), rung[0] - rung[1]
    own = float(np.linalg.norm(direction)) / 2
    shift = middle - centre[end]
    reach = min(len(centre), 4)
    for k in range(reach):
        i, t = (end + k if end == 0 else end - k), 1.0 - k / reach
        centre[i] = centre[i] + shift * t
        across[i] = unit((across[i] * (1 - t) + direction / max(2 * own, 1e-300) * t)[None])[0]
        half[i] = half[i] * (1 - t) + own * t
    return centre, across, half


def _sides(centre: Floats, across: Floats, half: Floats, normals: Floats) -> tuple[Floats, Floats]:
    """Ends of the rungs. In a tight turn the inner side is drawn in so far that it still runs forward: between two
    rungs that turn by an angle over a gap a side at distance h runs gap − h · angle."""
    gaps = np.linalg.norm(np.diff(centre, axis=0), axis=1)
    sine = (np.cross(across[:-1], across[1:]) * (normals[:-1] + normals[1:]) / 2).sum(axis=1)
    angle = np.arctan2(sine, (across[:-1] * across[1:]).sum(axis=1))
    ends = []
    for sign in (1.0, -1.0):
        # A turn to the left shortens the left side.
        inward = np.maximum(sign * angle, 1e-9)
        most = 0.6 * gaps / inward
        limit = np.full(len(centre), np.inf)
        limit[:-1] = most
        limit[1:] = np.minimum(limit[1:], most)
        width = np.minimum(half, limit)
        for _ in range(2):
            # Drawn in over its neighbours too, so that the side has no notch.
            eased = width.copy()
            eased[1:-1] = np.minimum(width[1:-1], 0.25 * width[:-2] + 0.5 * width[1:-1] + 0.25 * width[2:])
            width = eased
        ends.append(centre + sign * across * width[:, None])
    return ends[0], ends[1]
