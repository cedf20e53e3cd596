"""Layers of the jacket as they are drawn: faces in their colouring, wires, poles, lifted and loose points, sharp edges.

The jacket is drawn as lying on the source: its faces so far out as they sag between their points, and in front of
whatever of the source stands up between them.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from jacket.commands.display import Colouring, Display
from jacket.core.derive import angles_of, form_of, islands_of, known_gap, known_shown, normals_of, rings_of, stretch_of
from jacket.core.fit.lifted import lifted_points
from jacket.core.mesh.geometry import dihedral_angles, edge_lengths
from jacket.core.mesh.poles import irregular_points
from jacket.core.mesh.polymesh import Bools, Floats, PolyMesh
from jacket.core.mesh.smooth import WEIGHT, smoothed
from jacket.core.store import STORE
from jacket.core.uv.islands import texel_densities
from jacket.document.edits.uvs import held_faces
from jacket.document.state import State
from jacket.qt.scene.boards import board_of
from jacket.qt.scene.held import held_layers
from jacket.qt.scene.seams import form_seams
from jacket.qt.scene.tints import heat
from jacket.qt.theme import ISLAND_TINTS, Palette, rgb
from jacket.render.scene import FILL_WIDTH, Layer, dot_rows, fill_rows, line_rows

PULL = 0.008
"""How far towards the eye layers are drawn, as a share of the source's diagonal."""


@dataclass(frozen=True)
class Frame:
    """What producers of a scene draw by: palette, size of what is looked at, pixels a unit of it has, the stage."""

    palette: Palette
    size: float
    per_unit: float
    stage: str


def sag(mesh: PolyMesh) -> float:
    """How far the surface under a mesh bulges over its edges, nearly everywhere: the rise of an arc over a chord of the
    edge's length that turns by the angle at it. Kept for as long as the faces are the same."""

    def make() -> float:
        if mesh.n_faces == 0:
            return 0.0
        inner = mesh.topology.edge_uses == 2
        if not inner.any():
            return 0.0
        turn = np.radians(np.minimum(dihedral_angles(mesh)[inner], 90.0))
        return float(np.percentile(edge_lengths(mesh)[inner] * turn / 8, 90))

    return STORE.get((mesh.aspect("faces"),), "sag", make)


def face_colours(mesh: PolyMesh, state: State, display: Display, palette: Palette) -> Floats:
    """(F, 4) colour of each face by the one colouring that is on."""
    colouring = display.colouring
    if colouring is Colouring.STRETCH:
        if display.stretch_by == "angle":
            return heat(angles_of(mesh, state.sheets), palette.paper, palette.paper, palette.accent, 0.4)
        return heat(stretch_of(mesh, state.sheets), palette.squeezed, palette.paper, palette.stretched, 1.0)
    if colouring is Colouring.GAP and state.source is not None and mesh.n_faces:
        gap = known_gap(mesh, state.source.mesh)
        if gap is not None:
            return heat(_by_face(mesh, gap), palette.paper, palette.paper, palette.accent, 0.6)
    if colouring is Colouring.MOVED and "moved" in mesh.point_data and mesh.n_faces:
        far = _by_face(mesh, np.asarray(mesh.point_data["moved"], float))
        return heat(far, palette.paper, palette.paper, palette.accent, max(float(far.max()), 0.05))
    if colouring is Colouring.DENSITY and mesh.n_faces:
        return density_tints(mesh, state, palette)
    if colouring is Colouring.ISLANDS:
        return island_tints(mesh, state)
    if colouring is Colouring.RINGS and mesh.n_faces:
        return ring_tints(mesh, palette)
    out = np.tile(np.array(rgb(palette.jacket)), (mesh.n_faces, 1))
    out[mesh.sizes == 3] = rgb("#5f9ea6")
    out[mesh.sizes > 4] = rgb("#a583ad")
    return out


def island_tints(mesh: PolyMesh, state: State) -> Floats:
    """(F, 4) a quiet tint for each island, the same in both views."""
    tints = np.array([rgb(t) for t in ISLAND_TINTS])
    return np.asarray(tints[islands_of(mesh, state.sheets).labels % len(tints)])


def density_tints(mesh: PolyMesh, state: State, palette: Palette) -> Floats:
    """(F, 4) each face by its texel density against the middle one: coarse as squeezed, dense as stretched, half or twice
    as much in full colour; faces that are not mapped plain."""
    density = texel_densities(islands_of(mesh, state.sheets))
    known = density[np.isfinite(density) & (density > 0)]
    if len(known) == 0:
        return np.tile(np.array(rgb(palette.paper)), (mesh.n_faces, 1))
    with np.errstate(divide="ignore", invalid="ignore"):
        off = np.log2(density / float(np.median(known)))
    return heat(np.nan_to_num(off, nan=0.0, posinf=0.0, neginf=0.0), palette.squeezed, palette.paper, palette.stretched, 1.0)


