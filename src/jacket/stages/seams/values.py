"""What the Seams stage is set to."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass
class SeamsValues:
    """angle   degrees above which *Cut above the angle* cuts"""

    angle: float = 60.0
