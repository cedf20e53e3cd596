"""What the Seams stage is set to."""

from __future__ import annotations

from dataclasses import dataclass

from jacket.commands.values import ranged


@dataclass
class SeamsValues:
    """angle   degrees above which *Cut above the angle* cuts"""

    angle: float = ranged(60.0, 0, 180)
