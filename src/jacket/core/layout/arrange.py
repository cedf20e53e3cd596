"""Islands arranged by hand: moved, turned, scaled, mirrored about a pivot; aligned, spread, fitted, made alike.

All of it happens in pixels of the sheet an island lies on, so that a turn stays a turn on sheets that are not square. Each
function takes islands and the numbers of those that are meant, and gives coordinates (C, 2).
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from jacket.core.layout.greedy import turn_matrix
from jacket.core.mesh.polymesh import Floats
from jacket.core.mesh.unique import unique_rows
from jacket.core.space.enclosing import Enclosing
from jacket.core.uv.islands import Islands
from jacket.core.uv.sheets import APART, from_pixel_places
from jacket.errors import EditRefused

SIDES = ("left", "right", "top", "bottom", "across", "up")
"""Where islands are aligned: by an edge of their boxes, or by their middles on a line that runs across or up."""
PIVOTS = {
    "middle": (0.5, 0.5), "lower left": (0.0, 0.0), "lower right": (1.0, 0.0), "upper left": (0.0, 1.0),
    "upper right": (1.0, 1.0), "left": (0.0, 0.5), "right": (1.0, 0.5), "top": (0.5, 1.0), "bottom": (0.5, 0.0),
}  # fmt: skip
"""Points of a box by name, as shares of its sides."""

Ids = Sequence[int]


def box_of(islands: Islands, ids: Ids) -> Floats:
    """(4,) low and high corner in pixel places of some islands together. Raises EditRefused where none is mapped."""
    boxes = islands.pixel_boxes[list(ids)]
    boxes = boxes[np.isfinite(boxes).all(axis=1)]
    if len(boxes) == 0:
        raise EditRefused("None of these islands lies on a sheet; flatten them first.")
    return np.concatenate([boxes[:, :2].min(axis=0), boxes[:, 2:].max(axis=0)])


def pivot_of(islands: Islands, ids: Ids, name: str, points: NDArray[np.signedinteger] | None = None) -> Floats:
    """(2,) the named point of the box of some islands in pixel places; "sheet" for the middle of their sheet, "origin" for its
    lower left corner, "held" for the middle of some points of the mesh where they lie on these islands. Raises EditRefused
    where none is held."""
    if name == "held":
        meant = np.isin(islands.mesh.corners, points if points is not None else []) & np.isin(islands.corner_labels, list(ids))
        if not meant.any():
            raise EditRefused("Hold a point of the islands to turn them about it, or choose another pivot.")
        places = islands.places[meant]
        return np.asarray(places[unique_rows(places)[0]].mean(axis=0))
    if name in ("sheet", "origin"):
        sheet = islands.sheets[max(int(islands.sheet_of[next(iter(ids))]), 0)]
        return np.asarray(sheet.origin * APART + (sheet.size / 2 if name == "sheet" else 0.0))
    box = box_of(islands, ids)
    return np.asarray(box[:2] + (box[2:] - box[:2]) * PIVOTS[name])


def each_transformed(islands: Islands, ids: Ids, matrices: Floats, shifts: Floats, pivots: Floats) -> Floats:
    """Every island by a transform of its own: pivot + matrix · (place − pivot) + shift, in pixels; (K, 2, 2) and (K, 2)."""
    keys = np.asarray(ids, np.int64)
    row = np.full(islands.count, -1)
    row[keys[islands.mapped[keys]]] = np.flatnonzero(islands.mapped[keys])
    mine = row[islands.corner_labels]
    here = np.flatnonzero(mine >= 0)
    k = mine[here]
    arm = islands.places[here] - pivots[k]
    places = np.einsum("kab,kb->ka", np.asarray(matrices, float)[k], arm) + pivots[k] + shifts[k]
    uv = islands.uv.copy()
    # Who was brought to another sheet's pixels lies on that sheet from now on.
    which = np.maximum(islands.sheet_of, 0)
    new = np.einsum("kab,kb->ka", np.asarray(matrices, float), middles(islands, ids) - pivots) + pivots + shifts
    for n, sheet in enumerate(islands.sheets):
        near = (np.abs(new - sheet.origin * APART - sheet.size / 2) < APART / 2).all(axis=1)
        which[keys[near]] = n
    uv[here] = from_pixel_places(places, which[islands.corner_labels[here]], islands.sheets)
    return uv


def middles(islands: Islands, ids: Ids) -> Floats:
    """(K, 2) middles of the islands' boxes in pixel places."""
    boxes = islands.pixel_boxes[list(ids)]
    return np.asarray((boxes[:, :2] + boxes[:, 2:]) / 2)


