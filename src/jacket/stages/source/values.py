"""What the Source stage is set to."""

from __future__ import annotations

from dataclasses import dataclass

from jacket.commands.values import chosen, ranged
from jacket.core.source.placing import UNITS, UP_AXES
from jacket.jobs.mend import MendSettings


@dataclass
class SourceValues:
    """keep, hole, weld, rounds, noise_sharp, reduce   as in MendSettings; a length of nought means one that fits
    factor, unit, up   how the source is placed
    shown_unit         in what sizes are shown: "u", "m", "cm", "mm" or "in"
    """

    keep: int = ranged(1, 1, 1e9)
    hole: float = ranged(0.0, 0, 1e12)
    weld: float = ranged(0.0, 0, 1e12)
    rounds: int = ranged(4, 1, 1000)
    noise_sharp: float = ranged(45.0, 0, 180)
    reduce: int = ranged(500_000, 4, 1e9)
    factor: float = ranged(1.0, 1e-9, 1e9)
    unit: str = chosen("centimetres", *sorted(UNITS))
    up: str = chosen("z", *UP_AXES)
    shown_unit: str = chosen("u", "u", "m", "cm", "mm", "in")

    def mending(self) -> MendSettings:
        """The settings of mending as the job takes them."""
        return MendSettings(self.keep, self.hole, self.weld, self.rounds, self.noise_sharp, self.reduce)
