"""The one registry of commands: menus, keys, search and buttons all read it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol

import numpy as np

from jacket.core.derive import islands_of, surface_of
from jacket.core.fit.relax import relaxed
from jacket.core.layout.pack import PackSettings
from jacket.core.mesh.edits import faces_removed, points_removed
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.seams.cuts import cut_edges, sew_edges, sharp_edges
from jacket.core.seams.suggest import suggest_seams
from jacket.core.source.symmetry import Plane
from jacket.core.uv.islands import evened_density
from jacket.document.document import Document
from jacket.document.edits import sources as sources_steps
from jacket.document.state import STAGES, Held, SourceObject, State
from jacket.errors import JacketError
from jacket.jobs.pack import pack
from jacket.jobs.unwrap import unwrap
from jacket.progress import Progress
from jacket.stages.source.mending import (
    PLACINGS,
    Proposal,
    count_self_intersections,
    find_mirror,
    has_chosen,
    has_picked,
    leave_proposal,
    lock_source,
    mirror_to_x,
    picked_parts,
    proposing,
    remove_source,
    rename_source,
    several_sources,
    take_proposal,
)
from jacket.stages.topology.hand_commands import hand_commands
from jacket.stages.topology.trials import trial_commands


class Host(Protocol):
    """What commands need of the program around them."""

    document: Document
    values: dict[str, Any]
    proposal: Proposal | None
    mirror_plane: Plane | None

    def work(self, name: str, job: Callable[[Progress], Any], done: Callable[[Any], None]) -> None: ...
    def show_stage(self, stage: str) -> None: ...
    def toggle(self, display: str) -> None: ...
    def watch_field(self, strokes: Any) -> None: ...
    def frame(self, everything: bool) -> None: ...
    def open_source(self) -> None: ...
    def open_project(self) -> None: ...
    def save(self, ask: bool) -> None: ...
    def deliver(self) -> None: ...
    def say(self, text: str) -> None: ...
    def propose(self, proposal: Proposal | None) -> None: ...
    def prepare(self, mesh: PolyMesh, progress: Progress) -> None: ...
    def show_mirror(self, source: SourceObject | None, plane: Plane | None) -> None: ...
    def refresh_checks(self) -> None: ...
    def ask_text(self, title: str, label: str, text: str) -> str | None: ...
    def take_new_file(self) -> None: ...


@dataclass(frozen=True)
class Command:
    """id; our label; words to find it by; default key; whether it fits now; what it does."""

    id: str
    label: str
    words: str
    key: str
    available: Callable[[State], bool]
    run: Callable[[Host], None]


def always(state: State) -> bool:
    return True


def has_source(state: State) -> bool:
    return state.source is not None


def can_compare(state: State) -> bool:
    """Whether there is a trial and another, or quads of a jacket, to put beside it."""
    return len(state.trials) > 1 or (bool(state.trials) and has_quads(state))


def has_quads(state: State) -> bool:
    return state.jacket is not None and state.jacket.mesh.n_faces > 0


def has_held(state: State) -> bool:
    return state.jacket is not None and len(state.held) > 0


def has_seams(state: State) -> bool:
    return state.jacket is not None and len(state.jacket.mesh.cuts) > 0


def has_uvs(state: State) -> bool:
    uv = state.jacket.mesh.uv if state.jacket is not None else None
    return uv is not None and bool(np.isfinite(uv).any())


def _edit(name: str, change: Callable[[Host, PolyMesh], PolyMesh]) -> Callable[[Host], None]:
    """A command that changes the jacket's mesh at once."""

    def run(host: Host) -> None:
        host.document.edit_jacket(name, change(host, host.document.require_jacket().mesh))

    return run


def _long_edit(name: str, change: Callable[[Host, PolyMesh, Progress], PolyMesh]) -> Callable[[Host], None]:
    """A command that changes the jacket's mesh after work in the background; the result is used
    only while the mesh it came from is still there."""

    def run(host: Host) -> None:
        mesh = host.document.require_jacket().mesh

        def done(result: PolyMesh) -> None:
            jacket = host.document.state.jacket
            if jacket is None or jacket.mesh is not mesh:
                raise JacketError(f"The jacket changed meanwhile, so '{name}' was not applied; do it again.")
            host.document.edit_jacket(name, result)

        host.work(name, lambda progress: change(host, mesh, progress), done)

    return run


