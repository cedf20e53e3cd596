"""What the Deliver stage is set to."""

from __future__ import annotations

from dataclasses import dataclass

from jacket.commands.values import chosen
from jacket.formats.deliver.profiles import PROFILES


@dataclass
class DeliverValues:
    """profile   by its name (formats/deliver/profiles.py)"""

    profile: str = chosen("y-up-metres", *PROFILES)
