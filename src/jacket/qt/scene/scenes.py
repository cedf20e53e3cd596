"""From the document to scenes: what is drawn in the two views, in which colours."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any
from weakref import WeakKeyDictionary

import numpy as np
from numpy.typing import NDArray

from jacket.core.derive import (
    HEAVY,
    form_of,
    gap_of,
    islands_of,
    light_of,
    pickable,
    stretch_of,
    surface_of,
)
from jacket.core.mesh.geometry import point_normals
from jacket.core.mesh.lifted import lifted_points
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.smooth import WEIGHT, smoothed
from jacket.core.quads.figures import irregular_points
from jacket.core.quads.steering import Guide, guide_curve
from jacket.core.source.mend import triangles_of
from jacket.core.source.symmetry import Plane
from jacket.core.store import STORE, Grounds
from jacket.document.state import State
from jacket.progress import Progress, silent
from jacket.qt.theme import ISLAND_TINTS, Palette, rgb
from jacket.render.scene import FILL_WIDTH, Layer, Scene, dot_rows, fill_rows, line_rows
from jacket.render.surfaces import Look, Surface, surface_of_mesh
from jacket.stages.source.mending import Proposal
from jacket.stages.topology.tools.steer import PAINTED

Floats = NDArray[np.float64]


@dataclass
class Display:
    """What the display chips switch."""

    on: dict[str, bool] = field(default_factory=lambda: {
        "source": True, "jacket": True, "wire": True, "gap": False, "poles": True, "seams": True, "islands": False,
        "checker": False, "stretch": False, "names": True, "night": False, "trial": True, "moved": False, "through": False, "backs": True,
        "solid": True, "lifted": True, "uncovered": False, "edge of sight": False,
        "split": False,
    })  # fmt: skip
    shade: str = "smooth"
    cut_axis: str = ""
    cut_share: float = 0.5
    heat: Heat | None = None
    push: float = 0.0
    """How far jackets are drawn pushed out, in % of the source's diagonal."""
    smooth: int = 0
    """Rounds of the smoothed preview."""

    def key(self) -> tuple[tuple[str, bool], ...]:
        """For caching."""
        return tuple(sorted(self.on.items()))


@dataclass(frozen=True, eq=False)
class Heat:
    """Values (V,) over the points of one source, and the value shown in full colour."""

    mesh: PolyMesh
    values: Floats
    reach: float
    plane: Plane | None = None


LIGHTS = (40_000, 600_000)
"""Triangles of the copies drawn while the view moves: the first under software rendering, the others where the
measured rate of a graphics card allows it."""


def drawing_of(mesh: PolyMesh) -> Grounds:
    """What the look of a source stands on."""
    return (*form_of(mesh), mesh.aspect("point_data"), mesh.aspect("face_data"), mesh.aspect("corner_data"))


def pushed(mesh: PolyMesh, out: float) -> PolyMesh:
    """A mesh pushed out along its normals, for drawing only."""
    new = mesh.detached()
    return new.with_points(new.points + out * point_normals(mesh))


def drawn_source(mesh: PolyMesh) -> Surface:
    """A source as it is drawn when the view stands still."""
    return STORE.get(drawing_of(mesh), "drawn", lambda: surface_of_mesh(mesh))


def drawn_light(mesh: PolyMesh, wanted: int) -> Surface:
    """A light copy as it is drawn in motion."""

    def make() -> Surface:
        light, _ = light_of(mesh, wanted)
        return drawn_source(mesh) if len(light.corners) == len(mesh.corners) else surface_of_mesh(light)

    return STORE.get(drawing_of(mesh), ("drawn light", wanted), make)


def is_shown(mesh: PolyMesh) -> bool:
    """Whether at least the light copy of a source can be drawn at once."""
    return mesh.n_faces < HEAVY or STORE.peek(drawing_of(mesh), ("drawn light", LIGHTS[0])) is not None


def is_drawable(mesh: PolyMesh) -> bool:
    """Whether a source can be drawn as it is."""
    return mesh.n_faces < HEAVY or (STORE.peek(drawing_of(mesh), "drawn") is not None and is_shown(mesh))


def is_whole(mesh: PolyMesh) -> bool:
    """Whether a source can be drawn and picked as it is."""
    return is_drawable(mesh) and pickable(mesh)