def held_island_faces(mesh: PolyMesh, state: State) -> Bools:
    """(F,) faces of the islands that something is held on; all where nothing is."""
    if not state.held.parts:
        return np.ones(mesh.n_faces, bool)
    labels = islands_of(mesh, state.sheets).labels
    return np.isin(labels, np.unique(labels[held_faces(mesh, state.held)]))


def ring_tints(mesh: PolyMesh, palette: Palette) -> Floats:
    """(F, 4) each quad in the tint of the longer of its two rings, those of the longest in the accent."""
    found = rings_of(mesh)
    tints = np.array([rgb(t) for t in ISLAND_TINTS])
    out = np.tile(np.array(rgb(palette.paper)), (mesh.n_faces, 1))
    quads = np.flatnonzero(mesh.sizes == 4)
    if len(quads) == 0:
        return out
    two = found.of_edge[mesh.topology.edge[mesh.starts[:-1][quads][:, None] + np.arange(2)]]
    longer = np.where(found.crossings[two[:, 0]] >= found.crossings[two[:, 1]], two[:, 0], two[:, 1])
    out[quads] = tints[longer % len(tints)]
    out[quads[longer == int(np.argmax(found.crossings))]] = rgb(palette.accent)
    return out


def longest_ring(mesh: PolyMesh, places: Floats, palette: Palette, pull: float) -> list[Layer]:
    """The edges that the longest ring crosses."""
    found = rings_of(mesh)
    if mesh.n_faces == 0 or found.n_quads == 0:
        return []
    edges = mesh.topology.edge_points[found.of_edge == int(np.argmax(found.crossings))]
    return [Layer(lines=line_rows(places[edges], rgb(palette.ink), 2.2), pull=pull)]


def _by_face(mesh: PolyMesh, values: Floats) -> Floats:
    out = np.zeros(mesh.n_faces)
    np.maximum.at(out, mesh.face_of_corner, values[mesh.corners])
    return out


def pushed(mesh: PolyMesh, out: float) -> PolyMesh:
    """A mesh pushed out along its normals, for drawing only."""
    new = mesh.detached()
    return new.with_points(new.points + out * normals_of(mesh))


def drawn_jacket(mesh: PolyMesh, size: float, display: Display) -> tuple[PolyMesh, Floats | None]:
    """The jacket as it is drawn: smoothed and pushed out where that is wanted, and the lines (S, 2, 3) that stand for
    its edges on the smoothed one."""
    lines = None
    if display.smooth and mesh.n_faces:
        key = ("smooth", display.smooth)
        smooth = STORE.get((*form_of(mesh), mesh.aspect("marks")), key, lambda: smoothed(mesh, display.smooth))
        mesh, lines = smooth.mesh, smooth.lines
    if display.push and mesh.n_faces:
        out, whole = 0.01 * display.push * size, mesh
        mesh = STORE.get(form_of(whole), ("pushed", out), lambda: pushed(whole, out))
    return mesh, (mesh.points[lines] if lines is not None else None)


def jacket_layers(mesh: PolyMesh, state: State, display: Display, frame: Frame) -> list[Layer]:
    """The faces, wires, poles, lifted and loose points of a layer that is worked on."""
    palette, pull = frame.palette, PULL * frame.size
    drawn, smooth_lines = drawn_jacket(mesh, frame.size, display)
    topology = mesh.topology
    _, places, push = _laid(mesh, state, display, frame)
    colours = face_colours(mesh, state, display, palette)
    if smooth_lines is not None:
        # Every corner of a face grew into a quad, and those four times over in each further round.
        colours = np.repeat(colours[mesh.face_of_corner], 4 ** (display.smooth - 1), axis=0)
    colours[:, 3] *= 0.5 if display.through else 1.0
    if not (display.solid and drawn.n_faces > 0):
        colours[:, 3] = 0.0
    only = held_island_faces(mesh, state) if display.alone and smooth_lines is None and mesh.n_faces else None
    fill = fill_rows(drawn, colours, faces=only) if drawn.n_faces else np.zeros((0, FILL_WIDTH), np.float32)
    strength = 0.4 if display.checker or display.colouring is Colouring.STRETCH else 0.85
    wire = rgb(palette.wire, strength) if display.wire and smooth_lines is None else (0.0, 0.0, 0.0, 0.0)
    borders = line_rows(places[topology.edge_points[topology.edge_uses == 1]], rgb(palette.wire), 2.0)
    # Behind a source the far side cannot be seen, and drawing it would cost as much as the near one.
    shut = not display.through and state.source is not None and state.source.visible and display.source
    layers = [Layer(fill, lines=borders, dots=_dots(mesh, places, display, frame), pull=pull, push=push, wire=wire,
                    board=board_of(display, state), shut=shut or not display.backs)]  # fmt: skip
    if smooth_lines is not None and display.wire:
        layers.append(Layer(lines=line_rows(smooth_lines, rgb(palette.wire, strength), 1.3), pull=pull * 1.1))
    if display.colouring is Colouring.RINGS and smooth_lines is None:
        layers += longest_ring(mesh, places, palette, pull * 1.1)
    if frame.stage == "topology":
        layers += sharp_layers(mesh, places, palette, pull * 1.2)
    return layers


