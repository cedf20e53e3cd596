"""The flat view's scene: sheets with their grid, islands, seams, what is held."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from jacket.commands.display import Colouring, Display
from jacket.core.derive import islands_of, known_close
from jacket.core.jit import kernel
from jacket.core.layout.pieces import Bonds
from jacket.core.mesh.polymesh import PIN, Bools, Floats, PolyMesh
from jacket.core.seams.sewing import partner_threads
from jacket.core.store import STORE
from jacket.core.uv.identity import island_numbers
from jacket.core.uv.sheets import Sheet
from jacket.document.state import State
from jacket.qt.scene.boards import board_of
from jacket.qt.scene.held import held_on_sheet
from jacket.qt.scene.jacket import face_colours, held_island_faces, island_tints
from jacket.qt.scene.seams import flat_seams, thread_layers
from jacket.qt.scene.steer import flat_guides
from jacket.qt.scene.strokes import flat_strokes
from jacket.qt.theme import Palette, rgb
from jacket.render.scene import FILL_WIDTH, Layer, Scene, dot_rows, fill_rows, line_rows


def flat_scene(state: State, display: Display, palette: Palette, per_unit: float = 300.0) -> Scene:
    """Everything on the sheets; `per_unit` is how many pixels a sheet unit has on the screen."""
    rows = [*sheet_layers(state, display, palette, per_unit), *held_flat_layers(state, palette)]
    return Scene(layers=tuple(rows), ground=rgb(palette.flat_ground)[:3])


def sheet_layers(
    state: State, display: Display, palette: Palette, per_unit: float, near: tuple[int, ...] | None = None,
    beside: Sequence[PolyMesh] = (),
) -> list[Layer]:  # fmt: skip
    """Sheets, islands and seams, without what is held. With `near`, the islands that come too close, each island has its
    hem; `beside` are other layers that lie on the same sheets, shown quietly."""
    layers = [_sheet_layer(sheet, sheet is state.sheet, palette) for sheet in state.sheets]
    for other in beside:
        layers += _beside_layers(other, state, palette)
    mesh = _flat_mesh(state)
    if mesh is None:
        return layers
    places, mapped = _flat_places(mesh)
    by_value = display.colouring in (Colouring.STRETCH, Colouring.DENSITY)
    colours = (face_colours(mesh, state, display, palette) if by_value else island_tints(mesh, state)).copy()
    colours[:, 3] = 0.82
    done, locked = island_marks(mesh, state)
    # What is finished steps back; what is locked more so.
    colours[done, 3] = 0.5
    colours[done & locked, 3] = 0.34
    if display.alone:
        colours[~held_island_faces(mesh, state), 3] = 0.08
    if near is not None:
        layers += _hem_layers(mesh, state, palette, per_unit, near)
    fill = fill_rows(mesh, colours, places, mapped)
    layers.append(Layer(fill, lit=False, board=board_of(display, state), wire=rgb(palette.wire, 0.4)))
    layers += flat_seams(mesh, places[:, :2], state, per_unit, palette)
    if display.strokes:
        layers += flat_strokes(mesh, state, palette)
    layers += flat_guides(mesh, state, palette)
    layers += _pin_layers(mesh, places, palette)
    if display.threads:
        layers += thread_layers(partner_threads(mesh, places[:, :2], islands_of(mesh, state.sheets).borders), palette)
    return layers


def sharing(state: State) -> list[PolyMesh]:
    """Other visible layers that map something: those that share the sheets where layers are packed together."""
    return [j.mesh for j in state.jackets if j.visible and j.id != state.active and j.mesh.uv is not None
            and bool(np.isfinite(j.mesh.uv).any())]  # fmt: skip


def _beside_layers(mesh: PolyMesh, state: State, palette: Palette) -> list[Layer]:
    """The islands of a layer that is not worked on: a pale fill and their outlines."""
    places, mapped = _flat_places(mesh)
    islands = islands_of(mesh, state.sheets)
    border = islands.border_corners
    ends = np.stack([places[border], places[mesh.topology.next[border]]], axis=1)
    good = mapped[mesh.face_of_corner[border]]
    fill = fill_rows(mesh, np.tile(np.array(rgb(palette.paper, 0.75)), (mesh.n_faces, 1)), places, mapped)
    return [Layer(fill, line_rows(ends[good], rgb(palette.soft, 0.9), 1.2), lit=False)]


def island_marks(mesh: PolyMesh, state: State) -> tuple[Bools, Bools]:
    """(F,) which faces lie on islands that are done, and on locked ones."""
    numbers = island_numbers(mesh)
    rows = state.jacket.islands if state.jacket is not None else ()
    if numbers is None:
        return np.zeros(mesh.n_faces, bool), np.zeros(mesh.n_faces, bool)
    return np.isin(numbers, [r.id for r in rows if r.done]), np.isin(numbers, [r.id for r in rows if r.lock])


def _hem_layers(mesh: PolyMesh, state: State, palette: Palette, per_unit: float, close: tuple[int, ...]) -> list[Layer]:
    """A pale hem half the margin wide along every island, red along those that come too close."""
    islands = islands_of(mesh, state.sheets)
    border = islands.border_corners
    ends = np.zeros((len(border), 2, 3))
    ends[:, 0, :2], ends[:, 1, :2] = islands.uv[border], islands.uv[mesh.topology.next[border]]
    good = np.isfinite(ends).all(axis=(1, 2))
    border, ends = border[good], ends[good]
    which = np.maximum(islands.sheet_of[islands.corner_labels[border]], 0)
    # Twice half the margin, a side each of the line, in pixels of the screen.
    wide = np.array([s.gap / s.height for s in state.sheets])[which] * per_unit
    near = np.isin(islands.corner_labels[border], list(close))
    rows = []
    for flags, colour in ((~near, rgb(palette.card, 0.9)), (near, rgb(palette.accent, 0.55))):
        if flags.any():
            rows.append(Layer(lines=line_rows(ends[flags], colour, np.maximum(wide[flags], 0.5)), lit=False))
    return rows


def too_near(mesh: PolyMesh, state: State) -> list[int]:
    """Islands between which the margin is not kept, as far as that is known already."""
    jacket = state.jacket
    islands = islands_of(mesh, state.sheets)
    stacks = Bonds.of(islands, island_numbers(mesh), jacket.islands if jacket is not None else ()).stack
    pairs = known_close(mesh, state.sheets, stacks)
    return np.unique(pairs[pairs >= 0]).tolist() if pairs is not None else []


def _pin_layers(mesh: PolyMesh, places: Floats, palette: Palette) -> list[Layer]:
    """Pinned points, the larger the firmer."""
    pins = mesh.corner_data.get(PIN + mesh.active_uv)
    if pins is None:
        return []
    corners = np.flatnonzero(np.asarray(pins) > 0)
    # Places as complex numbers: sorting rows takes ten times as long.
    _, first = np.unique(places[corners, 0] + 1j * places[corners, 1], return_index=True)
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
        return _places_of(uv, mesh.starts)

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


@kernel
def _places_of(uv, starts):
    places, mapped = np.zeros((len(uv), 3)), np.ones(len(starts) - 1, np.bool_)
    for f in range(len(mapped)):
        for c in range(starts[f], starts[f + 1]):
            for k in range(2):
                if np.isfinite(uv[c, k]):
                    places[c, k] = uv[c, k]
                else:
                    mapped[f] = False
    return places, mapped
