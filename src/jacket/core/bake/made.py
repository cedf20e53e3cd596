"""What a bake has made: the maps of every sheet, and how they came out."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.bake.cast import BEHIND, MISSED
from jacket.core.bake.maps import MAPS, Baked
from jacket.core.uv.sheets import Sheet


@dataclass(frozen=True, eq=False)
class SheetMaps:
    """The maps of one sheet by kind, and what became of its texels (H, W): 0 off the islands, HIT, BEHIND or MISSED."""

    sheet: Sheet
    maps: Mapping[str, Baked]
    state: NDArray[np.uint8]

    @property
    def missed(self) -> float:
        """Share of the islands' texels where no ray met a source."""
        return float((self.state == MISSED).sum()) / max(int((self.state > 0).sum()), 1)

    @property
    def behind(self) -> float:
        """Share of the islands' texels where only faces that look away were met."""
        return float((self.state == BEHIND).sum()) / max(int((self.state > 0).sum()), 1)


@dataclass(frozen=True, eq=False)
class Bake:
    """The maps of all sheets that have any, how far rays went by layer, in units, and what was made from what; not `whole`
    while it is still being made."""

    sheets: tuple[SheetMaps, ...] = ()
    reach: Mapping[str, float] = field(default_factory=dict)
    notes: tuple[str, ...] = ()
    seconds: float = 0.0
    ground: tuple[Any, ...] = ()
    whole: bool = True

    def of(self, kind: str, sheet: int = 0) -> Baked | None:
        """A map of a sheet by its place in the row; None where it was not baked."""
        return self.sheets[sheet].maps.get(kind) if sheet < len(self.sheets) else None

    def figures(self) -> dict[str, Any]:
        """Plain values for a report."""
        return {
            "seconds": self.seconds, "reach": dict(self.reach), "notes": list(self.notes),
            "sheets": [{"name": s.sheet.name, "tile": s.sheet.tile, "maps": sorted(s.maps), "size": list(s.state.shape[::-1]),
                        "missed": s.missed, "behind": s.behind,
                        "ranges": {k: [b.low, b.high] for k, b in s.maps.items() if MAPS[k].whole},
                        "legends": {k: dict(b.legend) for k, b in s.maps.items() if b.legend}} for s in self.sheets],
        }  # fmt: skip