def _clear_guides(host: Host) -> None:
    host.document.apply("take out all guides", host.document.state.with_(guides=()))


def _clear_paint(host: Host) -> None:
    host.document.apply("take out the painted density", host.document.state.with_(paint=None))


def _mirror(axis: str) -> Callable[[Host], None]:
    def run(host: Host) -> None:
        state = host.document.state
        host.document.apply(f"mirror {axis.upper() or 'off'}", state.with_(mirror=axis))

    return run


def _relax_all(host: Host, mesh: PolyMesh) -> PolyMesh:
    source = host.document.state.source
    surface = surface_of(source.mesh) if source is not None else surface_of(mesh)
    return relaxed(mesh, surface, 8, held=mesh.topology.border_points)


def _remove_held(host: Host, mesh: PolyMesh) -> PolyMesh:
    held = host.document.state.held
    edges = held.of("edges")
    faces = [held.of("faces"), np.unique(mesh.face_of_corner[np.isin(mesh.topology.edge, edges)])]
    points = held.of("points")
    edited = faces_removed(mesh, np.unique(np.concatenate(faces).astype(np.int32)))
    left = edited.point_to[points]
    return points_removed(edited.mesh, left[left >= 0]).mesh if len(points) else edited.mesh


def _held_edges(host: Host, mesh: PolyMesh) -> Any:
    held = host.document.state.held
    if held.kind == "edges":
        return held.ids
    if held.kind == "faces":
        # The outline of held faces.
        inside = np.zeros(mesh.n_faces, bool)
        inside[held.ids] = True
        twin = mesh.topology.twin
        other = np.where(twin >= 0, inside[mesh.face_of_corner[np.maximum(twin, 0)]], False)
        return np.unique(mesh.topology.edge[inside[mesh.face_of_corner] & ~other])
    raise JacketError("Hold edges or faces first; points cannot be cut.")


def _flatten(host: Host, mesh: PolyMesh, progress: Progress) -> PolyMesh:
    return unwrap(mesh, None, host.document.state.sheets, progress=progress).mesh


def _flatten_held(host: Host, mesh: PolyMesh, progress: Progress) -> PolyMesh:
    held = host.document.state.held
    if held.kind != "faces" or len(held) == 0:
        raise JacketError("Hold a face of the islands to flatten first.")
    return unwrap(mesh, held.ids, host.document.state.sheets, progress=progress).mesh


def _even_density(host: Host, mesh: PolyMesh) -> PolyMesh:
    if mesh.uv is None:
        raise JacketError("There are no UVs yet; flatten the jacket first.")
    return mesh.with_uv(evened_density(islands_of(mesh, host.document.state.sheets)))


def _pack(host: Host, mesh: PolyMesh, progress: Progress) -> PolyMesh:
    sheets = host.document.state.sheets
    return pack(mesh, sheets, PackSettings(host.values["turn"]), progress, islands=islands_of(mesh, sheets)).mesh


def _undo(host: Host) -> None:
    name = host.document.undo()
    host.say(f"Undone: {name}." if name else "There is nothing to undo.")


def _redo(host: Host) -> None:
    name = host.document.redo()
    host.say(f"Done again: {name}." if name else "There is nothing to do again.")


def _let_go(host: Host) -> None:
    host.document.amend(host.document.state.with_(held=Held()))


def _angle_cuts(host: Host, mesh: PolyMesh) -> PolyMesh:
    edges = sharp_edges(mesh, float(host.values["angle"]))
    if len(edges) == 0:
        raise JacketError(f"No edge turns by more than {host.values['angle']:g}°; lower the angle.")
    return cut_edges(mesh, edges)


def _stage(name: str) -> Callable[[Host], None]:
    return lambda host: host.show_stage(name)


def _toggle(name: str) -> Callable[[Host], None]:
    return lambda host: host.toggle(name)


