"""What the Layout stage is set to."""

from __future__ import annotations

from dataclasses import dataclass

from jacket.commands.values import chosen
from jacket.core.layout.pack import TURNS, PackSettings


@dataclass
class LayoutValues:
    """turn    how islands may turn when they are packed: "free", "quarter" or "none"
    spread  whether packing shares islands out among the sheets anew
    """

    turn: str = chosen("free", *TURNS)
    spread: bool = False

    def packing(self) -> PackSettings:
        """The settings of packing as the job takes them."""
        return PackSettings(self.turn, spread=self.spread)