def transformed(islands: Islands, ids: Ids, matrix: Floats, shift: Floats, pivot: Floats | None = None) -> Floats:
    """All by one transform about one pivot; about the middle of each where there is none."""
    count = len(ids)
    about = middles(islands, ids) if pivot is None else np.tile(pivot, (count, 1))
    return each_transformed(islands, ids, np.tile(matrix, (count, 1, 1)), np.tile(shift, (count, 1)), about)


def turned(islands: Islands, ids: Ids, degrees: float, pivot: Floats | None = None) -> Floats:
    """Turned against the clock."""
    return transformed(islands, ids, turn_matrix(np.radians(degrees)), np.zeros(2), pivot)


def mirrored(islands: Islands, ids: Ids, axis: int, pivot: Floats | None = None) -> Floats:
    """Laid on their face: left for right (axis 0) or top for bottom (axis 1)."""
    flip = np.eye(2)
    flip[axis, axis] = -1
    return transformed(islands, ids, flip, np.zeros(2), pivot)


def _each_moved(islands: Islands, ids: Ids, shifts: NDArray[np.float64]) -> Floats:
    return each_transformed(islands, ids, np.tile(np.eye(2), (len(ids), 1, 1)), shifts, np.zeros((len(ids), 2)))


def aligned(islands: Islands, ids: Ids, side: str, to_sheet: bool = False) -> Floats:
    """By an edge or the middles of their boxes: to the outermost of them, or to the sheet less its margin."""
    boxes = islands.pixel_boxes[list(ids)]
    whole = box_of(islands, ids)
    if to_sheet:
        sheet = islands.sheets[max(int(islands.sheet_of[next(iter(ids))]), 0)]
        low = sheet.origin * APART
        whole = np.concatenate([low + sheet.rim, low + sheet.size - sheet.rim])
    return _each_moved(islands, ids, _to_box(boxes, whole, side))


def _to_box(boxes: Floats, box: Floats, side: str) -> Floats:
    """(K, 2) shifts that bring a side or the middles of boxes (K, 4) to those of one box (4,)."""
    shifts = np.zeros((len(boxes), 2))
    column = {"left": 0, "bottom": 1, "right": 2, "top": 3}.get(side)
    if column is not None:
        shifts[:, column % 2] = box[column] - boxes[:, column]
    else:
        axis = 1 if side == "across" else 0
        shifts[:, axis] = (box[axis] + box[2 + axis] - boxes[:, axis] - boxes[:, 2 + axis]) / 2
    return shifts


def aligned_to(islands: Islands, ids: Ids, leader: int, side: str) -> Floats:
    """By an edge or the middles of their boxes to those of one island, which stays."""
    return _each_moved(islands, ids, _to_box(islands.pixel_boxes[list(ids)], islands.pixel_boxes[leader], side))


def spread(islands: Islands, ids: Ids, axis: int) -> Floats:
    """With equal gaps along an axis; the first and the last stay. Raises EditRefused for fewer than three."""
    if len(ids) < 3:
        raise EditRefused("Equal gaps need three islands or more; hold them first.")
    boxes = islands.pixel_boxes[list(ids)]
    order = np.argsort(boxes[:, axis] + boxes[:, 2 + axis])
    wide = (boxes[:, 2 + axis] - boxes[:, axis])[order]
    first, last = boxes[order[0], axis], boxes[order[-1], 2 + axis]
    gap = (last - first - wide.sum()) / (len(order) - 1)
    at = first + np.concatenate([[0.0], np.cumsum(wide[:-1] + gap)])
    shifts = np.zeros((len(boxes), 2))
    shifts[order, axis] = at - boxes[order, axis]
    return _each_moved(islands, ids, shifts)


def fitted(islands: Islands, ids: Ids, how: str) -> Floats:
    """As large as the sheet less its margin takes them together, in its middle: "sheet" keeps the form, "width" and "height"
    scale until that side is full, whatever the other does."""
    box = box_of(islands, ids)
    sheet = islands.sheets[max(int(islands.sheet_of[next(iter(ids))]), 0)]
    room, span = sheet.size - 2 * sheet.rim, np.maximum(box[2:] - box[:2], 1e-9)
    factor = {"sheet": float((room / span).min()), "width": float(room[0] / span[0]), "height": float(room[1] / span[1])}[how]
    middle = (box[:2] + box[2:]) / 2
    target = sheet.origin * APART + sheet.size / 2
    return transformed(islands, ids, np.eye(2) * factor, target - middle, middle)


