"""The form view's scene: sources, layers of the jacket or the trial that is looked at, and what lies over them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial
from typing import Any, TypeVar

from jacket.commands.display import Display
from jacket.commands.host import Proposal
from jacket.core.bake.made import Bake
from jacket.core.derive import layout_of, pickable, tried_on
from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.document.state import Held, State
from jacket.formats.deliver.laid import decal_stamps
from jacket.formats.deliver.own import own_stamps
from jacket.qt.scene.cage import cage_layers, reach_of
from jacket.qt.scene.jacket import (
    PULL,
    Frame,
    faces_follow,
    held_over,
    jacket_layers,
    resting_layers,
    seams_follow,
    seams_over,
)
from jacket.qt.scene.lit import is_handed, lamps_of, lit_skins
from jacket.qt.scene.proposal import proposal_layers
from jacket.qt.scene.seams import wish_layers, zoom_step
from jacket.qt.scene.source import picked_layers, plane_layers, source_surfaces
from jacket.qt.scene.steer import guide_layers, paint_layers
from jacket.qt.scene.strokes import form_strokes
from jacket.qt.theme import Palette, rgb
from jacket.render.scene import Layer, Scene, line_rows
from jacket.render.surfaces import Look
from jacket.stages.deliver.wearing import skin_follows

T = TypeVar("T")


@dataclass(frozen=True, eq=False)
class Shown:
    """What lies over the objects of the document: the trial that is looked at, lit segments (S, 2, 3), a proposal, strokes
    (S, 2, 3) of a field that is being made, a mesh to compare with in the right half; maps that were baked, how the
    lamps are turned how much of the view they are shown in, and
    how far the cage goes in %; whether a decal is being dragged, so that smaller maps will do."""

    trial: PolyMesh | None = None
    lit: Floats | None = None
    proposal: Proposal | None = None
    strokes: Floats | None = None
    other: PolyMesh | None = None
    baked: Bake | None = None
    lamp_turn: float = 0.0
    wipe: float = 1.0
    cage: float = 0.0
    hasty: bool = False


class Kept:
    """Layers of the last scene, used again while nothing that they follow from has changed: what is held, lit or hovered
    costs no new faces."""

    def __init__(self) -> None:
        self._known: dict[str, tuple[Any, list[Any]]] = {}

    def last(self, what: str) -> list[Any]:
        """What was last made of one kind."""
        return self._known.get(what, (None, []))[1]

    def layers(self, what: str, key: Any, make: Callable[[], list[T]]) -> list[T]:
        """The layers of one kind under a key, made where their last key was another one."""
        known = self._known.get(what)
        if known is None or key != known[0]:
            known = self._known[what] = (key, make())
        return known[1]


def form_scene(
    state: State, display: Display, palette: Palette, stage: str, shown: Shown = Shown(), per_unit: float = 300.0,
    kept: Kept | None = None,
) -> Scene:  # fmt: skip
    """Everything in the form view; `per_unit` is about how many pixels a unit has on the screen, `kept` what was drawn of
    the layer that is worked on before."""
    if display.lit and stage == "deliver":
        return _lit_scene(state, display, palette, shown, kept or Kept())
    base, tiers, look = source_surfaces(state, display, palette) if display.source else ([], [], Look())
    source, jacket = state.source, state.jacket
    trial = shown.trial if display.trial else None
    mesh = trial if trial is not None else jacket.mesh if jacket is not None and jacket.visible else None
    size = source.mesh.diagonal if source is not None else mesh.diagonal if mesh is not None else 1.0
    frame = Frame(palette, size, per_unit, stage)
    if mesh is not None and trial is None and display.tried and stage == "seams":
        mesh = tried_on(mesh, display.tried)
    bare = state.with_(held=Held())
    layers: list[Layer] = []
    if display.jacket and trial is None:
        for resting in state.jackets:
            if resting.visible and jacket is not None and resting.id != jacket.id and resting.mesh.n_faces:
                layers += resting_layers(resting.mesh, state, display, frame)
    if mesh is not None and display.jacket and mesh.n_points:
        layers += _worked_on(mesh, state, display, frame, kept or Kept())
        layers += held_over(mesh, state if trial is None else bare, display, frame)
    beside: list[Layer] = []
    if shown.other is not None and display.jacket and shown.other.n_points:
        beside = _worked_on(shown.other, state, display, frame, Kept())
    layers += _over(state, display, shown, frame)
    if display.cage and stage == "deliver":
        layers += _cage(state, palette, shown, kept or Kept(), 1.5 * PULL * size)
    return Scene(tuple(base), tuple(map(tuple, tiers)), tuple(layers), tuple(beside), rgb(palette.form_ground)[:3],
                 display.through, look)  # fmt: skip


def _cage(state: State, palette: Palette, shown: Shown, kept: Kept, pull: float) -> list[Layer]:
    """The hull of the active layer, made anew only where what it follows from changed."""
    layer = state.jacket
    if layer is None or not layer.visible or layer.mesh.n_faces == 0:
        return []
    reach = reach_of(layer, state, shown.baked, shown.cage)
    if reach is None:
        return []
    key = (skin_follows(layer.mesh), layer.mesh.aspect("point_data"), shown.baked, reach, palette, pull)
    return kept.layers("cage", key, lambda: cage_layers(layer.mesh, reach, shown.baked, palette, pull))


def _lit_scene(state: State, display: Display, palette: Palette, shown: Shown, kept: Kept) -> Scene:
    """The layers as a game shows them, and beside the wipe the dense source in the same light."""
    lamps = lamps_of(display, shown.lamp_turn)
    # Turning the light or moving the wipe costs no new skins and no new hull.
    key = (tuple((j.id, skin_follows(j.mesh), own_stamps(dict(j.pictures)), decal_stamps(j.decals)) for j in state.looked_at), state.sheets, shown.baked, display.map,
           shown.hasty and any(j.decals for j in state.looked_at), tuple(is_handed(j.mesh) for j in state.looked_at))  # fmt: skip
    # Until a large layer is made ready beside the window, what was last shown of it stays.
    skins = kept.layers("skins", key, lambda: lit_skins(state, shown.baked, display, shown.hasty)) if all(key[-1]) or not kept.last("skins") else kept.last("skins")
    base: list[Any] = []
    tiers: list[Any] = []
    if shown.wipe < 1.0 or display.apart or not skins:
        base, tiers, _ = source_surfaces(state, replace(display, shade="smooth", heat=None), palette)
    look = Look("lamps", (0.52, 0.5, 0.47), lamps=lamps)
    layers = _cage(state, palette, shown, kept, 0.0) if display.cage else []
    return Scene(tuple(base), tuple(map(tuple, tiers)), tuple(layers), (), rgb(palette.form_ground)[:3], False, look, tuple(skins), lamps, shown.wipe,
                 display.apart and bool(base), display.mip)  # fmt: skip


def _worked_on(mesh: PolyMesh, state: State, display: Display, frame: Frame, kept: Kept) -> list[Layer]:
    """Faces and seams of the layer that is worked on, each made anew only where what it follows from changed."""
    plain = replace(display, heat=None, cut_share=0.0)
    key = (faces_follow(mesh, state, display), plain, frame.palette, frame.stage, frame.size)
    layers = list(kept.layers("faces", key, partial(jacket_layers, mesh, state, display, frame)))
    if display.seams and mesh.uv_sets:
        other = (seams_follow(mesh, state), plain, frame.palette, zoom_step(frame.per_unit), frame.size)
        layers += kept.layers("seams", other, partial(seams_over, mesh, state, display, frame))
    if display.strokes and mesh.uv is not None:
        along = (layout_of(mesh), state.sheets, state.active_sheet, frame.palette, frame.size)
        layers += kept.layers("stretch", along, lambda: form_strokes(mesh, state, frame.palette, 1.4 * PULL * frame.size))
    return layers


def _over(state: State, display: Display, shown: Shown, frame: Frame) -> list[Layer]:
    palette, size, layers = frame.palette, frame.size, list[Layer]()
    source = state.source
    if shown.strokes is not None and len(shown.strokes):
        layers.append(Layer(lines=line_rows(shown.strokes, rgb("#fbf9f4", 0.95), 1.6), pull=0.012 * size))
    if shown.lit is not None and len(shown.lit):
        layers.append(Layer(lines=line_rows(shown.lit, rgb(palette.held), 3.2), pull=0.01 * size))
    if frame.stage == "source":
        layers += picked_layers(state, palette, 0.004 * size)
        if display.heat is not None and display.heat.plane is not None:
            layers += plane_layers(display.heat.mesh, display.heat.plane, palette)
    jacket = state.jacket
    if frame.stage == "seams" and jacket is not None and jacket.visible and display.jacket:
        layers += wish_layers(jacket.mesh, palette, PULL * size)
    if frame.stage == "topology" and source is not None and source.visible and pickable(source.mesh):
        layers += paint_layers(state, palette, 0.003 * size)
        layers += guide_layers(state, palette, 0.012 * size)
    if shown.proposal is not None:
        layers += proposal_layers(shown.proposal, palette, 0.006 * size)
    return layers


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


def without_jacket(display: Display) -> Display:
    """The same without the jacket: while a field is shown, what lies over the source would hide it."""
    return replace(display, jacket=False)