def prepare_light(mesh: PolyMesh) -> None:
    """Derive what the first picture of a source needs; for the background."""
    assert mesh.diagonal >= 0 and mesh.is_triangles in (True, False)  # both are kept by the mesh
    drawn_light(mesh, LIGHTS[0])


def prepare_drawing(mesh: PolyMesh, software: bool, progress: Progress = silent) -> None:
    """Derive everything that drawing and picking a source need; for the background."""
    progress(0.0, "making a light copy")
    prepare_light(mesh)
    if not software:
        drawn_light(mesh, LIGHTS[1])
    progress(0.25, "making ready to draw")
    drawn_source(mesh)
    progress(0.5, "making ready to pick")
    surface_of(mesh)
    progress(1.0, "ready")


def heat_tints(values: Floats, reach: float, palette: Palette) -> Any:
    """(V, 4) bytes: paper over saffron to the accent."""
    t = np.clip(np.nan_to_num(values) / max(reach, 1e-12), 0, 1)[:, None]
    a, m, b = (np.array(rgb(c)) for c in (palette.paper, palette.look, palette.accent))
    out = np.where(t < 0.5, a + (m - a) * 2 * t, m + (b - m) * (2 * t - 1))
    return np.rint(out * 255).astype(np.uint8)


def heated(mesh: PolyMesh, heat: Heat, palette: Palette) -> tuple[Surface, Surface]:
    """A source and its light copy in heat colours."""

    def make() -> tuple[Surface, Surface]:
        tints = heat_tints(heat.values, heat.reach, palette)
        full = surface_of_mesh(mesh.with_(point_data={"colour": tints}, materials=(), face_data={}))
        light, to = light_of(mesh, LIGHTS[0])
        if light.n_faces == mesh.n_faces:
            return full, full
        count = np.maximum(np.bincount(to, minlength=light.n_points), 1)
        mean = np.bincount(to, heat.values, light.n_points) / count
        warm = light.with_(point_data={"colour": heat_tints(mean, heat.reach, palette)})
        return full, surface_of_mesh(warm)

    return STORE.get((*form_of(mesh), heat), ("heat", palette.paper), make)


def source_surfaces(
    state: State, display: Display, palette: Palette
) -> tuple[list[Surface], list[list[Surface]], Look]:
    """All visible sources, the tiers of their light copies, and how they are drawn."""
    base: list[Surface] = []
    tiers: list[list[Surface]] = [[] for _ in LIGHTS]
    warm = False
    for source in state.sources:
        mesh = source.mesh
        if not source.visible or mesh.n_faces == 0 or not is_shown(mesh):
            continue
        heat = display.heat
        if heat is not None and heat.mesh is mesh:
            full, light = heated(mesh, heat, palette)
            base.append(full)
            for tier in tiers:
                tier.append(light)
            warm = True
            continue
        base.append(drawn_source(mesh) if is_drawable(mesh) else drawn_light(mesh, LIGHTS[0]))
        for tier, wanted in zip(tiers, LIGHTS, strict=True):
            lighter = wanted if STORE.peek(drawing_of(mesh), ("drawn light", wanted)) is not None or wanted == LIGHTS[0] else LIGHTS[0]
            tier.append(drawn_light(mesh, lighter))
    look = Look("heat" if warm else display.shade, rgb(palette.source)[:3], cut_plane(state, display))
    return base, tiers, look