def upright(islands: Islands, ids: Ids) -> Floats:
    """Each turned so that its smallest box stands along the sheet, the nearest way."""
    angle = np.array([Enclosing.of(islands.pixel_outline(k).reshape(-1, 2)).turn if islands.mapped[k] else 0.0 for k in ids])
    angle = (angle + np.pi / 4) % (np.pi / 2) - np.pi / 4
    return each_transformed(islands, ids, np.array([turn_matrix(a) for a in angle]), np.zeros((len(angle), 2)), middles(islands, ids))


def along_edge(islands: Islands, edges: Sequence[int]) -> Floats:
    """Every island that one of the edges belongs to turned so that the edge runs across or up, whichever is nearer."""
    uv = islands.uv
    t = islands.mesh.topology
    done: set[int] = set()
    for edge in edges:
        for corner in (int(t.edge_corner[edge]), int(t.twin[t.edge_corner[edge]])):
            island = int(islands.corner_labels[corner]) if corner >= 0 else -1
            if island < 0 or island in done or not islands.mapped[island]:
                continue
            done.add(island)
            way = islands.places[int(t.next[corner])] - islands.places[corner]
            angle = float(np.arctan2(way[1], way[0]))
            rest = (angle + np.pi / 4) % (np.pi / 2) - np.pi / 4
            uv = turned(islands.with_uv(uv), [island], -np.degrees(rest))
    return uv


def made_alike(islands: Islands, leader: int, ids: Ids, what: str) -> Floats:
    """Others given the size of their boxes' longer side, the turning, the middle or the density of one island."""
    uv = islands.uv
    mesh_boxes = islands.pixel_boxes
    for k in ids:
        if k == leader or not islands.mapped[k]:
            continue
        now = islands.with_uv(uv)
        one, other = mesh_boxes[leader], now.pixel_boxes[k]
        if what == "size":
            factor = float((one[2:] - one[:2]).max() / max(float((other[2:] - other[:2]).max()), 1e-9))
            uv = transformed(now, [k], np.eye(2) * factor, np.zeros(2))
        elif what == "density":
            factor = density_of(islands, leader) / max(density_of(now, k), 1e-300)
            uv = transformed(now, [k], np.eye(2) * factor, np.zeros(2))
        elif what == "place":
            uv = transformed(now, [k], np.eye(2), (one[:2] + one[2:] - other[:2] - other[2:]) / 2)
        else:
            angle = _main_way(islands, leader) - _main_way(now, k)
            # A form's main way has no head and tail: the nearer of both.
            angle = (angle + np.pi / 2) % np.pi - np.pi / 2
            uv = turned(now, [k], np.degrees(angle))
    return uv


def _main_way(islands: Islands, island: int) -> float:
    """Radians of the direction in which an island is longest (principal axis of its outline)."""
    at = islands.pixel_outline(island).mean(axis=1)
    values, ways = np.linalg.eigh(np.cov((at - at.mean(axis=0)).T))
    way = ways[:, int(np.argmax(values))]
    return float(np.arctan2(way[1], way[0]))


# ---- density -------------------------------------------------------------------------------------------------------

USUAL = ((256.0, "far away, scenery"), (512.0, "seen from behind a figure"), (1024.0, "seen from its eyes"), (2048.0, "held in its hands"))
"""Texel densities in pixels a metre and what they are usual for (common practice; the figures are round on purpose)."""


def density_of(islands: Islands, island: int) -> float:
    """Pixels a surface unit of an island; 0 where it has no area."""
    area = float(islands.surface_area[island])
    return float(np.sqrt(islands.pixel_area[island] / area)) if area > 0 else 0.0


def densities(islands: Islands) -> Floats:
    """(count,) pixels a surface unit of each island; NaN where one has no area or is not mapped."""
    with np.errstate(divide="ignore", invalid="ignore"):
        value = np.sqrt(islands.pixel_area / islands.surface_area)
    return np.where(islands.mapped & (islands.pixel_area > 0) & np.isfinite(value), value, np.nan)


def at_density(islands: Islands, ids: Ids, density: float) -> Floats:
    """Islands scaled about their middles to a density in pixels a surface unit."""
    if not (np.isfinite(density) and density > 0):
        raise EditRefused("A texel density has to be more than 0 pixels a unit; type another.")
    now = densities(islands)[list(ids)]
    factor = np.where(np.isfinite(now) & (now > 0), density / now, 1.0)
    return each_transformed(islands, ids, factor[:, None, None] * np.eye(2), np.zeros((len(factor), 2)), middles(islands, ids))
