"""Hold: choosing points, edges, faces and islands in either view."""

from __future__ import annotations

import numpy as np

from jacket.core.mesh.polymesh import Ints, PolyMesh
from jacket.core.mesh.walks import edge_loop
from jacket.core.seams.cuts import island_labels
from jacket.document.state import Held
from jacket.tools.base import Tool
from jacket.tools.events import NO_GHOST, Ghost, Pointer
from jacket.tools.pick import NOTHING, Pick, occluder, pick, pick_flat


def found_under(tool: Tool, pointer: Pointer, kinds: str) -> Pick:
    """The element of the active jacket under the pointer, in whichever view that is."""
    jacket = tool.document.state.jacket
    if jacket is None:
        return NOTHING
    if pointer.flat is not None:
        return pick_flat(jacket.mesh, pointer, tool.settings.reach, kinds)
    return pick(jacket.mesh, pointer, tool.settings.reach, occluder(tool.document.state), kinds)


def edge_ghost(mesh: PolyMesh, edges: Ints, view: str, what: str, how: str) -> Ghost:
    """Edges lit in the view the pointer is in; in the flat view both sides of each."""
    topology = mesh.topology
    if view == "form":
        return Ghost(lines=mesh.points[topology.edge_points[edges]], what=what, how=how)
    uv = mesh.uv
    if uv is None:
        return Ghost("flat", what=what, how=how)
    corners = np.flatnonzero(np.isin(topology.edge, edges))
    lines = np.stack([uv[corners], uv[topology.next[corners]]], axis=1)
    return Ghost("flat", lines[np.isfinite(lines).all(axis=(1, 2))], np.zeros((0, 2)), 0.0, what, how)


def face_ghost(mesh: PolyMesh, faces: Ints, view: str, what: str, how: str) -> Ghost:
    """The outline of faces in the view the pointer is in."""
    inside = np.zeros(mesh.n_faces, bool)
    inside[faces] = True
    topology = mesh.topology
    across = topology.twin
    corners = np.flatnonzero(
        inside[mesh.face_of_corner] & ~((across >= 0) & inside[mesh.face_of_corner[np.maximum(across, 0)]])
    )
    if view == "form":
        return Ghost(lines=mesh.points[topology.edge_points[topology.edge[corners]]], what=what, how=how)
    uv = mesh.uv
    if uv is None:
        return Ghost("flat", what=what, how=how)
    cut = topology.edge_flags(mesh.mark("seam"))
    corners = np.flatnonzero(
        inside[mesh.face_of_corner]
        & ((across < 0) | cut[topology.edge] | ~inside[mesh.face_of_corner[np.maximum(across, 0)]])
    )
    lines = np.stack([uv[corners], uv[topology.next[corners]]], axis=1)
    return Ghost("flat", lines[np.isfinite(lines).all(axis=(1, 2))], np.zeros((0, 2)), 0.0, what, how)


class Hold(Tool):
    """Holds what is clicked: an edge, a face; with Shift the loop or the island; with Ctrl in addition."""

    id, label, stage, key = "hold", "Hold", "any", "H"
    legend = (
        ("click", "hold an edge or face"),
        ("Shift click", "the loop or island"),
        ("Ctrl click", "one more, or let go"),
    )

    def hover(self, pointer: Pointer) -> None:
        kind, ids = self._aim(pointer)
        self.ghost = NO_GHOST
        jacket = self.document.state.jacket
        if jacket is None or not kind:
            return
        view = "flat" if pointer.flat is not None else "form"
        show = edge_ghost if kind == "edges" else face_ghost
        names = {"edges": "Hold the loop" if pointer.shift else "Hold the edge",
                 "faces": "Hold the island" if pointer.shift else "Hold the face"}  # fmt: skip
        self.ghost = show(jacket.mesh, ids, view, names[kind], "Shift click" if pointer.shift else "click")

    def _aim(self, pointer: Pointer) -> tuple[str, Ints]:
        jacket = self.document.state.jacket
        found = found_under(self, pointer, "edge face")
        if jacket is None or not found.kind:
            return "", np.zeros(0, np.int32)
        if found.kind == "edge":
            return "edges", edge_loop(jacket.mesh, found.id) if pointer.shift else np.array([found.id], np.int32)
        if pointer.shift:
            labels = island_labels(jacket.mesh)[1]
            return "faces", np.flatnonzero(labels == labels[found.id]).astype(np.int32)
        return "faces", np.array([found.id], np.int32)

    def press(self, pointer: Pointer) -> None:
        kind, ids = self._aim(pointer)
        held = self.document.state.held
        if not kind:
            if not pointer.ctrl:
                self.document.amend(self.document.state.with_(held=Held()))
            return
        if pointer.ctrl and held.kind == kind:
            ids = np.setdiff1d(held.ids, ids) if np.isin(ids, held.ids).all() else np.union1d(held.ids, ids)
        self.document.hold(kind, ids)
