"""Rows of a jacket unwound over its source."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jacket.core.mesh.polymesh import Ints, PolyMesh
from jacket.core.quads.unwinding import rows_unwound
from jacket.core.space.bvh import Bvh
from jacket.errors import MeshError
from jacket.jobs.ranges import one_of, within
from jacket.progress import Progress, silent


@dataclass(frozen=True)
class UnwindSettings:
    """rows   how much rows are made to close, 0..1;  sharp   degrees above which edges are creases;  mirror   "", "x", "y", "z" """

    rows: float = 0.75
    sharp: float = 38.0
    mirror: str = ""

    def checked(self) -> UnwindSettings:
        """The settings themselves; raises MeshError with a sentence where one makes no sense."""
        within(self.rows, 0, 1, "A share of rows that close")
        if not 0 < self.sharp <= 180:
            raise MeshError(f"A sharp angle of {self.sharp:g}° makes no sense; give 1 to 180.")
        one_of(self.mirror or "none", ("none", "x", "y", "z"), "A mirror plane")
        return self


def unwind(
    jacket: PolyMesh, surface: Bvh, settings: UnwindSettings, faces: Ints | None = None, progress: Progress = silent
) -> tuple[PolyMesh, str]:
    """The jacket with rows that close better, and a sentence that says how much; only `faces` where some are given.

    Raises EditRefused where no other rows are to be had, MeshError where the settings make no sense.
    """
    settings.checked()
    chosen = np.zeros(0, np.int32) if faces is None else faces
    return rows_unwound(jacket, chosen, surface, settings.rows, settings.sharp, settings.mirror, progress)
