"""Covering a source with quads: by a number, a length of edges or a largest gap."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.auto import MOST_QUADS, AutoResult, AutoSettings, automatic_quads, quads_within_gap
from jacket.core.space.bvh import Bvh
from jacket.errors import MeshError
from jacket.jobs.ranges import one_of, within
from jacket.progress import Progress, silent


@dataclass(frozen=True)
class RemeshSettings:
    """auto   what the quads are asked for;  gap   the largest gap aimed at in % of the diagonal, 0 for a number"""

    auto: AutoSettings = field(default_factory=AutoSettings)
    gap: float = 0.0

    def checked(self) -> RemeshSettings:
        """The settings themselves; raises MeshError with a sentence where one makes no sense."""
        a = self.auto
        if a.quads < 12:
            raise MeshError(f"{a.quads} quads cannot cover a form; ask for 12 or more.")
        within(a.quads, 12, MOST_QUADS, "A number of quads")
        if not 0 < a.sharp <= 180:
            raise MeshError(f"A sharp angle of {a.sharp:g}° makes no sense; give 1 to 180.")
        within(a.shortest, 0, 1e6, "A least length of creases")
        within(a.form, 0, 1, "A share of closer steps in bends")
        within(a.rows, 0, 1, "A share of rows that close")
        within(a.edge, 0, 1e12, "A length of edges")
        within(self.gap, 0, 50, "A largest gap")
        one_of(a.mirror or "none", ("none", "x", "y", "z"), "A mirror plane")
        return self

    def as_dict(self) -> dict[str, Any]:
        """Plain values, from which `from_dict` makes the same settings."""
        return {**self.auto.as_dict(), "gap": self.gap}

    @staticmethod
    def from_dict(values: dict[str, Any]) -> RemeshSettings:
        """Settings from plain values."""
        return RemeshSettings(AutoSettings.from_dict(values), float(values.get("gap", 0.0)))


def unwatched(strokes: Any) -> None:
    """Shows the field to nobody."""


def remesh(
    source: PolyMesh, settings: RemeshSettings, progress: Progress = silent, surface: Bvh | None = None,
    watch: Callable[[Any], None] = unwatched, unguided: PolyMesh | None = None,
) -> AutoResult:  # fmt: skip
    """Cover a source with quads; the same input gives the same bytes.

    surface    the hierarchy over the source where there is one
    watch      is shown strokes (S, 2, 3) of the field before there are quads
    unguided   the result without guides where there is one, to tell the guides against
    Raises MeshError where the settings make no sense or the source has no area.
    """
    settings.checked()
    if settings.gap > 0:
        return quads_within_gap(source, settings.auto, settings.gap, progress, surface, watch)
    return automatic_quads(source, settings.auto, progress, surface, watch, unguided)
