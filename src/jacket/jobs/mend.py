"""Mending a source: what can be put right, with which settings."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.source import mend as mends
from jacket.core.source.denoise import noise_smoothed
from jacket.core.source.holes import holes_closed
from jacket.core.source.mend import Mend
from jacket.core.source.reduce import reduced
from jacket.errors import MeshError
from jacket.jobs.ranges import within
from jacket.progress import Progress, silent

HOLE_SHARE, WELD_SHARE = 0.25, 1e-5
"""Lengths that fit a source where none was typed, as shares of its diagonal."""


@dataclass(frozen=True)
class MendSettings:
    """keep     how many of the largest loose parts stay
    hole     perimeter up to which holes are closed; 0 for one that fits the source, infinite for all
    weld     distance under which points are joined; 0 for one that fits the source
    rounds   of smoothing;  sharp   degrees of edges that smoothing keeps
    reduce   triangles wanted
    """

    keep: int = 1
    hole: float = 0.0
    weld: float = 0.0
    rounds: int = 4
    sharp: float = 45.0
    reduce: int = 500_000

    def checked(self) -> MendSettings:
        """The settings themselves; raises MeshError with a sentence where one makes no sense."""
        within(self.keep, 1, 1e9, "A number of parts")
        if self.hole != np.inf:
            within(self.hole, 0, 1e12, "A perimeter")
        within(self.weld, 0, 1e12, "A distance for welding")
        within(self.rounds, 1, 1000, "A number of rounds")
        within(self.sharp, 0, 180, "A sharp angle")
        within(self.reduce, 4, 1e9, "A number of triangles")
        return self


def fitting_length(value: float, mesh: PolyMesh, share: float) -> float:
    """A given length, or a share of the diagonal in two digits where it is nought."""
    if value > 0 or mesh.diagonal == 0:
        return value
    return float(f"{share * mesh.diagonal:.1e}")


Work = Callable[[PolyMesh, MendSettings, Progress], Mend]

MENDS: dict[str, tuple[str, Work]] = {
    "weld-points": ("weld points", lambda m, s, p: mends.points_welded(m, fitting_length(s.weld, m, WELD_SHARE))),
    "drop-repeats": ("drop repeated and flat faces", lambda m, s, p: mends.repeats_dropped(m)),
    "split-nonmanifold": ("split what is not manifold", lambda m, s, p: mends.nonmanifold_split(m)),
    "keep-largest": ("keep the largest parts", lambda m, s, p: mends.parts_kept(m, s.keep)),
    "turn-outward": ("turn faces outward", lambda m, s, p: mends.turned_outward(m)),
    "close-holes": ("close holes", lambda m, s, p: holes_closed(m, fitting_length(s.hole, m, HOLE_SHARE), p)),
    "smooth-noise": ("smooth noise", lambda m, s, p: noise_smoothed(m, s.rounds, s.sharp, p)),
    "reduce": ("reduce", lambda m, s, p: reduced(m, s.reduce, p)),
}
"""Each mend by its command, in the order in which one helps the next: its name, and what it does to a mesh."""


def mend(what: str, mesh: PolyMesh, settings: MendSettings = MendSettings(), progress: Progress = silent) -> Mend:
    """Work one mend out. Raises MeshError for settings that make no sense or a mend that is not known."""
    if what not in MENDS:
        raise MeshError(f"There is no mend {what}; choose one of {', '.join(MENDS)}.")
    if not mesh.diagonal > 0:
        raise MeshError("All points of the source lie in one place, so there is nothing to mend; export it again.")
    name, work = MENDS[what]
    progress(0.0, name)
    return work(mesh, settings.checked(), progress)
