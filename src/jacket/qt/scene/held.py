"""What is held, in magenta, in both views."""

from __future__ import annotations

from typing import Any

import numpy as np

from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.document.state import State
from jacket.qt.theme import Palette, rgb
from jacket.render.scene import Layer, dot_rows, fill_rows, line_rows


def _counts(mesh: PolyMesh) -> dict[str, int]:
    return {"points": mesh.n_points, "edges": mesh.topology.n_edges, "faces": mesh.n_faces}


def _flags(ids: Ints, count: int) -> Bools:
    out = np.zeros(count, bool)
    out[ids] = True
    return out


def held_layers(mesh: PolyMesh, points: Floats, state: State, palette: Palette, pull: float, push: float) -> list[Layer]:
    """Held elements of every kind in the form view, over points (V, 3)."""
    out, colour, most = [], rgb(palette.held), _counts(mesh)
    for held in state.held.parts:
        if held.ids.max() >= most[held.kind]:
            continue
        if held.kind == "points":
            out.append(Layer(dots=dot_rows(points[held.ids], colour, 9.0), pull=pull))
        elif held.kind == "edges":
            ends = points[mesh.topology.edge_points[held.ids]]
            out.append(Layer(lines=line_rows(ends, colour, 3.6), pull=pull))
        else:
            rows = fill_rows(mesh, np.array(rgb(palette.held, 0.34)), faces=_flags(held.ids, mesh.n_faces))
            out.append(Layer(rows, pull=pull, push=push, lit=False))
    return out


def held_on_sheet(mesh: PolyMesh, places: Floats, mapped: Any, state: State, palette: Palette) -> list[Layer]:
    """Held elements of every kind in the flat view, over places (C, 3); mapped (F,)."""
    out, colour, most = [], rgb(palette.held), _counts(mesh)
    topology = mesh.topology
    here = mapped[mesh.face_of_corner]
    for held in state.held.parts:
        if held.ids.max() >= most[held.kind]:
            continue
        if held.kind == "points":
            corners = np.flatnonzero(_flags(held.ids, mesh.n_points)[mesh.corners] & here)
            # Places as complex numbers: sorting rows takes ten times as long.
            _, first = np.unique(places[corners, 0] + 1j * places[corners, 1], return_index=True)
            out.append(Layer(dots=dot_rows(places[corners[first], :2], colour, 8.0)))
        elif held.kind == "edges":
            c = np.flatnonzero(_flags(held.ids, topology.n_edges)[topology.edge] & here)
            out.append(Layer(lines=line_rows(np.stack([places[c, :2], places[topology.next[c], :2]], axis=1), colour, 3.4)))
        else:
            out.append(Layer(fill_rows(mesh, np.array(rgb(palette.held, 0.34)), places, _flags(held.ids, mesh.n_faces) & mapped), lit=False))
    return out
