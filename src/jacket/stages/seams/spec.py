"""The Seams stage."""

from __future__ import annotations

from jacket.commands.display import Colouring
from jacket.commands.model import Looks, StageSpec, Ticket
from jacket.core.checks.layout import seam_checks, seen_check
from jacket.core.checks.model import Check
from jacket.core.derive import islands_of, layout_of, shown_of
from jacket.core.store import STORE
from jacket.document.state import State
from jacket.stages.seams.commands import COMMANDS
from jacket.stages.seams.tools.cut import Cut, Sew
from jacket.stages.seams.values import SeamsValues
from jacket.tools.holding import Hold


def checks(state: State) -> list[Check]:
    """Whether every island of the active layer can open."""
    jacket = state.jacket
    if jacket is None or jacket.mesh.n_faces == 0:
        return []
    mesh = jacket.mesh
    found = STORE.get(layout_of(mesh), "seam checks", lambda: seam_checks(mesh))
    if state.sights:
        shown = shown_of(mesh, state.sights)
        found = [*found, STORE.get(layout_of(mesh), ("seen seams", state.sights), lambda: seen_check(mesh, shown))]
    return found


def ticket(state: State, found: list[Check]) -> Ticket:
    """Islands, and how many of them are closed."""
    jacket = state.jacket
    if jacket is None or jacket.mesh.n_faces == 0:
        return Ticket("not cut")
    count = islands_of(jacket.mesh, state.sheets).count
    closed = next((int(c.number) for c in found if c.id == "closed"), 0)
    text = f"{count:,} island{'s' if count != 1 else ''}"
    return Ticket(f"{text} · {closed:,} closed", "wrong") if closed else Ticket(text)


SPEC = StageSpec(
    "seams", "Seams", "3", (Cut, Sew, Hold), COMMANDS, SeamsValues, checks, ticket,
    ("cut-held", "sew-held", "suggest-seams", "clear-seams"), Looks(Colouring.ISLANDS, flat_share=0.5),
)  # fmt: skip
