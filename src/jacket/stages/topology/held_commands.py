"""Commands that work on what is held, and kept choices."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from jacket.commands.beside import Quiet, QuietRun, beside
from jacket.commands.common import edit, has_faces, has_held, has_layer
from jacket.commands.host import Edits, Host
from jacket.commands.model import Command
from jacket.core.mesh.choosing import (
    as_kind,
    count_of,
    every_nth,
    grown,
    inverted,
    linked,
    loops_through,
    outline,
    rings_through,
    shrunk,
    similar,
)
from jacket.core.mesh.edits import faces_removed, points_removed
from jacket.core.mesh.named import choice, choice_names, with_choice, without_choice
from jacket.core.mesh.polymesh import Ints, PolyMesh
from jacket.core.mesh.smooth import with_sharpness
from jacket.document.document import Document
from jacket.document.state import Held
from jacket.errors import EditRefused, JacketError
from jacket.stages.topology.values import TopologyValues
from jacket.tools.holding import path_between


def changed_choice(document: Document, change: Callable[[PolyMesh, str, Ints], tuple[str, Ints]]) -> None:
    """Hold what a function makes of each kind that is held."""
    mesh = document.require_jacket().mesh
    parts: dict[str, Any] = {}
    for h in document.state.held.parts:
        kind, ids = change(mesh, h.kind, h.ids)
        parts[kind] = np.union1d(parts.get(kind, np.zeros(0, np.int32)), ids)
    document.hold_all(Held.together(parts, document.state.held.kind, document.state.held.last))


def _chosen(change: Callable[[PolyMesh, str, Ints, TopologyValues], Ints]) -> QuietRun:
    return lambda host: changed_choice(host.document, lambda m, kind, ids: (kind, change(m, kind, ids, host.values(TopologyValues))))


def _of_edges(walk: Callable[[PolyMesh, Ints], Ints]) -> QuietRun:
    def change(mesh: PolyMesh, kind: str, ids: Ints) -> tuple[str, Ints]:
        return "edges", walk(mesh, as_kind(mesh, kind, ids, "edges"))

    return lambda host: changed_choice(host.document, change)


def _as(kind: str) -> QuietRun:
    return lambda host: changed_choice(host.document, lambda m, k, ids: (kind, as_kind(m, k, ids, kind)))


def _outline(host: Quiet) -> None:
    changed_choice(host.document, lambda m, kind, ids: ("edges", outline(m, kind, ids)))


def _every_nth(mesh: PolyMesh, kind: str, ids: Ints, values: TopologyValues) -> Ints:
    return every_nth(mesh, kind, ids, values.nth, values.nth_offset)


def _similar(mesh: PolyMesh, kind: str, ids: Ints, values: TopologyValues) -> Ints:
    return similar(mesh, kind, ids, values.similar_by, values.similar_slack / 100)


def _invert(host: Host) -> None:
    held = host.document.state.held
    mesh = host.document.require_jacket().mesh
    if not held.parts:
        host.document.hold("faces", np.arange(mesh.n_faces))
        return
    host.document.hold(held.kind, inverted(mesh, held.kind, held.ids))


def _hold_layer(host: Host) -> None:
    mesh, held = host.document.require_jacket().mesh, host.document.state.held
    kind = held.kind if held.parts else "faces"
    host.document.hold(kind, np.arange(count_of(mesh, kind)))


def _path(host: Quiet) -> None:
    held, mesh = host.document.state.held, host.document.require_jacket().mesh
    if len(held.ids) != 2:
        raise EditRefused("Hold two points, two edges or two faces to hold the path between them.")
    ids = path_between(mesh, held.kind, int(held.ids[0]), int(held.ids[1]))
    host.document.hold(held.kind, ids)


def _keep_choice(host: Host) -> None:
    mesh = host.document.open_jacket().mesh
    name = host.ask_text("Keep the choice", "Its name", f"choice {len(choice_names(mesh)) + 1}")
    if name:
        keep_choice(host.document, name)


def keep_choice(document: Document, name: str) -> None:
    """Keep what is held under a name, as one step."""
    name = name.strip()
    if not name or "/" in name:
        raise JacketError("A kept choice needs a name without a slash.")
    held, mesh = document.state.held, document.open_jacket().mesh
    if not held.parts:
        raise EditRefused("Hold something first; then it can be kept under a name.")
    document.edit_jacket(f"keep the choice {name}", with_choice(mesh, name, {h.kind: h.ids for h in held.parts}), held)


def hold_choice(document: Document, name: str) -> None:
    """Hold what is left of a kept choice."""
    parts = choice(document.require_jacket().mesh, name)
    if not parts:
        raise EditRefused(f"Nothing is left of the choice {name}; forget it, or undo what took it away.")
    document.hold_all(Held.together(parts))


def forget_choice(document: Document, name: str) -> None:
    """Forget a kept choice, as one step."""
    mesh = document.open_jacket().mesh
    document.edit_jacket(f"forget the choice {name}", without_choice(mesh, name), document.state.held)


def _remove_loose(host: Host) -> None:
    mesh = host.document.open_jacket().mesh
    loose = np.flatnonzero(np.bincount(mesh.corners, minlength=mesh.n_points) == 0)
    if len(loose) == 0:
        raise EditRefused("No points float without a face.")
    host.document.edit_jacket("remove floating points", points_removed(mesh, loose).mesh)


def _sharpen(host: Quiet) -> None:
    mesh, held = host.document.open_jacket().mesh, host.document.state.held
    rows = [as_kind(mesh, h.kind, h.ids, "edges") if h.kind != "faces" else outline(mesh, h.kind, h.ids)
            for h in held.parts]  # fmt: skip
    weight = host.values(TopologyValues).sharp_weight
    new = with_sharpness(mesh, np.unique(np.concatenate(rows)), weight)
    host.document.edit_jacket("mark sharp edges" if weight else "unmark sharp edges", new, held)


def _remove_held(host: Edits, mesh: PolyMesh) -> PolyMesh:
    held = host.document.state.held
    edges = held.of("edges")
    faces = [held.of("faces"), np.unique(mesh.face_of_corner[np.isin(mesh.topology.edge, edges)])]
    points = held.of("points")
    edited = faces_removed(mesh, np.unique(np.concatenate(faces).astype(np.int32)))
    left = edited.point_to[points]
    return points_removed(edited.mesh, left[left >= 0]).mesh if len(points) else edited.mesh


def _let_go(host: Host) -> None:
    host.document.amend(host.document.state.with_(held=Held()))


def _choose(id_: str, label: str, words: str, run: QuietRun) -> Command:
    return Command(id_, label, f"select choose hold {words}", "", has_held, beside(label.lower(), run))


COMMANDS = (
    Command("let-go", "Let go of everything", "deselect none", "", has_held, _let_go),
    Command("remove-held", "Remove what is held", "delete erase faces edges points", "Delete", has_held, edit("remove what was held", _remove_held)),
    _choose("grow-held", "Hold more around", "grow expand", _chosen(lambda m, k, i, v: grown(m, k, i))),
    _choose("shrink-held", "Hold less around", "shrink contract", _chosen(lambda m, k, i, v: shrunk(m, k, i))),
    _choose("link-held", "Hold all that hangs together", "linked connected", _chosen(lambda m, k, i, v: linked(m, k, i))),
    _choose("loops-held", "Hold the loops", "edge loop", _of_edges(loops_through)),
    _choose("rings-held", "Hold the rings", "edge ring row", _of_edges(rings_through)),
    _choose("path-held", "Hold the path between", "shortest way", _path),
    _choose("outline-held", "Hold the outline", "border boundary edges", _outline),
    _choose("nth-held", "Hold every n-th", "alternate checker skip", _chosen(_every_nth)),
    _choose("similar-held", "Hold what is similar", "same like length area valence normal", _chosen(_similar)),
    _choose("as-points", "Turn into points", "convert vertices", _as("points")),
    _choose("as-edges", "Turn into edges", "convert", _as("edges")),
    _choose("as-faces", "Turn into faces", "convert polygons", _as("faces")),
    Command("invert-held", "Hold everything else", "select invert swap", "", has_faces, _invert),
    Command("hold-layer", "Hold the whole layer", "select all everything", "", has_faces, _hold_layer),
    Command("keep-choice", "Keep the choice…", "select choose hold named selection set save", "", has_held, _keep_choice),
    Command("remove-loose", "Remove floating points", "loose isolated delete", "", has_layer, _remove_loose),
    _choose("sharpen", "Mark as sharp", "crease weight hard edge subdivision", _sharpen),
)  # fmt: skip
