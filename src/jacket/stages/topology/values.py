"""What the Topology stage is set to."""

from __future__ import annotations

from dataclasses import dataclass

from jacket.core.quads.settings import AutoSettings
from jacket.document.state import State
from jacket.jobs.remesh import RemeshSettings


@dataclass
class TopologyValues:
    """aim, quads, edge, gap, sharp, shortest, form, across, skin   what a trial is made with; aim: "number", "edge" or "gap"
    level_axis, tidy_even, tidy_stay, merge_distance, idle_angle    what Tidy does things with; a distance of nought fits
    nth, nth_offset, similar_by, similar_slack, sharp_weight        what holding goes by
    copies, copy_axis                                               how a layer is repeated
    """

    aim: str = "number"
    quads: int = 2000
    edge: float = 0.05
    gap: float = 0.5
    sharp: float = 38.0
    shortest: float = 8.0
    form: float = 60.0
    across: bool = False
    skin: bool = True
    level_axis: str = "y"
    tidy_even: bool = False
    tidy_stay: bool = True
    merge_distance: float = 0.0
    idle_angle: float = 2.0
    nth: int = 2
    nth_offset: int = 0
    similar_by: str = "length"
    similar_slack: float = 10.0
    sharp_weight: float = 10.0
    copies: int = 6
    copy_axis: str = "y"

    def remeshing(self, state: State) -> RemeshSettings:
        """What a trial is made with: the card's numbers, the mirror, the guides and the painted density."""
        auto = AutoSettings(
            quads=self.quads, sharp=self.sharp, shortest=self.shortest, edge=self.edge if self.aim == "edge" else 0.0,
            mirror=state.mirror, across=self.across, guides=state.guides, paint=state.paint, skin=self.skin,
            form=0.01 * self.form,
        )  # fmt: skip
        return RemeshSettings(auto, self.gap if self.aim == "gap" else 0.0)
