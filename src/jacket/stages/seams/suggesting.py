"""Suggesting seams: with wishes, watched while it works; a result is a seam set to look at, or goes on to the sheet."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from jacket.commands.common import has_faces, has_held, long_edit
from jacket.commands.host import Edits, Host
from jacket.commands.model import Command
from jacket.core.derive import shown_of
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.seams.kept import PREFIX
from jacket.core.seams.suggest import Wishes, opened
from jacket.core.uv.sets import cut_flags
from jacket.document.edits.seams import with_suggested
from jacket.document.state import State
from jacket.document.task import Job, Task, on_layer
from jacket.jobs.pack import pack
from jacket.jobs.seams import seams
from jacket.jobs.unwrap import unwrap
from jacket.progress import Progress, part
from jacket.stages.layout.values import LayoutValues
from jacket.stages.seams.held import held_edges
from jacket.stages.seams.values import SeamsValues

NEVER, GLADLY = "seam wish:never", "seam wish:gladly"
"""Marks of edges that are not to be cut, and of those that are cut gladly."""


def wished(mesh: PolyMesh, state: State, values: SeamsValues) -> Callable[[], Wishes]:
    """What is wanted of a suggestion, to be worked out beside the window."""

    def make() -> Wishes:
        flags = mesh.topology.edge_flags
        return Wishes(
            cut_flags(mesh) if values.keep_cuts else None, flags(mesh.mark(NEVER)) if len(mesh.mark(NEVER)) else None,
            flags(mesh.mark(GLADLY)) if len(mesh.mark(GLADLY)) else None, shown_of(mesh, state.sights),
        )  # fmt: skip

    return make


class Watched:
    """What a suggestion has found so far, as strokes over the form."""

    def __init__(self, show: Callable[[Any], None], size: float) -> None:
        self.show, self.size = show, size
        self.strokes = np.zeros((0, 2, 3))

    def __call__(self, kind: str, points: Floats) -> None:
        """Take tips (N, 3) or edges (N, 2, 3); sewn ones go again."""
        if kind == "tips":
            cross = 0.012 * self.size * np.eye(3)
            points = np.concatenate([np.stack([points - c, points + c], axis=1) for c in cross])
        if kind == "sewn":
            gone = {p.tobytes() for p in points}
            self.strokes = np.array([s for s in self.strokes if s.tobytes() not in gone]).reshape(-1, 2, 3)
        else:
            self.strokes = np.concatenate([self.strokes, points])
        self.show(self.strokes)


def _suggest(host: Host) -> None:
    _start(host, "suggest seams", lambda mesh, progress: mesh, lambda: _suggest(host))


def _suggest_and_pack(host: Host) -> None:
    """Suggest, flatten and pack as one step: the suggestion is put on."""
    state, packing = host.document.state, host.values(LayoutValues).packing()
    sheets, sheet = state.sheets, min(state.active_sheet, len(state.sheets) - 1)

    def further(mesh: PolyMesh, progress: Progress) -> PolyMesh:
        flat = unwrap(mesh, None, sheets, sheet, part(progress, 0.0, 0.5)).mesh
        return pack(flat, sheets, packing, part(progress, 0.5, 1.0)).mesh

    _start(host, "suggest, flatten and pack", further, lambda: _suggest_and_pack(host))


def _start(host: Host, step: str, further: Callable[[PolyMesh, Progress], PolyMesh], again: Callable[[], None]) -> None:
    document = host.document
    document.open_jacket()
    state, values = document.state, replace(host.values(SeamsValues))
    settings = values.suggesting(state.mirror).checked()
    ground = on_layer(state)
    mesh, wishes, watch = ground.mesh, wished(ground.mesh, state, values), Watched(host.watch_field, ground.mesh.diagonal)
    whole = step != "suggest seams"
    name = "Suggested, for the views" if state.sights else "Suggested"

    def job(progress: Progress) -> tuple[PolyMesh, str]:
        progress(0.0, "looking where it is hidden")
        pairs = seams(mesh, settings, part(progress, 0.02, 0.7 if whole else 1.0), wishes(), watch).cuts
        new, made = with_suggested(mesh, pairs, name)
        if whole:
            new = further(new.with_cuts(pairs), part(progress, 0.7, 1.0))
        return new, made

    def merge(result: tuple[PolyMesh, str]) -> None:
        new, made = result
        on = np.array_equal(new.cuts, new.mark(PREFIX + made))
        document.edit_layer(step, ground.id, new)
        host.show(replace(host.display, tried="" if on else made))
        if not on:
            host.say(f"{made} is tried on. Put it on in the card Seam sets, or click it there to see what is cut now.")

    host.start(Task(step, job, merge, (ground,), again))


def _open(host: Edits, mesh: PolyMesh) -> Job:
    state = host.document.state
    return lambda progress: opened(mesh, state.mirror, shown_of(mesh, state.sights))


def _opened_said(result: tuple[PolyMesh, int]) -> str:
    return f"{result[1]:,} piece{'s' if result[1] != 1 else ''} cut so that {'they open' if result[1] != 1 else 'it opens'}." \
        if result[1] else "Every piece opens already."  # fmt: skip


# ---- where to cut and where not -----------------------------------------------------------------------------------


def _wish(mark: str, step: str) -> Callable[[Host], None]:
    other = NEVER if mark == GLADLY else GLADLY

    def run(host: Host) -> None:
        mesh = host.document.open_jacket().mesh
        edges = inside_held(host, mesh)
        flags, rest = mesh.topology.edge_flags(mesh.mark(mark)), mesh.topology.edge_flags(mesh.mark(other))
        flags[edges], rest[edges] = True, False
        ends = mesh.topology.edge_points
        host.document.edit_jacket(step, mesh.with_mark(mark, ends[flags]).with_mark(other, ends[rest]), host.document.state.held)

    return run


def inside_held(host: Edits, mesh: PolyMesh) -> Ints:
    """Edges that are held, and all edges of held faces."""
    faces = host.document.state.held.of("faces")
    if not len(faces):
        return held_edges(host, mesh)
    own = np.isin(mesh.face_of_corner, faces)
    edges = np.unique(mesh.topology.edge[own])
    return np.union1d(edges, host.document.state.held.of("edges")).astype(np.int32)


def _forget_wishes(host: Host) -> None:
    mesh = host.document.open_jacket().mesh
    bare = mesh.with_(marks={k: v for k, v in mesh.marks.items() if k not in (NEVER, GLADLY)})
    host.document.edit_jacket("forget where to cut", bare, host.document.state.held)


def has_wishes(state: State) -> bool:
    """It was said where seams are wanted and where not."""
    return state.jacket is not None and any(len(state.jacket.mesh.mark(m)) for m in (NEVER, GLADLY))


COMMANDS = (
    Command("suggest-seams", "Suggest seams", "automatic cut islands", "", has_faces, _suggest, waits=True),
    Command("suggest-and-pack", "Suggest, flatten and pack", "automatic seams layout one press", "", has_faces, _suggest_and_pack, waits=True),
    Command("cut-open", "Cut what does not open", "closed ring handle disk seam", "", has_faces,
            long_edit("cut what does not open", _open, _opened_said, lambda result: result[0]), waits=True),
    Command("never-cut", "Never cut what is held", "seam wish avoid protect", "", has_held, _wish(NEVER, "never cut here")),
    Command("cut-gladly", "Cut what is held gladly", "seam wish prefer", "", has_held, _wish(GLADLY, "cut here gladly")),
    Command("forget-wishes", "Forget where to cut", "seam wish clear", "", has_wishes, _forget_wishes),
)  # fmt: skip
