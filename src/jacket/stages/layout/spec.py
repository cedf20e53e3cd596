"""The Layout stage."""

from __future__ import annotations

from jacket.commands.display import Colouring
from jacket.commands.model import Looks, StageSpec, Ticket
from jacket.core.checks.layout import layout_checks
from jacket.core.checks.model import Check
from jacket.core.derive import close_of, islands_of, layout_of
from jacket.core.layout.pieces import Bonds
from jacket.core.store import STORE
from jacket.core.uv.identity import island_numbers
from jacket.document.state import State
from jacket.stages.layout.commands import COMMANDS
from jacket.stages.layout.tools.align import Align
from jacket.stages.layout.tools.place import Place
from jacket.stages.layout.tools.stack import Stack
from jacket.stages.layout.tools.weigh import Weigh
from jacket.stages.layout.values import LayoutValues
from jacket.tools.holding import Hold


def checks(state: State) -> list[Check]:
    """Overlap, outside, margin, density and use of the sheets."""
    jacket, sheets = state.jacket, state.sheets
    if jacket is None or jacket.mesh.n_faces == 0:
        return []
    mesh = jacket.mesh
    islands = islands_of(mesh, sheets)
    stacks = Bonds.of(islands, island_numbers(mesh), jacket.islands).stack
    key = ("layout checks", sheets, tuple(r.twin for r in jacket.islands))
    # The views show what is too close in red, as soon as it is known.
    close_of(mesh, sheets, stacks)
    return STORE.get(layout_of(mesh), key, lambda: layout_checks(mesh, sheets, islands, stacks))


def ticket(state: State, found: list[Check]) -> Ticket:
    """Use of the sheets, and the worst of what is wrong there."""
    jacket = state.jacket
    if jacket is None or jacket.mesh.n_faces == 0:
        return Ticket("not packed")
    islands = islands_of(jacket.mesh, state.sheets)
    if not islands.mapped.any():
        return Ticket("not packed")
    if (islands.sheet_of[islands.mapped] < 0).any():
        return Ticket("not packed", "look")
    text = f"{100 * islands.use():.0f} % of sheet{'s' if len(state.sheets) > 1 else ''}"
    for check in found:
        if check.level == "wrong" and check.id in ("overlap", "outside", "margin"):
            return Ticket(f"{text} · {check.label.lower()}", "wrong")
    return Ticket(text)


SPEC = StageSpec(
    "layout", "Layout", "5", (Place, Align, Stack, Weigh, Hold), COMMANDS, LayoutValues, checks, ticket,
    ("turn-left", "mirror-across", "stack-twins", "match-density", "name-island", "lock-islands", "done-islands", "pack"), Looks(Colouring.ISLANDS, flat_share=0.66),
)  # fmt: skip
