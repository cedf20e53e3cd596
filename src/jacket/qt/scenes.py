"""From the document to scenes: what is drawn in the two views, in which colours."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.source.simplify import navigation_copy
from jacket.document.derived import gap_of, islands_of, kept, stretch_of
from jacket.document.state import State
from jacket.qt.theme import ISLAND_TINTS, Palette, rgb
from jacket.render.scene import FILL_WIDTH, Layer, Scene, dot_rows, fill_rows, line_rows

Floats = NDArray[np.float64]


@dataclass
class Display:
    """What the display chips switch."""

    on: dict[str, bool] = field(default_factory=lambda: {
        "source": True, "jacket": True, "wire": True, "gap": False, "poles": True, "seams": True, "islands": False,
        "checker": False, "stretch": False, "names": True, "night": False, "trial": True,
    })  # fmt: skip

    def key(self) -> tuple[tuple[str, bool], ...]:
        """For caching."""
        return tuple(sorted(self.on.items()))


def source_layer(mesh: PolyMesh, palette: Palette) -> Layer:
    """The source as drawn when the view stands still."""
    return kept(mesh, ("layer", palette.source), lambda: Layer(fill_rows(mesh, np.array(rgb(palette.source)))))


def light_layer(mesh: PolyMesh, palette: Palette) -> Layer:
    """The light copy drawn while the view moves."""

    def make() -> Layer:
        points, triangles = navigation_copy(mesh.points, mesh.triangle_points, 30_000)
        return Layer(fill_rows(PolyMesh.from_faces(points, triangles), np.array(rgb(palette.source))))

    return kept(mesh, ("light", palette.source), make)


def heat(values: Floats, low: str, middle: str, high: str, reach: float) -> Floats:
    """(N, 4) colours from `low` at −reach over `middle` at 0 to `high` at +reach; grey where NaN."""
    t = np.clip(np.nan_to_num(values) / reach, -1, 1)[:, None]
    a, m, b = (np.array(rgb(c)) for c in (low, middle, high))
    out = np.where(t < 0, m + (a - m) * -t, m + (b - m) * t)
    out[~np.isfinite(values)] = (0.6, 0.6, 0.6, 1.0)
    return out


def face_colours(mesh: PolyMesh, state: State, display: Display, palette: Palette) -> Floats:
    """(F, 4) colour of each face: stretch, gap, islands or plain."""
    if display.on["stretch"]:
        return heat(stretch_of(mesh), palette.squeezed, palette.paper, palette.stretched, 1.0)
    if display.on["gap"] and state.source is not None and mesh.n_faces:
        gaps = gap_of(mesh, state.source.mesh)
        worst = np.zeros(mesh.n_faces)
        np.maximum.at(worst, mesh.face_of_corner, gaps[mesh.corners])
        return heat(worst, palette.paper, palette.paper, palette.accent, 0.6)
    if display.on["islands"]:
        tints = np.array([rgb(t) for t in ISLAND_TINTS])
        return tints[islands_of(mesh).labels % len(tints)]
    out = np.tile(np.array(rgb(palette.jacket)), (mesh.n_faces, 1))
    out[mesh.sizes == 3] = rgb("#5f9ea6")
    out[mesh.sizes > 4] = rgb("#a583ad")
    return out


def jacket_layers(
    mesh: PolyMesh, state: State, display: Display, palette: Palette, pull: float, stage: str
) -> list[Layer]:
    """The jacket's faces, wires, seams, poles, loose points and what is held."""
    topology = mesh.topology
    layers = []
    colours = face_colours(mesh, state, display, palette)
    checker = 16.0 if display.on["checker"] else 0.0
    fill = fill_rows(mesh, colours) if mesh.n_faces else np.zeros((0, FILL_WIDTH), np.float32)
    dots = [_loose_dots(mesh, palette)]
    if display.on["poles"] and stage == "topology":
        dots.append(_pole_dots(mesh, palette))
    strength = 0.4 if display.on["checker"] or display.on["stretch"] else 0.85
    wire = rgb(palette.wire, strength) if display.on["wire"] else (0.0, 0.0, 0.0, 0.0)
    border = mesh.points[topology.edge_points[topology.edge_uses == 1]]
    lines = line_rows(border, rgb(palette.wire), 2.0)
    # Behind a source the far side cannot be seen, and drawing it would cost as much as the near one.
    shut = state.source is not None and state.source.visible and display.on["source"]
    layers.append(Layer(fill, lines, np.concatenate(dots), pull, checker=checker, wire=wire, shut=shut))
    if display.on["seams"]:
        layers += stitch_layers(mesh.points[mesh.mark("seam")], palette, pull * 1.3)
    layers += held_layers(mesh, state, palette, pull * 1.6)
    return layers


def _loose_dots(mesh: PolyMesh, palette: Palette) -> Any:
    loose = np.bincount(mesh.corners, minlength=mesh.n_points) == 0
    points = mesh.points[loose]
    return np.concatenate([dot_rows(points, rgb(palette.ink), 8.0), dot_rows(points, rgb(palette.look), 5.0)])


def _pole_dots(mesh: PolyMesh, palette: Palette) -> Any:
    topology = mesh.topology
    odd = (topology.valence > 0) & ~topology.border_points & (topology.valence != 4)
    return dot_rows(mesh.points[odd], rgb(palette.ink), 6.0)


def stitch_layers(segments: Floats, palette: Palette, pull: float) -> list[Layer]:
    """Seams as a basting stitch: saffron dashes on a dark line."""
    if len(segments) == 0:
        return []
    return [
        Layer(lines=line_rows(segments, rgb(palette.stitch_dark), 4.6), pull=pull),
        Layer(lines=line_rows(segments, rgb(palette.stitch), 2.6), pull=pull * 1.15, stitch=11.0),
    ]


