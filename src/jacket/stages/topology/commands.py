"""Commands of the Topology stage that belong to no tool: relaxing all of it, the mirror, what steers the automatic quads."""

from __future__ import annotations

from jacket.commands.common import always, edit, has_faces
from jacket.commands.host import Edits, Host, Run
from jacket.commands.model import Command
from jacket.core.derive import surface_of
from jacket.core.fit.relax import relaxed
from jacket.core.mesh.polymesh import PolyMesh
from jacket.document.state import State
from jacket.stages.topology import held_commands, layer_commands, tidy_commands, trials


def _relax_all(host: Edits, mesh: PolyMesh) -> PolyMesh:
    source = host.document.state.source
    surface = surface_of(source.mesh) if source is not None else surface_of(mesh)
    return relaxed(mesh, surface, 8, held=mesh.topology.border_points)


def _mirror(axis: str) -> Run:
    def run(host: Host) -> None:
        host.document.apply(f"mirror {axis.upper() or 'off'}", host.document.state.with_(mirror=axis))

    return run


def _has_guides(state: State) -> bool:
    return bool(state.guides)


def _has_paint(state: State) -> bool:
    return state.paint is not None


def _clear_guides(host: Host) -> None:
    host.document.apply("take out all guides", host.document.state.with_(guides=()))


def _clear_paint(host: Host) -> None:
    host.document.apply("take out the painted density", host.document.state.with_(paint=None))


_OWN = (
    Command("clear-guides", "Take out all guides", "curves remove", "", _has_guides, _clear_guides),
    Command("clear-paint", "Take out the painted density", "brush remove", "", _has_paint, _clear_paint),
    Command("relax-all", "Relax the whole jacket", "smooth even quads", "", has_faces, edit("relax the jacket", _relax_all)),
    Command("mirror-x", "Mirror across the X plane", "symmetry", "", always, _mirror("x")),
    Command("mirror-y", "Mirror across the Y plane", "symmetry", "", always, _mirror("y")),
    Command("mirror-z", "Mirror across the Z plane", "symmetry", "", always, _mirror("z")),
    Command("mirror-off", "No mirror", "symmetry off", "", always, _mirror("")),
)  # fmt: skip

COMMANDS = (*_OWN, *held_commands.COMMANDS, *layer_commands.COMMANDS, *tidy_commands.COMMANDS, *trials.COMMANDS)
