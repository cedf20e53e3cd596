"""What the Flatten stage is set to."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass
class FlattenValues:
    """Nothing yet: flattening has no choices, and what is shown is in the display."""
