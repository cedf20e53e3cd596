"""What a check is."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

Level = Literal["good", "look", "wrong"]
Kind = Literal["points", "edges", "faces", "none"]


@dataclass(frozen=True, eq=False)
class Check:
    """id; label; value as shown; level; the offenders as element ids of a kind; whether a
    delivery is held up by it when it is wrong."""

    id: str
    label: str
    value: str
    level: Level
    kind: Kind = "none"
    offenders: NDArray[Any] = field(default_factory=lambda: np.zeros(0, np.int32))
    number: float = 0.0

    def as_dict(self) -> dict[str, Any]:
        """Plain values for a JSON report."""
        return {"id": self.id, "label": self.label, "value": self.value, "level": self.level, "number": self.number}


def graded(value: float, look: float, wrong: float) -> Level:
    """Good below `look`, wrong from `wrong` on."""
    if value >= wrong:
        return "wrong"
    return "look" if value >= look else "good"