def cut_plane(state: State, display: Display) -> tuple[float, float, float, float]:
    """The plane beyond which sources are cut away; all nought for none."""
    source = state.chosen_source
    if not display.cut_axis or source is None or source.mesh.n_points == 0:
        return (0.0, 0.0, 0.0, 0.0)
    axis = "xyz".index(display.cut_axis)
    low, high = STORE.get((source.mesh.aspect("points"),), "box", lambda: (source.mesh.points.min(axis=0), source.mesh.points.max(axis=0)))
    normal = [0.0, 0.0, 0.0]
    normal[axis] = 1.0
    return (*normal, float(low[axis] + display.cut_share * (high[axis] - low[axis])))  # type: ignore[return-value]


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
        return heat(stretch_of(mesh, state.sheets), palette.squeezed, palette.paper, palette.stretched, 1.0)
    if display.on["gap"] and state.source is not None and mesh.n_faces:
        gaps = gap_of(mesh, state.source.mesh)
        worst = np.zeros(mesh.n_faces)
        np.maximum.at(worst, mesh.face_of_corner, gaps[mesh.corners])
        return heat(worst, palette.paper, palette.paper, palette.accent, 0.6)
    if display.on["moved"] and "moved" in mesh.point_data and mesh.n_faces:
        far = np.zeros(mesh.n_faces)
        np.maximum.at(far, mesh.face_of_corner, np.asarray(mesh.point_data["moved"], float)[mesh.corners])
        return heat(far, palette.paper, palette.paper, palette.accent, max(float(far.max()), 0.05))
    if display.on["islands"]:
        tints = np.array([rgb(t) for t in ISLAND_TINTS])
        return tints[islands_of(mesh, state.sheets).labels % len(tints)]
    out = np.tile(np.array(rgb(palette.jacket)), (mesh.n_faces, 1))
    out[mesh.sizes == 3] = rgb("#5f9ea6")
    out[mesh.sizes > 4] = rgb("#a583ad")
    return out


def drawn_jacket(mesh: PolyMesh, size: float, display: Display) -> tuple[PolyMesh, Floats | None]:
    """The jacket as it is drawn: smoothed and pushed out where that is wanted, and the lines (S, 2, 3) that stand for
    its edges on the smoothed one."""
    lines = None
    if display.smooth and mesh.n_faces:
        smooth = STORE.get((*form_of(mesh), mesh.aspect("marks")), ("smooth", display.smooth), lambda: smoothed(mesh, display.smooth))
        mesh, lines = smooth.mesh, smooth.lines
    if display.push and mesh.n_faces:
        out, whole = 0.01 * display.push * size, mesh
        mesh = STORE.get(form_of(whole), ("pushed", out), lambda: pushed(whole, out))
    return mesh, (mesh.points[lines] if lines is not None else None)


def jacket_layers(
    mesh: PolyMesh, state: State, display: Display, palette: Palette, pull: float, stage: str
) -> list[Layer]:
    """The jacket's faces, wires, seams, poles, lifted and loose points and what is held."""
    size = state.source.mesh.diagonal if state.source is not None else mesh.diagonal
    drawn, smooth_lines = drawn_jacket(mesh, size, display)
    shown, topology = mesh if smooth_lines is not None else drawn, mesh.topology
    colours = face_colours(mesh, state, display, palette)
    if smooth_lines is not None:
        # Every corner of a face grew into a quad, and those four times over in each further round.
        colours = np.repeat(colours[mesh.face_of_corner], 4 ** (display.smooth - 1), axis=0)
    through = display.on["through"]
    colours[:, 3] *= 0.5 if through else 1.0
    checker = 16.0 if display.on["checker"] else 0.0
    solid = display.on["solid"] and drawn.n_faces > 0
    wanted = display.on["wire"] and smooth_lines is None
    if not solid:
        colours[:, 3] = 0.0
    fill = fill_rows(drawn, colours) if drawn.n_faces else np.zeros((0, FILL_WIDTH), np.float32)
    dots = [_loose_dots(shown, palette)]
    if display.on["poles"] and stage == "topology":
        dots.append(_pole_dots(shown, palette))
    if display.on["lifted"]:
        dots.append(dot_rows(shown.points[lifted_points(mesh)], rgb(palette.look), 6.0))
    strength = 0.4 if display.on["checker"] or display.on["stretch"] else 0.85
    wire = rgb(palette.wire, strength) if wanted else (0.0, 0.0, 0.0, 0.0)
    border = shown.points[topology.edge_points[topology.edge_uses == 1]]
    lines = line_rows(border, rgb(palette.wire), 2.0)
    # Behind a source the far side cannot be seen, and drawing it would cost as much as the near one.
    shut = not through and state.source is not None and state.source.visible and display.on["source"]
    shut = shut or not display.on["backs"]
    layers = [Layer(fill, lines, np.concatenate(dots), pull, checker=checker, wire=wire, shut=shut)]
    if smooth_lines is not None and display.on["wire"]:
        layers.append(Layer(lines=line_rows(smooth_lines, rgb(palette.wire, strength), 1.3), pull=pull * 1.1))
    if display.on["seams"]:
        layers += stitch_layers(shown.points[mesh.cuts], palette, pull * 1.3)
    if stage == "topology":
        layers += sharp_layers(shown, mesh, palette, pull * 1.2)
    layers += held_layers(shown, state, palette, pull * 1.6)
    return layers


