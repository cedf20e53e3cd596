"""A piece under the scissors, what is wanted of it, and when an island is good enough."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from jacket.core.mesh.polymesh import Bools, Ints
from jacket.core.seams.laying import Laid
from jacket.core.seams.sewing import CORNER
from jacket.core.seams.tailor import Tailor
from jacket.progress import Progress

USUAL = 12
"""Islands of a piece that are wanted at most unless told."""


@dataclass(frozen=True)
class SuggestSettings:
    """most     islands wanted at most of each connected piece; rings stop there, what does not open is still cut
    stretch  mean energy that an island may have, 1 is perfect
    mirror   "", "x", "y" or "z": both sides of the plane through the origin are cut alike
    longest  sides of a sheet that a strip may be long, one that the whole mesh fills to `suggest.FULL`; islands that
             span more (`laying.SLENDER`) are cut where that makes more of the sheet; inf for any length
    """

    most: int = USUAL
    stretch: float = 1.06
    mirror: str = ""
    longest: float = 0.85


@dataclass(frozen=True)
class Limits:
    """What an island may be like: mean and 99th percentile of its energy, share of its hull that it fills, how long a strip may be and how wide it
    may span, and what share of its hull a large one fills, of how much area on."""

    energy: float
    p99: float
    solidity: float
    long: float = np.inf
    wide: float = np.inf
    full: float = 0.0
    large: float = np.inf

    def keeps(self, laid: Laid | None) -> bool:
        """Whether an island is good enough."""
        return (
            laid is not None and not laid.crosses and laid.energy <= self.energy and laid.p99 <= self.p99
            and laid.solidity >= self.filled(laid) and laid.strip <= self.long and laid.span <= self.wide
        )  # fmt: skip

    def filled(self, laid: Laid) -> float:
        """What share of its hull an island is to fill."""
        return max(self.solidity, self.full) if laid.area >= self.large else self.solidity


@dataclass(frozen=True, eq=False)
class Way:
    """How a piece is cut at first: along a network of edges (E,), or by its limbs where there is none; whether those edges are rounded,
    and whether what lies between them are flat walls."""

    network: Bools | None = None
    rounded: bool = False
    flat: bool = False


@dataclass(eq=False)
class Work:
    """A piece, how it is to be cut, what an island has to keep when it is opened and when seams are sewn, the least share of the way
    round the smaller side that is sewn, how far an island may span where that is held, the angle at which chains end, the edges of the form
    that are rounded (K,), where rings are cut, how many cuts were made, and which parts are known to be good."""

    tailor: Tailor
    settings: SuggestSettings
    open: Limits
    progress: Progress
    sew: Limits
    hinge: float = 0.0
    widest: float = np.inf
    corner: float = CORNER
    bevels: Ints = field(default_factory=lambda: np.zeros(0, np.int32))
    rings: Bools = field(default_factory=lambda: np.zeros(0, bool))
    acts: int = 0
    good: set[bytes] = field(default_factory=set)
