"""What the Seams stage is set to."""

from __future__ import annotations

from dataclasses import dataclass

from jacket.commands.values import ranged
from jacket.jobs.seams import LONGEST, MOST, STRETCH, SeamSettings


@dataclass
class SeamsValues:
    """angle    degrees above which *Cut above the angle* cuts
    most     islands wanted at most when seams are suggested;  stretch  the largest mean stretch of one
    longest  how long a strip may be, in sides of a well filled sheet
    keep_cuts  whether a suggestion keeps what is cut now
    eye_height  units over the lowest point at which one walks round
    live     whether what is cut or sewn is laid flat anew at once, in its place on the sheet
    """

    angle: float = ranged(60.0, 0, 180)
    most: int = ranged(SeamSettings.most, *MOST)
    stretch: float = ranged(SeamSettings.stretch, *STRETCH)
    longest: float = ranged(SeamSettings.longest, *LONGEST)
    keep_cuts: bool = False
    live: bool = True
    eye_height: float = ranged(1.65, 0, 1e6)

    def suggesting(self, mirror: str) -> SeamSettings:
        """The settings of a suggestion as the job takes them."""
        return SeamSettings("auto", most=int(self.most), stretch=self.stretch, mirror=mirror, longest=self.longest)