class Same:
    """Equal to itself and to others of the very same thing: for keys of arrays."""

    __slots__ = ("thing",)

    def __init__(self, thing: object) -> None:
        self.thing = thing

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Same) and other.thing is self.thing

    __hash__ = None  # type: ignore[assignment]


def faces_follow(mesh: PolyMesh, state: State, display: Display) -> tuple[Any, ...]:
    """What the faces of a layer follow from, beside display and frame. Moving islands on the sheet leaves them, unless
    the sheet shows on them."""
    out: tuple[Any, ...] = tuple(mesh.aspect(a) for a in ("points", "faces", "marks", "point_data"))
    if display.colouring is Colouring.ISLANDS:
        out += (Same(islands_of(mesh, state.sheets).labels),)
    if display.checker or display.colouring in (Colouring.STRETCH, Colouring.DENSITY):
        out += (mesh.aspect("uv"), mesh.aspect("cuts"), state.sheets)
    if display.alone:
        out += (Same(state.held), mesh.aspect("cuts"))
    source = state.source
    if display.colouring is Colouring.GAP and source is not None:
        out += (known_gap(mesh, source.mesh) is not None,)
    return (*out, *(form_of(source.mesh) if source is not None else ()), source is not None and source.visible)


def _laid(mesh: PolyMesh, state: State, display: Display, frame: Frame) -> tuple[PolyMesh, Floats, float]:
    """The mesh whose elements are shown, its points as they are drawn on the source, and how far out that is."""
    drawn, smooth_lines = drawn_jacket(mesh, frame.size, display)
    shown = mesh if smooth_lines is not None else drawn
    push = min(sag(mesh), PULL * frame.size) if state.source is not None and not display.push else 0.0
    return shown, (shown.points + push * normals_of(shown) if push > 0 else shown.points), push


def held_over(mesh: PolyMesh, state: State, display: Display, frame: Frame) -> list[Layer]:
    """What is held of a layer that is worked on."""
    if not state.held.parts:
        return []
    shown, places, push = _laid(mesh, state, display, frame)
    return held_layers(shown, places, state, frame.palette, PULL * frame.size * 1.6, push)


def seams_follow(mesh: PolyMesh, state: State) -> tuple[Any, ...]:
    """What the seams in the form view follow from, beside display and frame."""
    islands = islands_of(mesh, state.sheets)
    shown = known_shown(mesh, state.sights) if state.sights else None
    return (mesh.aspect("points"), mesh.aspect("faces"), Same(islands.borders), Same(islands.labels), Same(shown))


def seams_over(mesh: PolyMesh, state: State, display: Display, frame: Frame) -> list[Layer]:
    """Where the islands of a layer end."""
    _, places, _ = _laid(mesh, state, display, frame)
    return form_seams(mesh, places, state, frame.per_unit, frame.palette, PULL * frame.size * 1.3)


def _dots(mesh: PolyMesh, places: Floats, display: Display, frame: Frame) -> Any:
    palette = frame.palette
    loose = places[np.bincount(mesh.corners, minlength=mesh.n_points) == 0]
    rows = [dot_rows(loose, rgb(palette.ink), 8.0), dot_rows(loose, rgb(palette.look), 5.0)]
    if display.poles and frame.stage == "topology":
        rows.append(dot_rows(places[irregular_points(mesh)], rgb(palette.ink), 6.0))
    if display.lifted:
        rows.append(dot_rows(places[lifted_points(mesh)], rgb(palette.look), 6.0))
    return np.concatenate(rows)


def sharp_layers(mesh: PolyMesh, places: Floats, palette: Palette, pull: float) -> list[Layer]:
    """Edges marked sharp as heavy lines, thinner for less weight."""
    out = []
    for name in mesh.marks:
        if name == "sharp" or name.startswith(WEIGHT):
            width = 3.4 if name == "sharp" else 1.6 + 0.18 * min(float(name[len(WEIGHT) :]), 10.0)
            out.append(Layer(lines=line_rows(places[mesh.mark(name)], rgb(palette.ink), width), pull=pull))
    return out


def resting_layers(mesh: PolyMesh, state: State, display: Display, frame: Frame) -> list[Layer]:
    """A layer that is not worked on: paler, with thin wires."""
    palette = frame.palette
    drawn, lines = drawn_jacket(mesh, frame.size, display)
    colour = np.array(rgb(palette.paper, 0.35 if display.through else 0.8))
    fill = fill_rows(drawn, colour) if drawn.n_faces else np.zeros((0, FILL_WIDTH), np.float32)
    wire = rgb(palette.wire, 0.35) if display.wire and lines is None else (0.0, 0.0, 0.0, 0.0)
    shut = not display.through and state.source is not None and state.source.visible and display.source
    push = min(sag(mesh), PULL * frame.size) if state.source is not None and not display.push else 0.0
    return [Layer(fill, pull=0.9 * PULL * frame.size, push=push, wire=wire, shut=shut)]
