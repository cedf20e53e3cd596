"""Named channels over points, edges, faces and corners, and the one way in which they travel through edits.

A channel is an array under a name; what stands before a colon in the name is its kind, and the kind says what new
elements get and whether values may be mixed. An edit only says which old element is behind each new one.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
Table = Mapping[str, Array]
Weights = Sequence[tuple[float, int]]
"""A place between old elements: shares that sum to 1, and the old element of each."""


@dataclass(frozen=True)
class Kind:
    """What elements without an origin get, and whether values between two others may be mixed."""

    blank: float = 0.0
    mixes: bool = False


KINDS: dict[str, Kind] = {
    "uv": Kind(np.nan, mixes=True),
    "pin": Kind(mixes=True),
    "island": Kind(),
    "material": Kind(-1),
    "group": Kind(-1),
    "colour": Kind(255, mixes=True),
    "cage": Kind(1, mixes=True),
    "straight": Kind(mixes=True),
}
"""Kinds that are not plain zeros; any other name is a kind of its own that is blank at 0 and never mixed."""
_PLAIN = Kind()


def kind_of(name: str) -> Kind:
    """The kind of a channel by its name."""
    return KINDS.get(name.split(":", 1)[0], _PLAIN)


def taken(name: str, values: Array, origin: Array) -> Array:
    """Values (N, …) of a channel by the old element behind each new one, (N,) with −1 for none."""
    origin = np.asarray(origin, np.int64)
    out: Array = np.full((len(origin), *values.shape[1:]), kind_of(name).blank, values.dtype)
    known = origin >= 0
    out[known] = values[origin[known]]
    return out


def carried(table: Table, origin: Array, mixes: Iterable[tuple[int, Weights]] = ()) -> dict[str, Array]:
    """All channels of a table by origin (N,); `mixes` are new elements that lie between old ones."""
    out = {name: taken(name, values, origin) for name, values in table.items()}
    mixes = list(mixes)
    for name, values in table.items() if mixes else ():
        if not kind_of(name).mixes:
            continue
        for new, weights in mixes:
            mean = sum(w * values[old].astype(np.float64) for w, old in weights)
            out[name][new] = np.rint(mean) if values.dtype.kind in "iu" else mean
    return out


def stacked(tables: Sequence[Table], counts: Sequence[int]) -> dict[str, Array]:
    """Channels of several meshes one after another; `counts` elements each, blank where a mesh lacks a channel."""
    out = {}
    for name in dict.fromkeys(name for table in tables for name in table):
        like = next(t[name] for t in tables if name in t)
        none = np.full(max(counts, default=0), -1)
        rows = [t[name] if name in t else taken(name, like, none[:n]) for t, n in zip(tables, counts, strict=True)]
        out[name] = np.concatenate(rows)
    return out
