"""The flat view's scene: sheets with their grid, islands, seams, what is held."""

from __future__ import annotations

import numpy as np

from jacket.commands.display import Colouring, Display
from jacket.core.derive import islands_of
from jacket.core.mesh.polymesh import PIN, Bools, Floats, PolyMesh
from jacket.core.seams.sewing import partner_threads
from jacket.core.store import STORE
from jacket.core.uv.sheets import Sheet
from jacket.document.state import State
from jacket.qt.scene.held import held_on_sheet
from jacket.qt.scene.jacket import face_colours, island_tints
from jacket.qt.scene.seams import flat_seams, thread_layers
from jacket.qt.theme import Palette, rgb
from jacket.render.scene import FILL_WIDTH, Layer, Scene, dot_rows, fill_rows, line_rows


def flat_scene(state: State, display: Display, palette: Palette, per_unit: float = 300.0) -> Scene:
    """Everything on the sheets; `per_unit` is how many pixels a sheet unit has on the screen."""
    rows = [*sheet_layers(state, display, palette, per_unit), *held_flat_layers(state, palette)]
    return Scene(layers=tuple(rows), ground=rgb(palette.flat_ground)[:3])


def sheet_layers(state: State, display: Display, palette: Palette, per_unit: float) -> list[Layer]:
    """Sheets, islands and seams, without what is held."""
    layers = [_sheet_layer(sheet, sheet is state.sheet, palette) for sheet in state.sheets]
    mesh = _flat_mesh(state)
    if mesh is None:
        return layers
    places, mapped = _flat_places(mesh)
    colours = face_colours(mesh, state, display, palette).copy() if display.colouring is Colouring.STRETCH \
        else island_tints(mesh, state).copy()  # fmt: skip
    colours[:, 3] = 0.82
    fill = fill_rows(mesh, colours, places, mapped)
    layers.append(Layer(fill, lit=False, checker=display.squares if display.checker else 0.0, wire=rgb(palette.wire, 0.4)))
    layers += flat_seams(mesh, places[:, :2], state, per_unit, palette)
    layers += _pin_layers(mesh, places, palette)
    if display.threads:
        layers += thread_layers(partner_threads(mesh, places[:, :2], islands_of(mesh, state.sheets).borders), palette)
    return layers


def _pin_layers(mesh: PolyMesh, places: Floats, palette: Palette) -> list[Layer]:
    """Pinned points, the larger the firmer."""
    pins = mesh.corner_data.get(PIN + mesh.active_uv)
    if pins is None:
        return []
    corners = np.flatnonzero(np.asarray(pins) > 0)
    _, first = np.unique(places[corners], axis=0, return_index=True)
    corners = corners[first]
    return [Layer(dots=dot_rows(places[corners], rgb(palette.ink), 3.0 + 5.0 * np.asarray(pins)[corners]))]


def held_flat_layers(state: State, palette: Palette) -> list[Layer]:
    """What is held, on the sheets."""
    mesh = _flat_mesh(state) if state.held.parts else None
    if mesh is None:
        return []
    places, mapped = _flat_places(mesh)
    layers = held_on_sheet(mesh, places, mapped, state, palette)
    edges = state.held.of("edges")
    if len(edges) and edges.max() < mesh.topology.n_edges:
        # What is held on one side of a seam is joined to its other side.
        only = np.zeros(mesh.topology.n_edges, bool)
        only[edges] = True
        layers += thread_layers(partner_threads(mesh, places[:, :2], islands_of(mesh, state.sheets).borders, only), palette)
    return layers


def _flat_mesh(state: State) -> PolyMesh | None:
    """The active layer where its active UV set maps something."""
    jacket = state.jacket
    mesh = jacket.mesh if jacket is not None else None
    return mesh if mesh is not None and mesh.uv is not None and _flat_places(mesh)[1].any() else None


def _flat_places(mesh: PolyMesh) -> tuple[Floats, Bools]:
    """(C, 3) places of corners on the sheets, and (F,) which faces are mapped."""

    def make() -> tuple[Floats, Bools]:
        uv = mesh.uv if mesh.uv is not None else np.full((mesh.n_corners, 2), np.nan)
        places = np.zeros((mesh.n_corners, 3))
        places[:, :2] = np.nan_to_num(uv)
        off = np.bincount(mesh.face_of_corner, ~np.isfinite(uv).all(axis=1), minlength=mesh.n_faces)
        return places, off == 0

    return STORE.get((mesh.aspect("faces"), mesh.aspect("uv")), "flat places", make)


def _sheet_layer(sheet: Sheet, active: bool, palette: Palette) -> Layer:
    low: Floats = sheet.origin
    corner = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 0, 0], [1, 1, 0], [0, 1, 0]], float)
    fill = np.zeros((6, FILL_WIDTH), np.float32)
    fill[:, :3] = corner
    fill[:, :2] += low
    fill[:, 5] = 1
    fill[:, 6:10] = rgb(palette.sheet, 1.0 if active else 0.7)
    fill[:, 10:12] = -1e6
    # Squares of the grid have equal sides in pixels: eight along the longer side.
    step = max(sheet.width, sheet.height) / 8
    across = np.arange(0, sheet.width + 1e-6, step) / sheet.width
    up = np.arange(0, sheet.height + 1e-6, step) / sheet.height
    lines = [[[x, 0], [x, 1]] for x in across] + [[[0, y], [1, y]] for y in up]
    edge = [[[0, 0], [1, 0]], [[1, 0], [1, 1]], [[1, 1], [0, 1]], [[0, 1], [0, 0]]]
    grid = np.array(lines + edge) + low
    widths = np.full(len(grid), 1.0)
    widths[len(lines) :] = 2.0 if active else 1.4
    return Layer(fill, line_rows(grid, rgb(palette.grid, 0.7), widths), lit=False)
