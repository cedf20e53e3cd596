"""What an automatic result is asked for."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from jacket.core.quads.steering import Guide, Paint, Spot


@dataclass(frozen=True)
class AutoSettings:
    """quads       how many are wanted
    sharp       degrees above which an edge is a crease where little else turns beside it, 180 for none
    shortest    how many quads long a crease has to be
    marked      whether edges of the source marked as sharp are creases too
    alignment   how strongly curvature leads the flow, 0..1
    form        how much closer the steps are in bends, 0..1
    edge        a wanted edge length in place of a number, 0 for none
    mirror      "", "x", "y" or "z"
    across      whether a row of quads lies across the mirror plane, not a row of edges in it
    guides, spots, paint   curves and density
    rows        how much rows are made to close, 0..1: 0 keeps steps as even as they come, 1 closes rows at the price of uneven steps
    skin        whether of a torn scan only the outside is covered, its holes and small handles closed
    """

    quads: int = 2000
    sharp: float = 38.0
    shortest: float = 8.0
    marked: bool = True
    alignment: float = 0.15
    form: float = 0.6
    edge: float = 0.0
    mirror: str = ""
    across: bool = False
    guides: tuple[Guide, ...] = ()
    spots: tuple[Spot, ...] = ()
    paint: Paint | None = None
    skin: bool = True
    rows: float = 0.75

    def unguided(self) -> AutoSettings:
        """The same without guides."""
        return replace(self, guides=())

    def as_dict(self) -> dict[str, Any]:
        """Plain values, from which `from_dict` makes the same settings."""
        plain = {k: getattr(self, k) for k in PLAIN}
        guides = [{"points": np.asarray(g.points, float).tolist(), "hard": g.hard, "closed": g.closed, "smooth": g.smooth}
                  for g in self.guides]  # fmt: skip
        spots = [{"place": list(s.place), "radius": s.radius, "factor": s.factor} for s in self.spots]
        paint = None
        if self.paint is not None:
            paint = {"places": self.paint.places.tolist(), "values": np.asarray(self.paint.values).tolist()}
        return {**plain, "guides": guides, "spots": spots, "paint": paint}

    @staticmethod
    def from_dict(values: dict[str, Any]) -> AutoSettings:
        """Settings from plain values; what is missing or of an older kind is as usual."""
        default = AutoSettings()
        plain = {k: type(getattr(default, k))(values.get(k, getattr(default, k))) for k in PLAIN}
        kept = values.get("guides") or []
        guides = tuple(Guide(np.asarray(g["points"], float), bool(g["hard"]), bool(g["closed"]), bool(g["smooth"]))
                       for g in (kept if isinstance(kept, list) else []))  # fmt: skip
        spots = tuple(
            Spot(tuple(s["place"]), float(s["radius"]), float(s["factor"])) for s in values.get("spots") or []
        )
        paint = values.get("paint")
        painted = Paint(np.asarray(paint["places"], float), np.asarray(paint["values"], float)) if paint else None
        return AutoSettings(**plain, guides=guides, spots=spots, paint=painted)


PLAIN = ("quads", "sharp", "shortest", "marked", "alignment", "form", "edge", "mirror", "across", "skin", "rows")
