"""What is packed: islands one by one, stacks of islands as one, groups that stay together."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from jacket.core.layout.greedy import turn_matrix
from jacket.core.layout.parting import Floats, Ints
from jacket.core.layout.shapes import chained
from jacket.core.space.enclosing import Enclosing
from jacket.core.uv.identity import IslandRecord
from jacket.core.uv.islands import Islands, density_scales
from jacket.core.uv.sheets import APART

STRAIGHT, NEAR = 0.5, float(np.deg2rad(3.0))
"""Share of its border that an island has along two directions at right angles to stand along the sheet, and how near to them in radians."""
BOX = 0.9
"""Share of its box along these from which on it stands too, however its border wavers."""


def stacked_on(islands: Islands, by_label: Ints, records: Sequence[IslandRecord]) -> Ints:
    """(count,) the island that each one was stacked on and still lies on, −1 for none: twins that were flattened or moved apart
    since are no stack. by_label (count,) are the lasting numbers."""
    out = np.full(islands.count, -1, np.int64)
    where = {int(n): k for k, n in enumerate(by_label)}
    boxes = islands.boxes
    for r in records:
        k, base = where.get(r.id, -1), where.get(r.twin, -1) if r.twin else -1
        if k < 0 or base < 0 or not np.isfinite(boxes[[k, base]]).all():
            continue
        low, high = np.maximum(boxes[k, :2], boxes[base, :2]), np.minimum(boxes[k, 2:], boxes[base, 2:])
        least = min(float(np.prod(boxes[j, 2:] - boxes[j, :2])) for j in (k, base))
        # Laid by whole sheets they are a stack too, for baking.
        shift = np.round(boxes[k, :2] - boxes[base, :2])
        low, high = (low, high) if not shift.any() else (np.maximum(boxes[k, :2] - shift, boxes[base, :2]), np.minimum(boxes[k, 2:] - shift, boxes[base, 2:]))
        if (high > low).all() and float(np.prod(high - low)) > 0.5 * least:
            out[k] = base
    return out


@dataclass(frozen=True, eq=False)
class Bonds:
    """What is wished for the islands of a layer, all (count,).

    locked  stays where it is
    weigh   factor of its density against the others'
    stack   islands of one number lie on one another and move as one; −1 for none
    group   islands of one number stay side by side; −1 for none
    """

    locked: NDArray[np.bool_]
    weigh: Floats
    stack: Ints
    group: Ints

    @staticmethod
    def none(count: int) -> Bonds:
        """No wishes."""
        return Bonds(np.zeros(count, bool), np.ones(count), np.full(count, -1), np.full(count, -1))


    @staticmethod
    def of(islands: Islands, numbers: Ints | None, records: Sequence[IslandRecord], only: Ints | None = None) -> Bonds:
        """From what is known of islands by the numbers (F,) on their faces; with `only` all islands that lie on none of those
        faces are locked."""
        bonds = Bonds.none(islands.count)
        if only is not None:
            bonds.locked[:] = True
            bonds.locked[islands.labels[only]] = False
        if numbers is None:
            return bonds
        by_label = np.zeros(islands.count, np.int64)
        by_label[islands.labels] = numbers
        known, lies_on = {r.id: r for r in records}, stacked_on(islands, by_label, records)
        groups: dict[str, int] = {}
        for k, number in enumerate(by_label.tolist()):
            record = known.get(number)
            if record is None:
                continue
            bonds.locked[k] |= record.lock
            bonds.weigh[k] = record.weigh
            bonds.stack[k] = record.twin if lies_on[k] >= 0 else number
            bonds.group[k] = groups.setdefault(record.group, len(groups)) if record.group else -1
        return bonds


@dataclass(frozen=True, eq=False)
class Layer:
    """Islands to pack together with others, and what is wished for them."""

    islands: Islands
    bonds: Bonds


@dataclass(frozen=True, eq=False)
class Piece:
    """Islands that move as one: a single one, or a stack.

    layer, islands  which they are; the first leads
    matrix, shift   (2, 2) and (2,): from pixel places to the piece at rest, about its middle: places · matrixᵀ + shift
    segments        (S, 2, 2) chained outline at rest
    area            of the leading island at rest
    sheet           that it lies on, −1 for none;  group  number, −1 for none;  fixed  whether it stays
    upright         whether it is to stand along the sheet's sides, as it does at rest
    """

    layer: int
    islands: tuple[int, ...]
    matrix: Floats
    shift: Floats
    segments: Floats
    area: float
    sheet: int
    group: int
    fixed: bool
    upright: bool

    def at_size(self, factor: float) -> Piece:
        """The same piece, larger or smaller at rest."""
        return replace(
            self, matrix=self.matrix * factor, shift=self.shift * factor, segments=self.segments * factor, area=self.area * factor**2
        )


def pieces_of(layers: Sequence[Layer], rest: bool, align: bool, upright: bool = False) -> list[Piece]:
    """The pieces of some layers at one pixel a surface unit; locked ones in pixels of their sheet.

    rest     whether sizes follow the surface (True) or stay as they are on the sheet
    align    whether each is turned so that its box is smallest
    upright  whether those with straight sides at right angles stand by these instead, and are to stay upright
    """
    out = []
    for n, layer in enumerate(layers):
        islands, bonds = layer.islands, layer.bonds
        scales = density_scales(islands) * bonds.weigh if rest else np.ones(islands.count)
        good = islands.mapped & (islands.pixel_area > 0)
        stacks: dict[int, list[int]] = {}
        for k in np.flatnonzero(good).tolist():
            stacks.setdefault(int(bonds.stack[k]) if bonds.stack[k] >= 0 else -1 - k, []).append(k)
        for members in stacks.values():
            fixed = bool(bonds.locked[members].any())
            out.append(_piece(n, islands, members, float(scales[members[0]]), align, upright, int(bonds.group[members[0]]), fixed))
    return out


def _piece(
    layer: int, islands: Islands, members: list[int], scale: float, align: bool, upright: bool, group: int, fixed: bool
) -> Piece:  # fmt: skip
    lead = max(members, key=lambda k: islands.pixel_area[k])
    members = [lead] + [k for k in members if k != lead]
    raw = np.concatenate([islands.pixel_outline(k) for k in members])
    sheet = int(islands.sheet_of[lead])
    area = float(islands.pixel_area[lead])
    if fixed:
        origin = islands.sheets[max(sheet, 0)].origin * APART
        return Piece(layer, tuple(members), np.eye(2), -origin, chained(raw - origin), area, sheet, group, True, False)
    sides = sides_at(raw, area) if upright else None
    turn = -sides if sides is not None else (Enclosing.of(raw.reshape(-1, 2)).turn if align else 0.0)
    matrix = turn_matrix(turn) * scale
    turned = raw @ matrix.T
    shift = -(turned.min(axis=(0, 1)) + turned.max(axis=(0, 1))) / 2
    return Piece(layer, tuple(members), matrix, shift, chained(turned + shift), area * scale**2, sheet, group, False, sides is not None)


def sides_at(outline: Floats, area: float) -> float | None:
    """Radians from the axes, at most an eighth of a turn, at which the straight sides of an outline (S, 2, 2) run: the mean direction of its
    segments by length, quarter turns alike. None where under `STRAIGHT` of its length run so within `NEAR`, and the area is under `BOX` of
    the box along them."""
    step = (outline[:, 1] - outline[:, 0]) @ [1, 1j]
    length = np.abs(step)
    cross = (length * (step / np.maximum(length, 1e-300)) ** 4).sum()
    angle = float(np.angle(cross)) / 4
    off = (np.angle(step) - angle + np.pi / 4) % (np.pi / 2) - np.pi / 4
    box = np.ptp(outline.reshape(-1, 2) @ turn_matrix(-angle).T, axis=0)
    return angle if length[np.abs(off) < NEAR].sum() >= STRAIGHT * length.sum() or area >= BOX * float(box.prod()) else None