def sharp_layers(shown: PolyMesh, mesh: PolyMesh, palette: Palette, pull: float) -> list[Layer]:
    """Edges marked sharp as heavy lines, thinner for less weight."""
    out = []
    for name in mesh.marks:
        if name == "sharp" or name.startswith(WEIGHT):
            width = 3.4 if name == "sharp" else 1.6 + 0.18 * min(float(name[len(WEIGHT) :]), 10.0)
            out.append(Layer(lines=line_rows(shown.points[mesh.mark(name)], rgb(palette.ink), width), pull=pull))
    return out


def resting_layers(mesh: PolyMesh, state: State, display: Display, palette: Palette, pull: float) -> list[Layer]:
    """A layer that is not worked on: paler, with thin wires."""
    drawn, lines = drawn_jacket(
        mesh, state.source.mesh.diagonal if state.source is not None else mesh.diagonal, display
    )
    colour = np.array(rgb(palette.paper, 0.35 if display.on["through"] else 0.8))
    fill = fill_rows(drawn, colour) if drawn.n_faces else np.zeros((0, FILL_WIDTH), np.float32)
    wire = rgb(palette.wire, 0.35) if display.on["wire"] and lines is None else (0.0, 0.0, 0.0, 0.0)
    shut = not display.on["through"] and state.source is not None and state.source.visible and display.on["source"]
    return [Layer(fill, pull=0.9 * pull, wire=wire, shut=shut)]


def _loose_dots(mesh: PolyMesh, palette: Palette) -> Any:
    loose = np.bincount(mesh.corners, minlength=mesh.n_points) == 0
    points = mesh.points[loose]
    return np.concatenate([dot_rows(points, rgb(palette.ink), 8.0), dot_rows(points, rgb(palette.look), 5.0)])


def _pole_dots(mesh: PolyMesh, palette: Palette) -> Any:
    return dot_rows(mesh.points[irregular_points(mesh)], rgb(palette.ink), 6.0)


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
    out = []
    colour = rgb(palette.held)
    for held in state.held.parts:
        most = {"points": mesh.n_points, "edges": mesh.topology.n_edges, "faces": mesh.n_faces}[held.kind]
        if held.ids.max() >= most:
            continue
        if held.kind == "points":
            out.append(Layer(dots=dot_rows(mesh.points[held.ids], colour, 9.0), pull=pull))
        elif held.kind == "edges":
            ends = mesh.points[mesh.topology.edge_points[held.ids]]
            out.append(Layer(lines=line_rows(ends, colour, 3.6), pull=pull))
        else:
            keep = np.zeros(mesh.n_faces, bool)
            keep[held.ids] = True
            out.append(Layer(fill_rows(mesh, np.array(rgb(palette.held, 0.34)), faces=keep), pull=pull, lit=False))
    return out


