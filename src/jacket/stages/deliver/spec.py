"""The Deliver stage."""

from __future__ import annotations

from jacket.commands.model import Looks, StageSpec, Ticket
from jacket.core.checks.model import Check
from jacket.document.state import State
from jacket.stages.deliver.commands import COMMANDS
from jacket.stages.deliver.tools.look import Look
from jacket.stages.deliver.tools.probe import Probe
from jacket.stages.deliver.values import DeliverValues
from jacket.stages.flatten.spec import checks as flatten_checks
from jacket.stages.layout.spec import checks as layout_checks
from jacket.stages.seams.spec import checks as seam_checks
from jacket.stages.topology.spec import checks as topology_checks
from jacket.tools.holding import Hold


def checks(state: State) -> list[Check]:
    """The checks of all stages in order, each once."""
    rows = [c for of in (topology_checks, seam_checks, flatten_checks, layout_checks) for c in of(state)]
    return list({c.id: c for c in rows}.values())


def ticket(state: State, found: list[Check]) -> Ticket:
    """How many checks are met, and the worst of those that are not."""
    if not found:
        return Ticket("not ready")
    good = sum(c.level == "good" for c in found)
    for level in ("wrong", "look"):
        worst = [c for c in found if c.level == level]
        if worst:
            # What is not covered hides behind no count.
            first = next((c for c in worst if c.id == "uncovered"), worst[0])
            return Ticket(f"{good} of {len(found)} · {first.label.lower()}", level)  # type: ignore[arg-type]
    return Ticket(f"all {len(found)} ready")


SPEC = StageSpec("deliver", "Deliver", "6", (Look, Probe, Hold), COMMANDS, DeliverValues, checks, ticket, ("deliver",), Looks(flat_share=0.3))