def build_commands() -> dict[str, Command]:
    """Every command by its id, in the order in which search lists them."""
    rows = [
        Command("open-source", "Open a source…", "load import mesh sculpt scan obj ply stl glb off", "Ctrl+I", always, lambda h: h.open_source()),
        Command("open-project", "Open a project…", "load file jacket", "Ctrl+O", always, lambda h: h.open_project()),
        Command("save", "Save", "project file store", "Ctrl+S", always, lambda h: h.save(False)),
        Command("save-as", "Save as…", "project copy", "Ctrl+Shift+S", always, lambda h: h.save(True)),
        Command("undo", "Undo", "back take step", "Ctrl+Z", always, _undo),
        Command("redo", "Do again", "redo forward", "Ctrl+Shift+Z", always, _redo),
        Command("frame", "Frame what is held", "zoom look view", "F", always, lambda h: h.frame(False)),
        Command("frame-all", "Frame everything", "zoom look view all", "Shift+F", always, lambda h: h.frame(True)),
        Command("let-go", "Let go of everything", "deselect none", "", has_held, _let_go),
        Command("remove-held", "Remove what is held", "delete erase faces edges points", "Delete", has_held, _edit("remove what was held", _remove_held)),
        Command("clear-guides", "Take out all guides", "curves remove", "", lambda s: bool(s.guides), _clear_guides),
        Command("clear-paint", "Take out the painted density", "brush remove", "", lambda s: s.paint is not None, _clear_paint),
        Command("relax-all", "Relax the whole jacket", "smooth even quads", "", has_quads, _edit("relax the jacket", _relax_all)),
        Command("mirror-x", "Mirror across the X plane", "symmetry", "", always, _mirror("x")),
        Command("mirror-y", "Mirror across the Y plane", "symmetry", "", always, _mirror("y")),
        Command("mirror-z", "Mirror across the Z plane", "symmetry", "", always, _mirror("z")),
        Command("mirror-off", "No mirror", "symmetry off", "", always, _mirror("")),
        Command("cut-held", "Cut what is held", "seam mark edges outline", "", has_held, _edit("cut what is held", lambda h, m: cut_edges(m, _held_edges(h, m)))),
        Command("sew-held", "Sew what is held", "seam join weld edges", "", has_held, _edit("sew what is held", lambda h, m: sew_edges(m, _held_edges(h, m)))),
        Command("cut-angle", "Cut above the angle", "seam sharp hard edges", "", has_quads, _edit("cut above an angle", _angle_cuts)),
        Command("suggest-seams", "Suggest seams", "automatic cut islands", "", has_quads, _long_edit("suggest seams", lambda h, m, p: suggest_seams(m, progress=p))),
        Command("clear-seams", "Clear all seams", "sew remove", "", has_seams, _edit("clear all seams", lambda h, m: m.with_cuts(np.zeros((0, 2))))),
        Command("flatten", "Flatten all islands", "unwrap uv lay flat", "", has_quads, _long_edit("flatten", _flatten)),
        Command("flatten-held", "Flatten the held islands", "unwrap uv part", "", has_held, _long_edit("flatten the held islands", _flatten_held)),
        Command("even-density", "Same density for all", "texel scale normalise", "", has_uvs, _edit("even the density", _even_density)),
        Command("pack", "Pack the sheet", "layout place islands arrange", "", has_uvs, _long_edit("pack the sheet", _pack)),
        Command("deliver", "Deliver files…", "export obj glb gltf png report", "Ctrl+E", has_quads, lambda h: h.deliver()),
    ]  # fmt: skip
    rows += _source_commands()
    rows += hand_commands(Command)
    labels = {
        "source": "Source",
        "topology": "Topology",
        "seams": "Seams",
        "flatten": "Flatten",
        "layout": "Layout",
        "deliver": "Deliver",
    }
    rows += [
        Command(f"stage-{name}", f"Go to {labels[name]}", "stage ticket", str(k + 1), always, _stage(name))
        for k, name in enumerate(STAGES)
    ]
    shows = {"source": "Show the source", "jacket": "Show the jacket", "trial": "Show the trial instead of the jacket", "wire": "Show the wires", "gap": "Show the gap to the source",
             "poles": "Show the poles", "seams": "Show the seams", "islands": "Show islands in colours",
             "moved": "Show how far the jacket moved", "checker": "Show the checker", "stretch": "Show the stretch", "names": "Show island names", "night": "Night bench",
             "through": "See the jacket through the source", "solid": "Show the jacket's faces", "backs": "Show faces turned away",
             "lifted": "Show lifted points", "uncovered": "Show what is not covered",
             "edge of sight": "Show the outline against the source", "split": "Compare trials side by side"}  # fmt: skip
    rows += trial_commands(Command)
    rows += [
        Command(
            f"show-{k.replace(' ', '-')}",
            label,
            "display toggle view hide",
            "",
            can_compare if k == "split" else always,
            _toggle(k),
        )
        for k, label in shows.items()
    ]
    return {row.id: row for row in rows}


