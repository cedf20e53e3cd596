"""Sheets: texture tiles of a size in pixels, side by side by the UDIM convention, and the places of islands on them.

UV coordinates are 0..1 over each tile, so on a sheet that is not square a unit of u is not as long as one of v. Whatever
measures shapes (stretch, density, margins, overlap) does so in *pixel places*: each tile's pixels, tiles far apart.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import kernel
from jacket.core.mesh.polymesh import Floats, Ints
from jacket.errors import MeshError

FIRST_TILE = 1001
APART = 1 << 15
"""Pixels from one tile to the next in pixel places; no sheet is so large."""


@dataclass(frozen=True)
class Sheet:
    """One texture tile.

    tile            its number by the UDIM convention, 1001 + u + 10 v with u in 0..9 (common practice)
    width, height   in pixels
    margin          pixels between islands
    edge            pixels from islands to the sheet's edge, None for as many as between them
    least           pixels a surface unit that islands should have at least, 0 for none
    mip             level at which the margin still has that many pixels: each level halves the sheet
    """

    name: str = "Sheet"
    tile: int = FIRST_TILE
    width: int = 1024
    height: int = 1024
    margin: float = 8.0
    edge: float | None = None
    mip: int = 0
    least: float = 0.0

    def checked(self) -> Sheet:
        """The sheet itself; raises MeshError with a sentence where a value makes no sense."""
        for value in (self.width, self.height):
            if not 16 <= value <= 16384:
                raise MeshError(f"A sheet of {value} pixels is out of range; choose 16 to 16384.")
        side = min(self.width, self.height)
        if not 0 <= self.margin <= side / 8:
            raise MeshError(
                f"A margin of {self.margin:g} pixels does not suit a sheet of {side}; choose 0 to {side // 8}."
            )
        if self.edge is not None and not 0 <= self.edge <= side / 8:
            raise MeshError(f"{self.edge:g} pixels to the edge do not suit a sheet of {side}; choose 0 to {side // 8}.")
        if not 0 <= self.mip <= 12 or self.gap > side / 4:
            raise MeshError(
                f"A margin of {self.margin:g} pixels at mip level {self.mip} is {self.gap:g} on the sheet itself, too much "
                f"for {side}; choose a lower level or margin."
            )
        if not (0 <= self.least < 1e9):
            raise MeshError(f"A least density of {self.least:g} makes no sense; choose 0 for none, or pixels a unit.")
        if not FIRST_TILE <= self.tile <= 9999:
            raise MeshError(f"Tile {self.tile} is no UDIM number; choose {FIRST_TILE} to 9999.")
        return self

    @property
    def gap(self) -> float:
        """Pixels between islands at the sheet's own size."""
        return self.margin * 2.0**self.mip

    @property
    def rim(self) -> float:
        """Pixels to the sheet's edge at its own size."""
        return self.gap if self.edge is None else self.edge * 2.0**self.mip

    @property
    def origin(self) -> Floats:
        """(2,) lower left corner in UV coordinates."""
        row, column = divmod(self.tile - FIRST_TILE, 10)
        return np.array([column, row], np.float64)

    @property
    def size(self) -> Floats:
        """(2,) pixels across and up."""
        return np.array([self.width, self.height], np.float64)

    @property
    def area(self) -> float:
        """Pixels of the whole sheet."""
        return float(self.width * self.height)

    def pixels(self, uv: Floats) -> Floats:
        """(N, 2) pixels from the sheet's lower left corner."""
        return (uv - self.origin) * self.size

    def coordinates(self, pixels: Floats) -> Floats:
        """(N, 2) UV coordinates of pixels from the lower left corner."""
        return np.asarray(self.origin + pixels / self.size, np.float64)


Sheets = tuple[Sheet, ...]
ONE_SHEET: Sheets = (Sheet(),)


def checked_sheets(sheets: Sheets) -> Sheets:
    """The sheets themselves; raises MeshError where there is none, one makes no sense, or two share a tile or name."""
    if not sheets:
        raise MeshError("There is no sheet to lay islands on; add one.")
    for k, sheet in enumerate(sheets):
        sheet.checked()
        for other in sheets[:k]:
            if other.tile == sheet.tile:
                raise MeshError(f"{sheet.name} and {other.name} both lie on tile {sheet.tile}; choose another tile.")
            if other.name == sheet.name:
                raise MeshError(f"Two sheets are called {sheet.name}; rename one.")
    return sheets


def free_tile(sheets: Sheets) -> int:
    """The lowest tile number that no sheet has."""
    taken = {s.tile for s in sheets}
    return next(t for t in range(FIRST_TILE, 10_000) if t not in taken)


def sheet_at(sheets: Sheets, places: Floats) -> Ints:
    """(N,) index of the sheet that each UV place (N, 2) lies on, −1 for none or a place that is not a number."""
    out = np.full(len(places), -1, np.int32)
    with np.errstate(invalid="ignore"):
        tile = np.floor(places)
    for k, sheet in enumerate(sheets):
        out[(tile == sheet.origin).all(axis=1)] = k
    return out


def pixel_places(uv: Floats, which: NDArray[np.signedinteger], sheets: Sheets) -> Floats:
    """(N, 2) pixel places of UV coordinates, each by the sheet `which` (N,) it belongs to; −1 counts as the first."""
    if len(sheets) == 1:
        return np.asarray(uv * sheets[0].size + sheets[0].origin * (APART - sheets[0].size))
    sizes, origins = (np.array([getattr(s, name) for s in sheets], np.float64) for name in ("size", "origin"))
    return np.asarray(_pixel_places(np.ascontiguousarray(uv, np.float64), np.ascontiguousarray(which), sizes, origins))


@kernel
def _pixel_places(uv, which, sizes, origins):
    out = np.empty_like(uv)
    for n in range(len(uv)):
        s = max(which[n], 0)
        for k in range(2):
            out[n, k] = (uv[n, k] - origins[s, k]) * sizes[s, k] + origins[s, k] * APART
    return out


def from_pixel_places(places: Floats, which: NDArray[np.signedinteger], sheets: Sheets) -> Floats:
    """(N, 2) UV coordinates of pixel places; the inverse of `pixel_places`."""
    if len(sheets) == 1:
        return sheets[0].coordinates(places - sheets[0].origin * APART)
    out = np.empty_like(places)
    for k, sheet in enumerate(sheets):
        here = (which == k) | ((which < 0) & (k == 0))
        out[here] = sheet.coordinates(places[here] - sheet.origin * APART)
    return out
