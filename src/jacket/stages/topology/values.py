"""What the Topology stage is set to."""

from __future__ import annotations

from dataclasses import dataclass

from jacket.commands.values import chosen, ranged
from jacket.core.mesh.choosing import LIKENESS
from jacket.core.quads.settings import AutoSettings
from jacket.document.state import State
from jacket.jobs.remesh import RemeshSettings


@dataclass
class TopologyValues:
    """aim, quads, edge, gap, sharp, shortest, form, rows, across, skin   what a trial is made with; aim: "number", "edge" or "gap"
    level_axis, tidy_even, tidy_stay, merge_distance, idle_angle    what Tidy does things with; a distance of nought fits
    nth, nth_offset, similar_by, similar_slack, sharp_weight        what holding goes by
    copies, copy_axis                                               how a layer is repeated
    """

    aim: str = chosen("number", "number", "edge", "gap")
    quads: int = ranged(2000, 12, 500_000)
    edge: float = ranged(0.05, 1e-12, 1e12)
    gap: float = ranged(0.5, 1e-4, 50)
    sharp: float = ranged(38.0, 1, 180)
    shortest: float = ranged(8.0, 0, 1e6)
    form: float = ranged(60.0, 0, 100)
    rows: float = ranged(75.0, 0, 100)
    across: bool = False
    skin: bool = True
    level_axis: str = chosen("y", *"xyz")
    tidy_even: bool = False
    tidy_stay: bool = True
    merge_distance: float = ranged(0.0, 0, 1e12)
    idle_angle: float = ranged(2.0, 0, 180)
    nth: int = ranged(2, 1, 1000)
    nth_offset: int = ranged(0, 0, 1000)
    similar_by: str = chosen("length", *LIKENESS)
    similar_slack: float = ranged(10.0, 0, 1000)
    sharp_weight: float = ranged(10.0, 0, 1e6)
    copies: int = ranged(6, 2, 360)
    copy_axis: str = chosen("y", *"xyz")

    def remeshing(self, state: State) -> RemeshSettings:
        """What a trial is made with: the card's numbers, the mirror, the guides and the painted density."""
        auto = AutoSettings(
            quads=self.quads, sharp=self.sharp, shortest=self.shortest, edge=self.edge if self.aim == "edge" else 0.0,
            mirror=state.mirror, across=self.across, guides=state.guides, paint=state.paint, skin=self.skin,
            form=0.01 * self.form, rows=0.01 * self.rows,
        )  # fmt: skip
        return RemeshSettings(auto, self.gap if self.aim == "gap" else 0.0)
