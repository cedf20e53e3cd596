"""What the Deliver stage is set to."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass
class DeliverValues:
    """profile   by its name (formats/deliver/profiles.py)"""

    profile: str = "y-up-metres"
