"""Where a jacket is cut: as its UVs are, above an angle, or as suggested."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from jacket.core.derive import sky_of
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.seams.cloth import Watch, unwatched
from jacket.core.seams.cuts import cut_as_mapped, cut_edges, sharp_edges
from jacket.core.seams.suggest import Wishes, suggest_seams
from jacket.core.seams.work import SuggestSettings
from jacket.errors import MeshError
from jacket.jobs.ranges import one_of, within
from jacket.progress import Progress, silent

WAYS = ("keep", "auto", "angle")
MOST = (1, 1000)
STRETCH = (1.001, 2.0)
LONGEST = (0.25, 100.0)


@dataclass(frozen=True)
class SeamSettings:
    """how      "keep" the cuts of the UVs, "auto" for suggested ones, "angle" for all edges over `angle` degrees
    afresh   whether cuts that are there go first, with "angle"
    most     islands wanted at most of each connected piece, with "auto"
    stretch  largest mean stretch (symmetric Dirichlet, 1 is none) of an island, with "auto"
    mirror   "", "x", "y" or "z": both sides of that plane are cut alike, with "auto"
    longest  sides of a well filled sheet that a strip may be long, with "auto"
    """

    how: str = "auto"
    angle: float = 60.0
    afresh: bool = True
    most: int = SuggestSettings.most
    stretch: float = SuggestSettings.stretch
    mirror: str = ""
    longest: float = SuggestSettings.longest

    def checked(self) -> SeamSettings:
        """The settings themselves; raises MeshError with a sentence where one makes no sense."""
        one_of(self.how, WAYS, "A way to cut")
        within(self.angle, 0, 180, "An angle")
        within(self.most, *MOST, "A number of islands")
        within(self.stretch, *STRETCH, "A largest stretch")
        within(self.longest, *LONGEST, "The longest strip")
        one_of(self.mirror or "none", ("none", "x", "y", "z"), "A mirror")
        return self


def seams(
    mesh: PolyMesh, settings: SeamSettings = SeamSettings(), progress: Progress = silent, wishes: Wishes = Wishes(),
    watch: Watch = unwatched,
) -> PolyMesh:  # fmt: skip
    """The mesh with its active UV set cut. Raises MeshError where there is nothing to keep or no edge over the angle."""
    settings.checked()
    if settings.how == "auto":
        if wishes.seen is None:
            progress(0.0, "looking where it is hidden")
            wishes = replace(wishes, seen=sky_of(mesh))
        asked = SuggestSettings(settings.most, settings.stretch, settings.mirror, settings.longest)
        return suggest_seams(mesh, asked, progress, wishes, watch)
    if settings.how == "keep":
        if mesh.uv is None:
            raise MeshError("The file has no UVs whose cuts could be kept; use --seams auto or --seams angle.")
        return cut_as_mapped(mesh)
    edges = sharp_edges(mesh, settings.angle)
    if len(edges) == 0 and not settings.afresh:
        raise MeshError(f"No edge turns by more than {settings.angle:g}°; lower the angle.")
    return cut_edges(mesh.with_cuts(np.zeros((0, 2))) if settings.afresh else mesh, edges)
