"""Pieces that stay together: a group is laid close by itself first and is looked for a place as one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from jacket.core.layout.greedy import Greedy, turn_matrix
from jacket.core.layout.parting import Floats, Lying
from jacket.core.layout.pieces import Piece

ROOM_TO_MOVE = 1.3
"""Margin inside a group against what is asked: at the end each piece is squeezed for itself."""


@dataclass(frozen=True, eq=False)
class Cluster:
    """Pieces with a place in common: how each lies about the cluster's middle, at rest.

    pieces  numbers;  middle (K, 2) and turn (K,) of each
    upright whether one of them is to stand along the sheet's sides
    """

    pieces: tuple[int, ...]
    middle: Floats
    turn: Floats
    segments: Floats
    area: float
    sheet: int
    fixed: bool
    upright: bool


def clusters_of(pieces: Sequence[Piece], margin: float, turns: int) -> list[Cluster]:
    """Every piece by itself, or with its group; `margin` in units at rest, `turns` that pieces of a group may take."""
    groups: dict[tuple[int, int], list[int]] = {}
    for k, piece in enumerate(pieces):
        alone = piece.fixed or piece.group < 0
        groups.setdefault((-1, k) if alone else (piece.layer, piece.group), []).append(k)
    return [_cluster(pieces, ids, margin, turns) for ids in groups.values()]


def _cluster(pieces: Sequence[Piece], ids: list[int], margin: float, turns: int) -> Cluster:
    rows = [pieces[k] for k in ids]
    middle, turn = np.zeros((len(ids), 2)), np.zeros(len(ids))
    if len(ids) > 1:
        areas = np.array([p.area for p in rows])
        side = np.sqrt(areas.sum() / 0.85)
        while True:
            lay = Greedy([p.segments for p in rows], areas, np.array([side, side]), margin * ROOM_TO_MOVE, 0.0, turnings([p.upright for p in rows], turns)).at(1.0)
            if lay is not None:
                break
            side *= 1.04
        middle, turn = lay.middle, lay.turn
    laid = [p.segments @ turn_matrix(float(t)).T + m for p, t, m in zip(rows, turn, middle, strict=True)]
    whole = np.concatenate(laid)
    shift = (whole.min(axis=(0, 1)) + whole.max(axis=(0, 1))) / 2 if len(ids) > 1 else np.zeros(2)
    return Cluster(
        tuple(ids), middle - shift, turn, whole - shift, float(sum(p.area for p in rows)), rows[0].sheet, rows[0].fixed, any(p.upright for p in rows)
    )


def turnings(upright: Sequence[bool], turns: int) -> list[int]:
    """By how many parts of a turn each may be turned in a first layout: quarters at most where it is to stand upright."""
    return [min(turns, 4) if u else turns for u in upright]


def pieces_lying(clusters: Sequence[Cluster], lying: Lying, scale: float, count: int) -> Lying:
    """How all pieces lie when their clusters lie as given at a scale."""
    out = Lying(np.zeros((count, 2)), np.zeros(count), np.ones(count), np.zeros(count, np.int64))
    for k, cluster in enumerate(clusters):
        ids = list(cluster.pieces)
        flip, size = float(lying.flip[k]), 1.0 if cluster.fixed else scale
        matrix = turn_matrix(float(lying.turn[k])) @ np.diag([flip, 1.0]) * size
        out.middle[ids] = cluster.middle @ matrix.T + lying.middle[k]
        out.turn[ids] = lying.turn[k] + flip * cluster.turn
        out.flip[ids] = flip
        out.sheet[ids] = lying.sheet[k]
    return out
