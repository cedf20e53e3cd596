"""The Deliver stage."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from jacket.commands.host import Host
from jacket.commands.model import Looks, StageSpec, Ticket
from jacket.core.checks.model import Check
from jacket.document.state import State
from jacket.jobs.deliver import profile_checks
from jacket.stages.deliver.baking import is_stale
from jacket.stages.deliver.commands import COMMANDS
from jacket.stages.deliver.receivers import chosen_profile
from jacket.stages.deliver.tools.decal import LayOn
from jacket.stages.deliver.tools.hull import Hull
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


def also(host: Host) -> Callable[[State], list[Check]]:
    """What the chosen profile asks, and what became of the last bake, of the active layer."""
    values, baked, profile = replace(host.values(DeliverValues)), host.baked, chosen_profile(host)
    made = baked if baked is not None and baked.whole and baked.sheets else None

    def look(state: State) -> list[Check]:
        jacket = state.jacket
        if jacket is None or jacket.mesh.n_faces == 0:
            return []
        return profile_checks(jacket.mesh, profile, state.sheets, made, is_stale(made, state, values))

    return look


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


SPEC = StageSpec("deliver", "Deliver", "6", (Look, LayOn, Probe, Hull, Hold), COMMANDS, DeliverValues, checks, ticket, ("deliver",), Looks(flat_share=0.3), also)