def held_layers(mesh: PolyMesh, state: State, palette: Palette, pull: float) -> list[Layer]:
    """What is held, in magenta, in the form view."""
    held = state.held
    if (
        len(held) == 0
        or held.ids.max() >= {"points": mesh.n_points, "edges": mesh.topology.n_edges, "faces": mesh.n_faces}[held.kind]
    ):
        return []
    colour = rgb(palette.held)
    if held.kind == "points":
        return [Layer(dots=dot_rows(mesh.points[held.ids], colour, 9.0), pull=pull)]
    if held.kind == "edges":
        return [Layer(lines=line_rows(mesh.points[mesh.topology.edge_points[held.ids]], colour, 3.6), pull=pull)]
    keep = np.zeros(mesh.n_faces, bool)
    keep[held.ids] = True
    fill = fill_rows(mesh, np.array(rgb(palette.held, 0.34)), faces=keep)
    return [Layer(fill, pull=pull, lit=False)]


def form_scene(
    state: State, display: Display, palette: Palette, stage: str, trial: PolyMesh | None, offenders: Floats | None
) -> Scene:
    """The form view's scene."""
    source = state.source
    base = light = None
    if source is not None and source.visible and display.on["source"]:
        base, light = source_layer(source.mesh, palette), light_layer(source.mesh, palette)
    layers: list[Layer] = []
    size = source.mesh.diagonal if source is not None else 1.0
    jacket = state.jacket
    shown = trial if trial is not None and display.on["trial"] else None
    mesh = shown if shown is not None else jacket.mesh if jacket is not None and jacket.visible else None
    if mesh is not None and display.on["jacket"] and mesh.n_points:
        if source is None:
            size = mesh.diagonal
        layers += jacket_layers(mesh, state if shown is None else state.with_(held=type(state.held)()), display,
                                palette, 0.008 * size, stage)  # fmt: skip
    if offenders is not None and len(offenders):
        layers.append(Layer(lines=line_rows(offenders, rgb(palette.held), 3.2), pull=0.01 * size))
    return Scene(base, light, tuple(layers), rgb(palette.form_ground)[:3])


def flat_scene(state: State, display: Display, palette: Palette, size: int) -> Scene:
    """The flat view's scene: sheet, grid, islands, seams, what is held."""
    layers = [_sheet_layer(palette)]
    jacket = state.jacket
    mesh = jacket.mesh if jacket is not None else None
    if mesh is None or mesh.uv is None or not np.isfinite(mesh.uv).any():
        return Scene(layers=tuple(layers), ground=rgb(palette.flat_ground)[:3])
    uv = mesh.uv
    topology = mesh.topology
    places = np.zeros((mesh.n_corners, 3))
    places[:, :2] = np.nan_to_num(uv)
    mapped = np.ones(mesh.n_faces, bool)
    mapped[mesh.face_of_corner[~np.isfinite(uv).all(axis=1)]] = False
    if display.on["stretch"]:
        colours = face_colours(mesh, state, display, palette)
    else:
        tints = np.array([rgb(t) for t in ISLAND_TINTS])
        colours = tints[islands_of(mesh).labels % len(tints)].copy()
    colours[:, 3] = 0.82
    fill = fill_rows(mesh, colours, places, mapped)
    wire = rgb(palette.wire, 0.4)
    layers.append(Layer(fill, lit=False, checker=16.0 if display.on["checker"] else 0.0, wire=wire))
    outline = islands_of(mesh).border_corners
    outline = outline[mapped[mesh.face_of_corner[outline]]]
    layers += stitch_layers(np.stack([uv[outline], uv[topology.next[outline]]], axis=1), palette, 0.0)
    layers += _held_flat(mesh, uv, places, mapped, state, palette)
    return Scene(layers=tuple(layers), ground=rgb(palette.flat_ground)[:3])


def _held_flat(mesh: PolyMesh, uv: Floats, places: Floats, mapped: Any, state: State, palette: Palette) -> list[Layer]:
    held = state.held
    topology = mesh.topology
    if len(held) == 0:
        return []
    if held.kind == "edges" and held.ids.max() < topology.n_edges:
        c = np.flatnonzero(np.isin(topology.edge, held.ids) & mapped[mesh.face_of_corner])
        segments = np.stack([uv[c], uv[topology.next[c]]], axis=1)
        return [Layer(lines=line_rows(segments, rgb(palette.held), 3.4))]
    if held.kind == "faces" and held.ids.max() < mesh.n_faces:
        keep = np.zeros(mesh.n_faces, bool)
        keep[held.ids] = True
        return [Layer(fill_rows(mesh, np.array(rgb(palette.held, 0.34)), places, keep & mapped), lit=False)]
    return []


def _sheet_layer(palette: Palette) -> Layer:
    corner = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 0, 0], [1, 1, 0], [0, 1, 0]], float)
    fill = np.zeros((6, FILL_WIDTH), np.float32)
    fill[:, :3] = corner
    fill[:, 5] = 1
    fill[:, 6:10] = rgb(palette.sheet)
    fill[:, 10:12] = -1e6
    steps = np.linspace(0, 1, 9)
    grid = np.concatenate([
        np.stack([np.stack([steps, 0 * steps], 1), np.stack([steps, 0 * steps + 1], 1)], axis=1),
        np.stack([np.stack([0 * steps, steps], 1), np.stack([0 * steps + 1, steps], 1)], axis=1),
    ])  # fmt: skip
    lines = line_rows(grid, rgb(palette.grid, 0.7), 1.0)
    lines[[0, 8, 9, 17], 10] = 1.6
    return Layer(fill, lines, lit=False)
