"""What came back when a delivery was taken in."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.checks.model import Level


@dataclass(frozen=True)
class Finding:
    """id; how bad it is; a sentence for people; a number to compare."""

    id: str
    level: Level
    sentence: str
    number: float = 0.0


@dataclass(frozen=True, eq=False)
class Views:
    """Both meshes seen from several sides: mean and 95 % of the angle between their shading normals, the share of the outline
    that only one of them fills, and a picture (H, W, 3), a row a side: dense, delivered, degrees apart up to `most`."""

    mean: float
    worst: float
    outline: float
    picture: NDArray[np.uint8]
    most: float

    def as_dict(self) -> dict[str, float]:
        """Plain values for a report."""
        return {"mean": self.mean, "percentile95": self.worst, "outline": self.outline} if np.isfinite(self.mean) else {}

    def findings(self) -> list[Finding]:
        """What the views tell in a sentence."""
        if not np.isfinite(self.mean):
            return [Finding("views", "wrong", "From no side do the delivery and the dense mesh lie over each other.")]
        return [Finding("views", "good", f"From four sides it shades {self.mean:.2f}° off the dense mesh, under {self.worst:.1f}° on 95 % of what is seen; "
                        f"{100 * self.outline:.2f} % of the outline differ.", self.mean)]  # fmt: skip


@dataclass(frozen=True, eq=False)
class Taken:
    """What came back: findings, and in degrees the mean errors of shading normals without maps, as delivered and the floor that
    no map of that size goes below, None where they cannot be told; and how it looks beside the dense mesh."""

    findings: tuple[Finding, ...]
    bare: float | None = None
    error: float | None = None
    floor: float | None = None
    views: Views | None = None

    @property
    def excess(self) -> float | None:
        """Degrees over the floor."""
        return self.error - self.floor if self.error is not None and self.floor is not None else None

    def told(self) -> str:
        """A sentence of the figures."""
        if self.excess is None:
            return "the files are whole; without maps and a source there is nothing to measure."
        return f"normals are {self.error:.2f}° off the dense mesh, {max(self.excess, 0.0):.2f}° over the floor; without maps {self.bare:.1f}°."

    def as_dict(self) -> dict[str, Any]:
        """Plain values for a report."""
        return {"bare": self.bare, "error": self.error, "floor": self.floor, "excess": self.excess,
                "views": self.views.as_dict() if self.views is not None else None,
                "findings": [{"id": f.id, "level": f.level, "sentence": f.sentence, "number": f.number} for f in self.findings]}  # fmt: skip
