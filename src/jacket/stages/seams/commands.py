"""Commands of the Seams stage."""

from __future__ import annotations

from typing import Any

import numpy as np

from jacket.commands.common import edit, has_cuts, has_faces, has_held, long_edit
from jacket.commands.host import Edits, Host
from jacket.commands.model import Command
from jacket.core.mesh.choosing import as_kind, outline
from jacket.core.mesh.polymesh import Ints, PolyMesh
from jacket.core.seams.cuts import cut_edges, sew_edges
from jacket.document.task import Job
from jacket.errors import JacketError
from jacket.jobs.seams import SeamSettings, seams
from jacket.stages.seams.values import SeamsValues


def held_edges(host: Edits, mesh: PolyMesh) -> Ints:
    """Edges that are held, and the outline of held faces. Raises JacketError where only points are held."""
    rows: list[Any] = []
    for held in host.document.state.held.parts:
        if held.kind == "edges":
            rows.append(as_kind(mesh, "edges", held.ids, "edges"))
        elif held.kind == "faces":
            rows.append(outline(mesh, "faces", held.ids))
    if not rows:
        raise JacketError("Hold edges or faces first; points cannot be cut.")
    return np.unique(np.concatenate(rows)).astype(np.int32)


def sewn_apart(host: Host, before: PolyMesh, after: PolyMesh) -> None:
    """Say it where what was sewn still lies apart on the sheet."""
    if after.uv is not None and len(after.cuts) < len(before.cuts):
        host.say("Sewn. On the sheet the two sides stay apart until the island is flattened again.")


def _sew_held(host: Host) -> None:
    mesh = host.document.open_jacket().mesh
    new = sew_edges(mesh, held_edges(host, mesh))
    host.document.edit_jacket("sew what is held", new, host.document.state.held)
    sewn_apart(host, mesh, new)


def _cut_held(host: Host) -> None:
    mesh = host.document.open_jacket().mesh
    host.document.edit_jacket("cut what is held", cut_edges(mesh, held_edges(host, mesh)), host.document.state.held)


def _cut_angle(host: Edits, mesh: PolyMesh) -> PolyMesh:
    return seams(mesh, SeamSettings("angle", host.values(SeamsValues).angle, afresh=False))


def _suggest(host: Edits, mesh: PolyMesh) -> Job:
    return lambda progress: seams(mesh, SeamSettings("auto"), progress)


def _clear(host: Edits, mesh: PolyMesh) -> PolyMesh:
    return mesh.with_cuts(np.zeros((0, 2)))


COMMANDS = (
    Command("suggest-seams", "Suggest seams", "automatic cut islands", "", has_faces, long_edit("suggest seams", _suggest), waits=True),
    Command("cut-angle", "Cut above the angle", "seam sharp hard edges", "", has_faces, edit("cut above an angle", _cut_angle)),
    Command("cut-held", "Cut what is held", "seam mark edges outline", "", has_held, _cut_held),
    Command("sew-held", "Sew what is held", "seam join weld edges", "", has_held, _sew_held),
    Command("clear-seams", "Clear all seams", "sew remove", "", has_cuts, edit("clear all seams", _clear)),
)  # fmt: skip
