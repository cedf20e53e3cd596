"""Commands of the Seams stage."""

from __future__ import annotations

import numpy as np

from jacket.commands.beside import Quiet, beside
from jacket.commands.common import edit, has_cuts, has_faces, has_held
from jacket.commands.host import Edits, Host
from jacket.commands.model import Command
from jacket.core.derive import islands_of
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.seams.cuts import cut_edges
from jacket.core.seams.stitch import stitched
from jacket.core.uv.sets import border_flags
from jacket.document.state import State
from jacket.errors import JacketError
from jacket.jobs.seams import SeamSettings, seams
from jacket.stages.seams import set_commands, sight_commands, suggesting
from jacket.stages.seams.held import held_edges
from jacket.stages.seams.values import SeamsValues


def sewn_apart(host: Quiet, before: PolyMesh, after: PolyMesh) -> None:
    """Say it where what was sewn still lies apart on the sheet."""
    if after.uv is not None and len(after.cuts) < len(before.cuts):
        host.say("Sewn. On the sheet the two sides stay apart until the island is flattened again.")


def _sew_held(host: Quiet) -> None:
    mesh = host.document.open_jacket().mesh
    new, joined = stitched(mesh, held_edges(host, mesh), islands_of(mesh, host.document.state.sheets))
    host.document.edit_jacket("sew what is held", new, host.document.state.held)
    if not joined:
        sewn_apart(host, mesh, new)


def _cut_held(host: Host) -> None:
    mesh = host.document.open_jacket().mesh
    host.document.edit_jacket("cut what is held", cut_edges(mesh, held_edges(host, mesh)), host.document.state.held)


def _cut_angle(host: Edits, mesh: PolyMesh) -> PolyMesh:
    return seams(mesh, SeamSettings("angle", host.values(SeamsValues).angle, afresh=False))


def _clear(host: Edits, mesh: PolyMesh) -> PolyMesh:
    return mesh.with_cuts(np.zeros((0, 2)))


def _cut_sharp(host: Edits, mesh: PolyMesh) -> PolyMesh:
    edges = mesh.topology.find_edges(mesh.mark("sharp"))
    if not (edges >= 0).any():
        raise JacketError("No edge is marked as sharp; mark some in the Topology stage, or cut above an angle.")
    return cut_edges(mesh, edges[edges >= 0])


def _cut_as_set(host: Host) -> None:
    """Cut as another UV set is: the next one after the active."""
    mesh = host.document.open_jacket().mesh
    others = [n for n in mesh.uv_sets if n != mesh.active_uv]
    if not others:
        raise JacketError("There is no other UV set whose cuts could be taken.")
    name = others[0] if len(others) == 1 else (host.ask_text("Cut as another UV set", "Its name", others[0]) or "").strip()
    if name not in others:
        raise JacketError(f"There is no other UV set {name}; choose {', '.join(others)}.")
    flags = border_flags(mesh, name)
    host.document.edit_jacket(f"cut as {name}", cut_edges(mesh, np.flatnonzero(flags)), host.document.state.held)


def has_sharp(state: State) -> bool:
    """Edges of the active layer are marked as sharp."""
    return state.jacket is not None and len(state.jacket.mesh.mark("sharp")) > 0


def several_sets(state: State) -> bool:
    """The active layer has two UV sets or more."""
    return state.jacket is not None and len(state.jacket.mesh.uv_sets) > 1


COMMANDS = (
    *suggesting.COMMANDS,
    Command("cut-angle", "Cut above the angle", "seam sharp hard edges", "", has_faces, edit("cut above an angle", _cut_angle)),
    Command("cut-sharp", "Cut along sharp marks", "seam hard crease edges", "", has_sharp, edit("cut along sharp marks", _cut_sharp)),
    Command("cut-as-set", "Cut as another UV set", "seam copy borders", "", several_sets, _cut_as_set),
    Command("cut-held", "Cut what is held", "seam mark edges outline", "", has_held, _cut_held),
    Command("sew-held", "Sew what is held", "seam join weld edges", "", has_held, beside("sew what is held", _sew_held)),
    Command("clear-seams", "Clear all seams", "sew remove", "", has_cuts, edit("clear all seams", _clear)),
    *set_commands.COMMANDS,
    *sight_commands.COMMANDS,
)  # fmt: skip
