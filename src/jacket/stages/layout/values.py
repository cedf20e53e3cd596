"""What the Layout stage is set to."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jacket.commands.values import chosen, ranged
from jacket.core.layout.arrange import PIVOTS
from jacket.core.layout.pack import TURNS, PackSettings

DENSITY_UNITS = {"u": 1.0, "m": 1.0, "cm": 100.0}
"""Surface units in one of what densities are told by: a unit is a metre, as everywhere in Jacket."""


@dataclass
class LayoutValues:
    """turn      how islands may turn when they are packed: "free", "quarter" or "none"
    mirrored     whether they may be laid on their face
    spread       whether packing shares islands out among the sheets anew
    seconds      that packing takes at most
    keep         "fill" the sheet, keep "sizes" against one another and fill, or the "density" that is set
    only_held    whether packing places what is held only, into the room that is left
    together     whether all visible layers are packed, or the active one
    density      pixels a unit that are set
    density_unit by which densities are told: "u", "m" or "cm"
    pivot        what islands turn and grow about;  step whether moves go by whole pixels ("px"), a grid, or freely
    grid         pixels of that grid
    to_sheet     whether islands are aligned to the sheet, or to one another
    tolerance    per cent of their size by which twins may differ;  twins_mirrored whether mirror images are twins
    order        by what the ledger is sorted;  wanted  density below which islands are checked, 0 for none
    """

    turn: str = chosen("free", *TURNS)
    mirrored: bool = False
    spread: bool = False
    seconds: float = ranged(10.0, 0.5, 600.0)
    keep: str = chosen("fill", "fill", "sizes", "density")
    only_held: bool = False
    together: bool = False
    density: float = ranged(512.0, 1e-3, 1e6)
    density_unit: str = chosen("u", *DENSITY_UNITS)
    pivot: str = chosen("middle", *PIVOTS, "sheet", "origin", "each")
    step: str = chosen("free", "free", "px", "grid", "islands")
    grid: float = ranged(32.0, 1, 4096)
    to_sheet: bool = False
    tolerance: float = ranged(1.0, 0.01, 20.0)
    twins_mirrored: bool = True
    order: str = chosen("size", "size", "name", "density", "stretch", "sheet", "done")
    wanted: float = ranged(0.0, 0.0, 1e6)

    def packing(self) -> PackSettings:
        """The settings of packing as the job takes them."""
        return PackSettings(
            self.turn, self.mirrored, self.spread, steps=10**9, seconds=self.seconds,
            density=self.density if self.keep == "density" else None, even=self.keep != "sizes",
        )  # fmt: skip

    def told(self, density: float) -> str:
        """A density in pixels a surface unit as it is told."""
        value = density / DENSITY_UNITS[self.density_unit]
        return f"{value:,.2f}" if np.isfinite(value) and value < 100 else f"{value:,.0f}"
