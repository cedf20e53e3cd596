"""The Source stage."""

from __future__ import annotations

from jacket.commands.model import Looks, StageSpec, Ticket
from jacket.core.checks.model import Check
from jacket.core.checks.source import source_checks
from jacket.core.derive import crossings_of, health_of
from jacket.document.state import State
from jacket.stages.source.commands import COMMANDS
from jacket.stages.source.tools.surveying import Gauge, Ground, Sift
from jacket.stages.source.values import SourceValues
from jacket.tools.holding import Hold


def checks(state: State) -> list[Check]:
    """What is wrong with the chosen source."""
    chosen = state.chosen_source
    return [] if chosen is None else source_checks(health_of(chosen.mesh), crossings_of(chosen.mesh))


def ticket(state: State, found: list[Check]) -> Ticket:
    """Triangles of all sources, and the worst that is known of the chosen one."""
    source = state.chosen_source
    if source is None:
        return Ticket("nothing open")
    health = health_of(source.mesh)
    count = sum(len(s.mesh.triangle_points) for s in state.sources)
    word = "sound" if health.sound else ("holes" if health.borders else "look")
    level = "wrong" if any(c.level == "wrong" for c in found) else "good" if health.sound else "look"
    return Ticket(f"{count:,} tris · {word}", level)  # type: ignore[arg-type]


SPEC = StageSpec(
    "source", "Source", "1", (Sift, Gauge, Ground, Hold), COMMANDS, SourceValues, checks, ticket,
    ("keep-picked", "drop-picked", "close-holes", "to-ground", "count-crossings", "open-source", "frame-all"),
    Looks(flat_share=0.31),
)  # fmt: skip
