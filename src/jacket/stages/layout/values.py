"""What the Layout stage is set to."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jacket.commands.values import chosen, coloured, ranged
from jacket.core.layout.pack import TURNS, PackSettings
from jacket.formats.deliver.picture import FILLS, PictureSettings

DENSITY_UNITS = {"u": 1.0, "m": 1.0, "cm": 100.0}
"""Surface units in one of what densities are told by: a unit is a metre, as everywhere in Jacket."""


@dataclass
class LayoutValues:
    """turn      how islands may turn when they are packed: "upright", "free", "quarter" or "none", as `PackSettings` tells
    mirrored     whether they may be laid on their face
    spread       whether packing shares islands out among the sheets anew
    seconds      that packing takes at most
    pack_size    "fill" the sheet, keep "sizes" against one another and fill, or the "density" that is set
    only_held    whether packing places what is held only, into the room that is left
    together     whether all visible layers are packed, or the active one
    density      pixels a unit that are set
    density_unit by which densities are told: "u", "m" or "cm"
    to_sheet     whether islands are aligned to the sheet, or to one another
    picture_…    how the layout is drawn as a picture: multiple of the sheet's size, ground, fill, edges of quads, names
    seam_colour, line_colour, seam_width, line_width  of the picture, as #rrggbb and in pixels of the sheet
    order        by what the ledger is sorted
    """

    turn: str = chosen("upright", *TURNS)
    mirrored: bool = False
    spread: bool = False
    seconds: float = ranged(10.0, 0.5, 600.0)
    pack_size: str = chosen("fill", "fill", "sizes", "density")
    only_held: bool = False
    together: bool = False
    density: float = ranged(512.0, 1e-3, 1e6)
    density_unit: str = chosen("u", *DENSITY_UNITS)
    to_sheet: bool = False
    picture_times: int = ranged(1, 1, 16)
    picture_ground: str = chosen("paper", "paper", "white", "black", "none")
    picture_fill: str = chosen("tints", *FILLS)
    picture_lines: bool = True
    picture_names: bool = True
    seam_colour: str = coloured("#23272e")
    line_colour: str = coloured("#96928c")
    seam_width: float = ranged(2.0, 0.0, 64.0)
    line_width: float = ranged(1.0, 0.0, 64.0)
    order: str = chosen("size", "size", "name", "density", "stretch", "sheet", "done")

    def packing(self) -> PackSettings:
        """The settings of packing as the job takes them."""
        return PackSettings(
            self.turn, self.mirrored, self.spread, steps=10**9, seconds=self.seconds,
            density=self.density if self.pack_size == "density" else None, even=self.pack_size != "sizes",
        )  # fmt: skip

    def picture(self) -> PictureSettings:
        """The settings of the layout picture as the job takes them. Raises MeshError where one makes no sense."""
        ground = {"paper": "#f4f0e8", "white": "#ffffff", "black": "#000000", "none": ""}[self.picture_ground]
        dark = self.picture_ground == "black" and self.picture_fill == "none"
        return PictureSettings(
            int(self.picture_times), ground, self.picture_fill, "#d6d0c8", self.line_colour if self.picture_lines else "",
            self.line_width, self.seam_colour, self.seam_width,
            ("#fbf9f4" if dark else "#23272e") if self.picture_names else "", "#e3a712" if dark else "#7c2d3a",
        ).checked()  # fmt: skip

    def told(self, density: float) -> str:
        """A density in pixels a surface unit as it is told."""
        value = density / DENSITY_UNITS[self.density_unit]
        return f"{value:,.2f}" if np.isfinite(value) and value < 100 else f"{value:,.0f}"
