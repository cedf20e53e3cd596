"""Pieces that commands of every stage are made of: when they fit, and how they change a layer."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from jacket.commands.beside import beside
from jacket.commands.host import Edits, Host, Run
from jacket.core.mesh.polymesh import PolyMesh
from jacket.document.state import State
from jacket.document.task import Job, Task, on_layer


def always(state: State) -> bool:
    """Fits at any time."""
    return True


def has_source(state: State) -> bool:
    """There is a source."""
    return state.source is not None


def has_chosen(state: State) -> bool:
    """There is a source to work on."""
    return state.chosen_source is not None


def has_layer(state: State) -> bool:
    """There is a layer."""
    return state.jacket is not None


def has_faces(state: State) -> bool:
    """The active layer has faces."""
    return state.jacket is not None and state.jacket.mesh.n_faces > 0


def has_held(state: State) -> bool:
    """Something of the active layer is held."""
    return state.jacket is not None and bool(state.held.parts)


def has_cuts(state: State) -> bool:
    """The active UV set is cut somewhere."""
    return state.jacket is not None and len(state.jacket.mesh.cuts) > 0


def has_uvs(state: State) -> bool:
    """The active UV set maps something."""
    uv = state.jacket.mesh.uv if state.jacket is not None else None
    return uv is not None and bool(np.isfinite(uv).any())


def edit(step: str, change: Callable[[Edits, PolyMesh], PolyMesh]) -> Run:
    """A command that changes the active layer's mesh: at once, or beside the window where it is large."""

    def run(host: Edits) -> None:
        host.document.edit_jacket(step, change(host, host.document.open_jacket().mesh))

    return beside(step, run)


def long_edit(
    step: str, prepare: Callable[[Edits, PolyMesh], Job], said: Callable[[Any], str] = lambda _: "",
    mesh_of: Callable[[Any], PolyMesh] = lambda result: result,
) -> Run:  # fmt: skip
    """A command that changes the active layer's mesh after work beside the window.

    prepare   takes what is needed from the host and gives the work, which never sees the host again
    said      a sentence for people about the result, "" for none;  mesh_of   the mesh in the result
    """

    def run(host: Host) -> None:
        document = host.document
        document.open_jacket()
        ground = on_layer(document.state)

        def merge(result: Any) -> None:
            document.edit_layer(step, ground.id, mesh_of(result))
            if said(result):
                host.say(said(result))

        host.start(Task(step, prepare(host, ground.mesh), merge, (ground,), lambda: run(host)))

    return run


