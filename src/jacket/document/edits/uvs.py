"""UV sets and islands of the active layer as steps: added, copied, renamed, removed, chosen; islands numbered and named."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv import sets
from jacket.core.uv.identity import IslandRecord, island_numbers
from jacket.document.document import Document
from jacket.document.state import Held, State, free_name
from jacket.errors import EditRefused, JacketError

# ---- sets as steps ---------------------------------------------------------------------------------------------


def add_set(document: Document, name: str) -> None:
    """An empty UV set, worked on from now on."""
    mesh = document.open_jacket().mesh
    document.edit_jacket(f"add the UV set {name}", sets.set_added(mesh, name), document.state.held)


def copy_set(document: Document, name: str) -> None:
    """A copy of the active UV set under a name, worked on from now on."""
    mesh = document.open_jacket().mesh
    if not mesh.active_uv:
        raise EditRefused("There is no UV set to copy yet; cut or flatten first.")
    document.edit_jacket(f"copy the UV set to {name}", sets.set_added(mesh, name, mesh.active_uv), document.state.held)


def rename_set(document: Document, old: str, name: str) -> None:
    """Another name for a UV set."""
    mesh = document.open_jacket().mesh
    document.edit_jacket(f"rename the UV set {old}", sets.set_renamed(mesh, old, name), document.state.held)


def remove_set(document: Document, name: str) -> None:
    """A UV set taken away with its cuts and pins."""
    mesh = document.open_jacket().mesh
    document.edit_jacket(f"remove the UV set {name}", sets.set_removed(mesh, name), document.state.held)


def choose_set(document: Document, name: str) -> None:
    """Work on another UV set from now on: a step, since delivery and packing go by it."""
    mesh = document.open_jacket().mesh
    if name != mesh.active_uv:
        document.edit_jacket(f"work on the UV set {name}", sets.with_active(mesh, name), document.state.held)


def free_set_name(mesh: PolyMesh, like: str = "") -> str:
    """A name that no UV set has yet."""
    return free_name(set(mesh.uv_sets), like or "uv")


# ---- islands as steps --------------------------------------------------------------------------------------------


def held_islands(state: State) -> tuple[int, ...]:
    """Numbers of the islands of the active UV set that held elements lie on; empty for none."""
    jacket = state.jacket
    numbers = island_numbers(jacket.mesh) if jacket is not None else None
    if jacket is None or numbers is None or not state.held.parts:
        return ()
    return tuple(np.unique(numbers[held_faces(jacket.mesh, state.held)]).tolist())


def held_faces(mesh: PolyMesh, held: Held) -> NDArray[np.signedinteger]:
    """(K,) faces that are held or touch what is held: of points and edges all faces around."""
    out = np.zeros(mesh.n_faces, bool)
    faces, edges, points = held.of("faces"), held.of("edges"), held.of("points")
    out[faces[faces < mesh.n_faces]] = True
    if len(edges):
        out[mesh.face_of_corner[np.isin(mesh.topology.edge, edges)]] = True
    if len(points):
        out[mesh.face_of_corner[np.isin(mesh.corners, points)]] = True
    return np.flatnonzero(out)


def change_islands(document: Document, step: str, numbers: tuple[int, ...],
                   change: Callable[[IslandRecord], IslandRecord]) -> None:  # fmt: skip
    """Change what is known of islands by their numbers, as one step."""
    jacket = document.open_jacket()
    if not numbers:
        raise JacketError("Hold something on the islands that are meant first.")
    rows = tuple(change(r) if r.id in numbers else r for r in jacket.islands)
    jackets = tuple(replace(j, islands=rows) if j.id == jacket.id else j for j in document.state.jackets)
    document.apply(step, document.state.with_(jackets=jackets))


def rename_island(document: Document, number: int, name: str) -> None:
    """Another name for an island. Raises JacketError where it is empty or taken."""
    name, jacket = name.strip(), document.open_jacket()
    if not name:
        raise JacketError("An island needs a name; type one.")
    if any(r.name == name and r.id != number for r in jacket.islands):
        raise JacketError(f"There is an island {name} already; choose another name.")
    change_islands(document, f"call an island {name}", (number,), lambda r: replace(r, name=name))
