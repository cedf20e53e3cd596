"""What the Source stage is set to."""

from __future__ import annotations

from dataclasses import dataclass

from jacket.jobs.mend import MendSettings


@dataclass
class SourceValues:
    """keep, hole, weld, rounds, noise_sharp, reduce   as in MendSettings; a length of nought means one that fits
    factor, unit, up   how the source is placed
    shown_unit         in what sizes are shown: "u", "m", "cm", "mm" or "in"
    """

    keep: int = 1
    hole: float = 0.0
    weld: float = 0.0
    rounds: int = 4
    noise_sharp: float = 45.0
    reduce: int = 500_000
    factor: float = 1.0
    unit: str = "centimetres"
    up: str = "z"
    shown_unit: str = "u"

    def mending(self) -> MendSettings:
        """The settings of mending as the job takes them."""
        return MendSettings(self.keep, self.hole, self.weld, self.rounds, self.noise_sharp, self.reduce)
