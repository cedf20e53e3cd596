"""The Topology stage."""

from __future__ import annotations

from jacket.commands.model import Looks, StageSpec, Ticket
from jacket.core.checks.model import Check
from jacket.core.checks.topology import topology_checks
from jacket.core.derive import form_of, surface_of
from jacket.core.store import STORE
from jacket.document.state import State
from jacket.stages.topology.commands import COMMANDS
from jacket.stages.topology.tools.brushes import Nudge, Relax, Unpick
from jacket.stages.topology.tools.darn import Darn
from jacket.stages.topology.tools.draft import Draft
from jacket.stages.topology.tools.ladder import Ladder
from jacket.stages.topology.tools.moving import Lift, Move
from jacket.stages.topology.tools.rows import Rows
from jacket.stages.topology.tools.sleeve import Sleeve
from jacket.stages.topology.tools.steer import Density, Guide
from jacket.stages.topology.tools.tidying import Tidy
from jacket.stages.topology.tools.weave import Weave
from jacket.stages.topology.values import TopologyValues
from jacket.tools.holding import Hold


def checks(state: State) -> list[Check]:
    """What is wrong with the quads of the active layer, and how they lie on the source."""
    jacket, source = state.jacket, state.source
    if jacket is None or jacket.mesh.n_faces == 0:
        return []
    mesh = jacket.mesh
    # Other layers that are shown cover the source too; the active one counts either way.
    beside = [j.mesh for j in state.jackets if j.visible and j.id != jacket.id and j.mesh.n_faces]
    over = [*([source.mesh] if source is not None else []), *beside]
    grounds = (*form_of(mesh), mesh.aspect("point_data"), *(g for m in over for g in form_of(m)))
    return STORE.get(grounds, "topology checks", lambda: topology_checks(
        mesh, source.mesh if source else None, surface_of(source.mesh) if source else None, beside))  # fmt: skip


def ticket(state: State, found: list[Check]) -> Ticket:
    """Quads, and the worst of: faces that are none, what is wrong, what is not covered."""
    jacket = state.jacket
    if jacket is None or jacket.mesh.n_faces == 0:
        return Ticket("no quads")
    by_id = {c.id: c for c in found}
    quads = int((jacket.mesh.sizes == 4).sum())
    odd, text = jacket.mesh.n_faces - quads, f"{quads:,} quads"
    if odd:
        return Ticket(f"{text} · {odd:,} odd", "wrong")
    wrong = next((c for c in found if c.level == "wrong"), None)
    if wrong is not None:
        return Ticket(f"{quads:,} · {wrong.label.lower()} {wrong.value}", "wrong")
    uncovered = by_id.get("uncovered")
    if uncovered is not None and uncovered.level != "good":
        return Ticket(f"{quads:,} · {uncovered.number:.0f} % uncovered", "look")
    return Ticket(text)


SPEC = StageSpec(
    "topology", "Topology", "2",
    (Draft, Ladder, Weave, Sleeve, Darn, Rows, Nudge, Relax, Lift, Move, Tidy, Unpick, Guide, Density, Hold),
    COMMANDS, TopologyValues, checks, ticket,
    ("frame", "grow-held", "shrink-held", "loops-held", "rings-held", "split-layer", "remove-held", "settle-held",
     "relax-all", "make-trial"),
    Looks(flat_share=0.3),
)  # fmt: skip
