"""What the Flatten stage is set to."""

from __future__ import annotations

from dataclasses import dataclass

from jacket.commands.values import chosen, ranged
from jacket.core.flatten.directions import WAYS
from jacket.core.flatten.shaping import DIRECTIONS, SPACINGS


@dataclass
class FlattenValues:
    """balance    what counts when islands are trued: 0 angles alone, 50 both alike, 100 areas alone
    orient  what islands are turned by
    direction  the way held edges are laid straight;  spacing  how their points are spaced then
    """

    balance: float = ranged(50.0, 0, 100)
    orient: str = chosen("up", *(w for w, _ in WAYS))
    direction: str = chosen("own", *(d for d, _ in DIRECTIONS))
    spacing: str = chosen("kept", *(s for s, _ in SPACINGS))