def form_scene(
    state: State,
    display: Display,
    palette: Palette,
    stage: str,
    trial: PolyMesh | None,
    offenders: Floats | None,
    proposal: Proposal | None = None,
    strokes: Floats | None = None,
    other: PolyMesh | None = None,
) -> Scene:
    """The form view's scene; `strokes` (S, 2, 3) of a field that is being made, `other` a mesh to compare with the one
    that is shown, in the right half."""
    source = state.source
    base: list[Surface] = []
    tiers: list[list[Surface]] = []
    look = Look()
    if display.on["source"]:
        base, tiers, look = source_surfaces(state, display, palette)
    layers: list[Layer] = []
    size = source.mesh.diagonal if source is not None else 1.0
    jacket = state.jacket
    shown = trial if trial is not None and display.on["trial"] else None
    mesh = shown if shown is not None else jacket.mesh if jacket is not None and jacket.visible else None
    if display.on["jacket"] and shown is None:
        for resting in state.jackets:
            if resting.visible and jacket is not None and resting.id != jacket.id and resting.mesh.n_faces:
                layers += resting_layers(resting.mesh, state, display, palette, 0.008 * size)
    if mesh is not None and display.on["jacket"] and mesh.n_points:
        if source is None:
            size = mesh.diagonal
        layers += jacket_layers(mesh, state if shown is None else state.with_(held=type(state.held)()), display,
                                palette, 0.008 * size, stage)  # fmt: skip
    beside: list[Layer] = []
    if other is not None and display.on["jacket"] and other.n_points:
        beside = jacket_layers(other, state.with_(held=type(state.held)()), display, palette, 0.008 * size, stage)
    if strokes is not None and len(strokes):
        layers.append(Layer(lines=line_rows(strokes, rgb("#fbf9f4", 0.95), 1.6), pull=0.012 * size))
    if offenders is not None and len(offenders):
        layers.append(Layer(lines=line_rows(offenders, rgb(palette.held), 3.2), pull=0.01 * size))
    if stage == "source":
        layers += picked_layers(state, palette, 0.004 * size)
        if display.heat is not None and display.heat.plane is not None:
            layers += plane_layers(display.heat.mesh, display.heat.plane, palette)
    if stage == "topology" and source is not None and source.visible and pickable(source.mesh):
        layers += paint_layers(state, palette, 0.003 * size)
        layers += guide_layers(state, palette, 0.012 * size)
    if proposal is not None:
        layers += proposal_layers(proposal, palette, 0.006 * size)
    return Scene(
        tuple(base),
        tuple(map(tuple, tiers)),
        tuple(layers),
        tuple(beside),
        rgb(palette.form_ground)[:3],
        display.on["through"],
        look,
    )


def compared(state: State) -> tuple[PolyMesh | None, tuple[str, str] | None]:
    """What the chosen trial is compared with, side by side: the next trial, or the jacket where there is no other; and
    the names of both."""
    trial = state.trial
    if trial is None:
        return None, None
    if len(state.trials) > 1:
        at = next(k for k, t in enumerate(state.trials) if t.id == trial.id)
        other = state.trials[(at + 1) % len(state.trials)]
        return other.mesh, (trial.name, other.name)
    if state.jacket is None or state.jacket.mesh.n_faces == 0:
        return None, None
    return state.jacket.mesh, (trial.name, state.jacket.name)


_curves: WeakKeyDictionary[Guide, tuple[PolyMesh, Floats]] = WeakKeyDictionary()


def guide_layers(state: State, palette: Palette, pull: float) -> list[Layer]:
    """Guides on the source: hard ones whole, soft ones in dashes, with their points."""
    out: list[Layer] = []
    source = state.source
    if source is None:
        return out
    for guide in state.guides:
        known = _curves.get(guide)
        if known is None or known[0] is not source.mesh:
            known = (source.mesh, guide_curve(guide, surface_of(source.mesh)))
            _curves[guide] = known
        path = known[1]
        ahead = np.roll(path, -1, axis=0) if guide.closed else path[1:]
        pieces = np.stack([path[: len(ahead)], ahead], axis=1)
        out.append(Layer(lines=line_rows(pieces, rgb("#fbf9f4"), 5.0), pull=pull))
        out.append(
            Layer(lines=line_rows(pieces, rgb(palette.accent), 3.0), pull=pull * 1.1, stitch=0.0 if guide.hard else 9.0)
        )
        dots = [dot_rows(guide.points, rgb("#fbf9f4"), 8.0), dot_rows(guide.points, rgb(palette.accent), 5.5)]
        out.append(Layer(dots=np.concatenate(dots), pull=pull * 1.2))
    return out


