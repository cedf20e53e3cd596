"""Commands of the Flatten stage: laying flat, and UV sets."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from jacket.commands.beside import beside
from jacket.commands.common import has_faces, has_held, has_layer, long_edit
from jacket.commands.host import Edits, Host
from jacket.commands.model import Command
from jacket.core.mesh.polymesh import PolyMesh
from jacket.document.edits import uvs
from jacket.document.edits.uvs import held_faces
from jacket.document.state import State
from jacket.document.task import Job, Task, on_layer
from jacket.errors import JacketError
from jacket.formats.deliver.own import checked_own
from jacket.jobs.unwrap import Unwrapped, unwrap, unwrap_together
from jacket.stages.flatten import tuning


def _flatten(host: Edits, mesh: PolyMesh) -> Job:
    state = host.document.state
    sheets, sheet = state.sheets, min(state.active_sheet, len(state.sheets) - 1)
    return lambda progress: unwrap(mesh, None, sheets, sheet, progress)


def _flatten_held(host: Edits, mesh: PolyMesh) -> Job:
    state = host.document.state
    faces, sheets = held_faces(mesh, state.held), state.sheets
    return lambda progress: unwrap(mesh, faces, sheets, progress=progress)


def _flatten_layers(host: Host) -> None:
    """All visible layers with faces laid flat side by side, as one step."""
    document, state = host.document, host.document.state
    layers = [j for j in state.jackets if j.visible and j.mesh.n_faces and not j.dense]
    locked = next((j for j in layers if j.locked), None)
    if locked is not None:
        raise JacketError(f"{locked.name} is locked; unlock it on the bench first, or hide it.")
    grounds, meshes = tuple(on_layer(state, j.id) for j in layers), [j.mesh for j in layers]
    sheets, sheet = state.sheets, min(state.active_sheet, len(state.sheets) - 1)

    def merge(result: tuple[list[PolyMesh], Unwrapped]) -> None:
        with document.transaction("flatten the layers"):
            for ground, mesh in zip(grounds, result[0], strict=True):
                document.edit_layer("flatten the layers", ground.id, mesh)
        host.say(result[1].said or f"{len(meshes)} layers lie side by side at one density.")

    host.start(Task("flatten the layers", lambda progress: unwrap_together(meshes, sheets, sheet, progress), merge, grounds, lambda: _flatten_layers(host)))


def several_layers(state: State) -> bool:
    """Two visible layers or more have faces."""
    return sum(j.visible and j.mesh.n_faces > 0 and not j.dense for j in state.jackets) > 1


def _mesh(result: Unwrapped) -> PolyMesh:
    return result.mesh


def _said(result: Unwrapped) -> str:
    return result.said


def has_sets(state: State) -> bool:
    """The active layer has a UV set."""
    return state.jacket is not None and bool(state.jacket.mesh.uv_sets)


def several_sets(state: State) -> bool:
    """The active layer has two UV sets or more."""
    return state.jacket is not None and len(state.jacket.mesh.uv_sets) > 1


def _asked(host: Host, title: str, name: str) -> str:
    return (host.ask_text(title, "Its name", name) or "").strip()


def _add_set(host: Host) -> None:
    name = _asked(host, "Add a UV set", uvs.free_set_name(host.document.require_jacket().mesh))
    if name:
        beside("add a UV set", lambda quiet: uvs.add_set(quiet.document, name))(host)


def _copy_set(host: Host) -> None:
    mesh = host.document.require_jacket().mesh
    name = _asked(host, "Copy the UV set", uvs.free_set_name(mesh, mesh.active_uv))
    if name:
        beside("copy a UV set", lambda quiet: uvs.copy_set(quiet.document, name))(host)


def _rename_set(host: Host) -> None:
    old = host.document.require_jacket().mesh.active_uv
    name = _asked(host, "Rename the UV set", old)
    if name:
        uvs.rename_set(host.document, old, name)


def _remove_set(host: Host) -> None:
    uvs.remove_set(host.document, host.document.require_jacket().mesh.active_uv)


def _next_set(host: Host) -> None:
    mesh = host.document.require_jacket().mesh
    at = mesh.uv_sets.index(mesh.active_uv)
    uvs.choose_set(host.document, mesh.uv_sets[(at + 1) % len(mesh.uv_sets)])


def _checker_picture(host: Host) -> None:
    """Ask for a picture to see stretch by. Raises FormatError where it is none."""
    path = host.choose_picture("the checker")
    if path:
        checked_own("colour", Path(path))
        host.show(replace(host.display, checker=True, board="picture", board_picture=path))


COMMANDS = (
    *tuning.COMMANDS,
    Command("checker-picture", "Picture for the checker…", "checker texture image own grid", "", has_layer, _checker_picture),
    Command("flatten", "Flatten all islands", "unwrap uv lay flat", "", has_faces, long_edit("flatten", _flatten, _said, _mesh), waits=True),
    Command("flatten-layers", "Flatten all visible layers", "unwrap uv several objects together", "", several_layers, _flatten_layers, waits=True),
    Command("flatten-held", "Flatten the held islands", "unwrap uv part", "", has_held, long_edit("flatten the held islands", _flatten_held, _said, _mesh), waits=True),
    Command("add-set", "Add a UV set…", "uv set new channel layer", "", has_layer, _add_set),
    Command("copy-set", "Copy the UV set…", "uv set duplicate channel", "", has_sets, _copy_set),
    Command("rename-set", "Rename the UV set…", "uv set name channel", "", has_sets, _rename_set),
    Command("remove-set", "Remove the UV set", "uv set delete channel", "", has_sets, _remove_set),
    Command("next-set", "Work on the next UV set", "uv set switch channel choose", "", several_sets, _next_set),
)  # fmt: skip