def _source_commands() -> list[Command]:
    def mending(id_: str, label: str, words: str) -> Command:
        return Command(id_, label, f"mend repair fix {words}", "", has_chosen, proposing(id_))

    def place(id_: str, label: str, words: str) -> Command:
        return Command(id_, label, f"place transform {words}", "", has_chosen, PLACINGS[id_])

    return [
        mending("close-holes", "Close holes", "fill gaps watertight borders"),
        mending("keep-largest", "Keep the largest parts", "debris floating loose islands remove"),
        Command("keep-picked", "Keep what is picked", "mend parts loose debris", "", has_picked, picked_parts(True)),
        Command("drop-picked", "Drop what is picked", "mend parts loose debris remove delete", "", has_picked, picked_parts(False)),
        mending("drop-repeats", "Drop repeated and flat faces", "duplicate degenerate zero area"),
        mending("turn-outward", "Turn faces outward", "winding normals flip inside out orientation"),
        mending("split-nonmanifold", "Split what is not manifold", "edges vertices bow tie"),
        mending("weld-points", "Weld points", "merge by distance cracks"),
        mending("smooth-noise", "Smooth noise", "denoise scan bilateral"),
        mending("reduce", "Reduce triangles", "decimate simplify fewer"),
        Command("take-proposal", "Do what is proposed", "apply accept mend preview", "", always, take_proposal),
        Command("leave-proposal", "Leave the source as it is", "cancel drop mend preview", "", always, leave_proposal),
        place("scale-factor", "Scale by the factor", "size resize"),
        place("from-unit", "Read as the unit", "millimetres centimetres inches feet size scale"),
        place("up-axis", "Set the up axis", "rotate turn orientation z up"),
        place("stand-flat", "Stand on the largest flat part", "upright rotate turn level"),
        place("to-ground", "Stand on the ground", "floor zero lowest"),
        place("centre", "Centre over the origin", "middle zero"),
        place("back-to-file", "Back to how it came", "reset undo placing"),
        Command("freeze", "Freeze where it stands", "apply transform placing", "", lambda s: s.chosen_source is not None and s.chosen_source.was_placed,
                lambda h: sources_steps.freeze_source(h.document)),
        Command("find-mirror", "Find the mirror plane", "symmetry plane automatic", "", has_chosen, find_mirror),
        Command("mirror-to-x", "Make it the X plane", "symmetry mirror plane align", "", has_chosen, mirror_to_x),
        Command("count-crossings", "Count self-intersections", "overlap inside through itself", "", has_chosen, count_self_intersections),
        Command("join-sources", "Join the visible sources", "merge combine objects", "", several_sources, lambda h: sources_steps.join_sources(h.document)),
        Command("lock-source", "Lock or unlock the source", "protect reference", "", has_chosen, lock_source),
        Command("rename-source", "Rename the source…", "name label", "", has_chosen, rename_source),
        Command("remove-source", "Take the source off the bench", "delete close remove", "", has_chosen, remove_source),
        Command("take-new-file", "Take the new file of the source", "reload refresh refit changed update", "", has_chosen, lambda h: h.take_new_file()),
        Command("forget-moves", "Forget how far the jacket moved", "refit marks heat clear", "", has_moves, _edit("forget how far it moved", without_moves)),
    ]  # fmt: skip


def has_moves(state: State) -> bool:
    """Whether the jacket still carries the marks of a refit."""
    return state.jacket is not None and "moved" in state.jacket.mesh.point_data


def without_moves(host: Host, mesh: PolyMesh) -> PolyMesh:
    """The jacket without the marks of its last refit."""
    return mesh.with_(point_data={k: v for k, v in mesh.point_data.items() if k not in ("moved", "poor")})


def search(commands: dict[str, Command], text: str, state: State) -> list[Command]:
    """Available commands that match every typed word, those whose label begins so first."""
    words = text.lower().split()
    found = []
    for command in commands.values():
        label, other = command.label.lower(), command.words
        if command.available(state) and all(w in label or w in other for w in words):
            rank = 0 if label.startswith(text.lower()) else 1 if all(w in label for w in words) else 2
            found.append((rank, command))
    return [c for _, c in sorted(found, key=lambda item: item[0])]


def project_name(path: str) -> str:
    """The name shown for a project file."""
    return Path(path).stem if path else "unsaved project"