def paint_layers(state: State, palette: Palette, pull: float) -> list[Layer]:
    """Painted density over the source: towards the accent where closer, towards moss where farther apart."""
    paint, source = state.paint, state.source
    if paint is None or source is None or not np.any(paint.values):
        return []
    light, _ = light_of(source.mesh, PAINTED)
    if light.n_points != len(paint.values):
        dots = np.abs(paint.values) > 0.05
        tint = rgb(palette.look)
        return [Layer(dots=dot_rows(paint.places[dots], tint, 4.0), pull=pull)]
    corner = light.triangle_points
    value = paint.values[corner].mean(axis=1)
    keep = np.abs(value) > 0.03
    rows = _triangle_rows(light.points[corner[keep]], rgb(palette.accent))
    dense, sparse = np.array(rgb(palette.accent)[:3]), np.array(rgb(palette.good)[:3])
    tints = np.where((value[keep] > 0)[:, None], dense, sparse)
    share = np.clip(np.abs(value[keep]) / 2.0, 0, 1)
    step = max(1, int(keep.sum()) // SHOWN_TRIANGLES)
    rows[:, 6:9] = np.repeat(tints[::step], 3, axis=0)
    rows[:, 9] = np.repeat(0.25 + 0.6 * share[::step], 3)
    return [Layer(rows, pull=pull, lit=True)]


SHOWN_TRIANGLES = 60_000
"""At most so many triangles of picked faces and proposals are drawn, so that they never cost a frame."""


def _triangle_rows(corner: Floats, colour: tuple[float, ...]) -> Any:
    """(3K, 15) rows of loose triangles (K, 3, 3)."""
    corner = corner[:: max(1, len(corner) // SHOWN_TRIANGLES)]
    out = np.zeros((3 * len(corner), FILL_WIDTH), np.float32)
    out[:, :3] = corner.reshape(-1, 3)
    normal = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
    out[:, 3:6] = np.repeat(normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300), 3, axis=0)
    out[:, 6:10] = colour
    out[:, 10:12] = -1e6
    return out


def picked_layers(state: State, palette: Palette, pull: float) -> list[Layer]:
    """Faces of the source that are picked, in magenta."""
    source, picked = state.chosen_source, state.picked.ids
    if source is None or not source.visible or len(picked) == 0 or picked.max() >= source.mesh.n_faces:
        return []
    corner = triangles_of(source.mesh, picked)
    return [Layer(_triangle_rows(corner, rgb(palette.held, 0.62)), pull=pull, lit=True)]


def proposal_layers(proposal: Proposal, palette: Palette, pull: float) -> list[Layer]:
    """What a mend would touch: what goes in the accent, what comes in moss, what it is about as light lines."""
    mend = proposal.mend
    lines = mend.lines[:: max(1, len(mend.lines) // SHOWN_TRIANGLES)]
    layers = []
    if len(mend.goes):
        layers.append(Layer(_triangle_rows(mend.goes, rgb(palette.accent, 0.8)), pull=pull))
    if len(mend.comes):
        layers.append(
            Layer(_triangle_rows(mend.comes, rgb("#8fc7a2", 1.0)), pull=0.2 * pull, wire=rgb(palette.good, 0.5))
        )
    if len(lines):
        layers.append(Layer(lines=line_rows(lines, rgb("#fbf9f4"), 2.0), pull=pull * 1.3))
    return layers


def plane_layers(mesh: PolyMesh, plane: Plane, palette: Palette) -> list[Layer]:
    """The mirror plane as a frame round the source."""
    low, high = mesh.points.min(axis=0), mesh.points.max(axis=0)
    middle = (low + high) / 2
    middle = middle - (middle @ plane.normal - plane.offset) * plane.normal
    across = np.cross(plane.normal, [0.0, 1.0, 0.0] if abs(plane.normal[1]) < 0.9 else [1.0, 0.0, 0.0])
    across /= np.linalg.norm(across)
    along = np.cross(across, plane.normal)
    half = 0.4 * mesh.diagonal
    ring = [middle + half * (a * across + b * along) for a, b in ((-1, -1), (1, -1), (1, 1), (-1, 1))]
    segments = np.array([[ring[k], ring[(k + 1) % 4]] for k in range(4)])
    return [Layer(lines=line_rows(segments, rgb(palette.look), 1.8), stitch=9.0)]


def flat_scene(state: State, display: Display, palette: Palette) -> Scene:
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
        colours = tints[islands_of(mesh, state.sheets).labels % len(tints)].copy()
    colours[:, 3] = 0.82
    fill = fill_rows(mesh, colours, places, mapped)
    wire = rgb(palette.wire, 0.4)
    layers.append(Layer(fill, lit=False, checker=16.0 if display.on["checker"] else 0.0, wire=wire))
    outline = islands_of(mesh, state.sheets).border_corners
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
