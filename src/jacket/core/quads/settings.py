"""What an automatic result is asked for."""

from __future__ import annotations

from dataclasses import dataclass

from jacket.core.quads.steering import Guide, Paint, Spot


@dataclass(frozen=True)
class AutoSettings:
    """quads wanted; sharp: degrees above which an edge is a crease (180 for none); alignment: how strongly curvature
    leads the flow, 0..1; form: how much closer the steps are in bends, 0..1; edge: a wanted edge length in place of a number, 0 for none; mirror: "", "x", "y" or "z";
    guides and spots of density; skin: whether a torn scan is laid on a closed skin first."""

    quads: int = 2000
    sharp: float = 38.0
    alignment: float = 0.15
    form: float = 0.6
    edge: float = 0.0
    mirror: str = ""
    guides: tuple[Guide, ...] = ()
    spots: tuple[Spot, ...] = ()
    paint: Paint | None = None
    skin: bool = True
