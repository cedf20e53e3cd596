"""The Flatten stage."""

from __future__ import annotations

import numpy as np

from jacket.commands.model import Looks, StageSpec, Ticket
from jacket.core.checks.layout import flatten_checks
from jacket.core.checks.model import Check
from jacket.core.derive import layout_of, stretch_figures
from jacket.core.store import STORE
from jacket.document.state import State
from jacket.stages.flatten.commands import COMMANDS
from jacket.stages.flatten.tools.brushes import FlatNudge, FlatRelax, Pin, Pinch, Refine
from jacket.stages.flatten.tools.carrying import Carry
from jacket.stages.flatten.tools.casting import Cast
from jacket.stages.flatten.tools.sliding import Slide
from jacket.stages.flatten.tools.squaring import SquareUp
from jacket.stages.flatten.values import FlattenValues
from jacket.tools.holding import Hold


def checks(state: State) -> list[Check]:
    """Stretch, flips and unmapped faces of the active UV set."""
    jacket, sheets = state.jacket, state.sheets
    if jacket is None or jacket.mesh.n_faces == 0:
        return []
    mesh = jacket.mesh
    return STORE.get(layout_of(mesh), ("flatten checks", sheets), lambda: flatten_checks(
        mesh, sheets, stretch_figures(mesh, sheets)))  # fmt: skip


def ticket(state: State, found: list[Check]) -> Ticket:
    """Mean stretch, and what is flipped or unmapped."""
    jacket = state.jacket
    figures = stretch_figures(jacket.mesh, state.sheets) if jacket is not None and jacket.mesh.n_faces else None
    if figures is None or not np.isfinite(figures.dirichlet):
        return Ticket("not flat")
    text = f"stretch {figures.dirichlet:.2f}"
    for check in found:
        if check.level == "wrong" and check.id in ("flipped", "unmapped"):
            return Ticket(f"{text} · {check.value} {check.label.lower()}", "wrong")
    stretch = next((c for c in found if c.id == "stretch"), None)
    return Ticket(text, stretch.level if stretch is not None else "good")


SPEC = StageSpec(
    "flatten", "Flatten", "4", (Hold, Carry, Slide, Pin, Refine, FlatNudge, FlatRelax, Pinch, SquareUp, Cast), COMMANDS, FlattenValues, checks, ticket,
    ("flatten", "flatten-held", "refine-held", "straighten-held", "cut-held", "sew-held"), Looks(checker=True, flat_share=0.64),
)  # fmt: skip
