"""Keeps the two views true: scenes are made anew when what they follow from changes, and only then."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from typing import Any

from PySide6.QtCore import QObject, QTimer

from jacket.commands.beside import is_large
from jacket.core.derive import pickable
from jacket.formats.deliver.laid import decal_stamps
from jacket.formats.deliver.own import own_stamps
from jacket.program import Program
from jacket.qt.scene.form import Kept, Shown, compared, form_scene, without_jacket
from jacket.qt.scene.lit import sheet_skins
from jacket.qt.scene.seams import zoom_step
from jacket.qt.scene.sheet import held_flat_layers, sharing, sheet_layers, too_near
from jacket.qt.theme import DAY, Palette, rgb
from jacket.qt.turns import Turns
from jacket.qt.views.flat_view import FlatView
from jacket.qt.views.form_view import FormView
from jacket.render.scene import Scene
from jacket.stages.deliver.values import DeliverValues
from jacket.stages.deliver.wearing import state_has_decals, whole_look
from jacket.stages.layout.values import LayoutValues
from jacket.stages.source.commands import has_moves


class Showing(QObject):
    """Scenes, marks, chips and names of both views."""

    def __init__(self, program: Program, form: FormView, flat: FlatView, turns: Turns, parent: QObject) -> None:
        super().__init__(parent)
        self.program, self.form, self.flat, self.turns = program, form, flat, turns
        self.palette: Palette = DAY
        self._flat_key: Any = None
        self._kept = Kept()
        self._flat_held: Any = None
        self._zooms = (0, 0)
        # Stitches are as wide as islands are on the screen: a nearer view wants them anew, once it stands still.
        self._nearer = QTimer(self, interval=120, singleShot=True)
        self._nearer.timeout.connect(self._zoomed)
        form.camera_changed.connect(self._nearer.start)
        flat.camera_changed.connect(self._nearer.start)
        form.ghost_changed.connect(self._light_moved)
        # What a drag leaves behind follows between events, each step painted before the next.
        for view in (form, flat):
            view.lagged.connect(partial(turns.put, "drag", view.move_again))
        # Pictures of one's own are painted in other programs: what they save is seen here soon.
        self._stamps: object = ()
        self._painted = QTimer(self, interval=1000)
        self._painted.timeout.connect(self._look_for_painting)
        self._painted.start()
        self._light = (0.0, 1.0)

    def ready(self) -> bool:
        """Whether everything visible can be picked without making the window wait."""
        return all(pickable(s.mesh) for s in self.program.document.state.sources if s.visible)

    def redraw(self) -> None:
        """Make both scenes anew where they changed: at once, or, where there is much to draw, each in a turn of the event loop of
        its own, that of the view that is worked in first; during a gesture that one at once, since it has to follow the pointer."""
        views = {"form": self._redraw_form, "flat": self.redraw_flat}
        self.turns.drop(*views)
        if not is_large(self.program.document.state):
            self._redraw_form()
            self.redraw_flat()
            return
        order = ["form", "flat"]
        if self.flat.underMouse() or self.flat.dragged:
            order.reverse()
        if self.program.document.in_gesture:
            views[order.pop(0)]()
        for name in order:
            self.turns.put(name, views[name])

    def _redraw_form(self) -> None:
        program, form = self.program, self.form
        state, display, stage = program.document.state, program.display, program.stage.id
        trial = state.trial.mesh if state.trial is not None and stage == "topology" else None
        other, names = compared(state) if trial is not None and display.split else (None, None)
        if program.strokes is not None and stage == "topology":
            display = without_jacket(display)
        shown = Shown(trial, program.lit, program.proposal, program.strokes, other, program.baked,
                      program.tool_settings.lamp_turn, program.tool_settings.wipe, program.values(DeliverValues).cage,
                      program.document.in_gesture)
        form.show_scene(form_scene(state, display, self.palette, stage, shown, form.per_unit, self._kept))
        lit = display.lit and stage == "deliver"
        form.apart = form.scene.apart
        form.wipe = program.tool_settings.wipe if lit and state.source is not None and not form.apart else 1.0
        form.halves = names if display.jacket and display.trial else None
        form.mark_poles = (display.poles and display.jacket and stage == "topology" and trial is None
                           and program.strokes is None and not display.smooth)  # fmt: skip
        form.show_nodes = stage == "deliver"
        # What a game shows has no wires; what chips would switch there is put away.
        plain = () if has_moves(state) else ("moved",)
        poles = () if stage == "topology" else ("poles",)
        form.show_chips(program.display, ("source", "jacket", "wire", "islands", "through", "poles", "gap", "moved") if lit else
                        (*plain, *poles) if stage == "deliver" else (*plain, *poles, "lit", "cage"))  # fmt: skip
        form.overlay.update()

    def redraw_flat(self) -> None:
        """Make the flat scene anew where it changed; while something is packed its best layout so far."""
        program, flat = self.program, self.flat
        state, display = program.document.state, program.display
        if program.packing is not None and program.packing.uvs:
            state = program.packing.shown(state)
            flat.shown = state
        elif flat.shown is not None:
            flat.shown = None
            flat.overlay.update()
        mesh = state.jacket.mesh if state.jacket is not None else None
        # What the sheet shows hangs on faces, UVs and cuts, and on places only through the stretch: moving points leaves it.
        grounds: tuple[Any, ...] = ()
        if mesh is not None and mesh.uv_sets:
            grounds = (mesh.aspect("faces"), mesh.aspect("corner_data"), mesh.aspect("cuts"), state.jacket.islands if state.jacket else ())
            grounds += (mesh.aspect("points"),) if display.colouring.value == "stretch" else ()
        zoom = zoom_step(flat.camera.scale)
        hems = display.hems and program.stage.id == "layout" and mesh is not None and mesh.uv is not None
        together = program.stage.id == "layout" and program.values(LayoutValues).together
        beside = sharing(state) if together else []
        # A layout that is being packed keeps its margins, or it would not be shown: nothing has to be looked for.
        packing = flat.shown is not None
        near = (() if packing else tuple(too_near(mesh, state))) if hems and mesh is not None else None
        key: tuple[Any, ...] = (grounds, self.palette, display.colouring, display.checker, display.squares, (display.board, display.board_picture, display.board_share, display.board_light), display.stretch_by, display.threads, display.hems, display.alone, display.strokes, state.sheets, state.active_sheet, (state.guides, state.source),
               zoom, state.held if display.alone else None, near, tuple((m.aspect("faces"), m.aspect("uv")) for m in beside))  # fmt: skip
        base = self._kept.layers("sheets", key, lambda: sheet_layers(state, display, self.palette, flat.camera.scale, near, beside))
        on_map = program.stage.id == "deliver" and display.lit and (program.baked is not None or state_has_decals(state))
        hasty = program.document.in_gesture
        worn = whole_look(program.baked, state, hasty) if on_map else None
        skins = sheet_skins(state, program.baked, display, hasty) if on_map else []
        key = (*key, worn, (display.map, display.mip) if on_map else "")
        if skins:
            base = [replace(x, fill=x.fill[:0]) for x in base]
        if key != self._flat_key or state.held is not self._flat_held:
            self._flat_key, self._flat_held = key, state.held
            layers = (*base, *held_flat_layers(state, self.palette))
            flat.show_scene(Scene(layers=layers, ground=rgb(self.palette.flat_ground)[:3], skins=tuple(skins), mip=display.mip))
            flat.overlay.update()
        flat.beside = beside
        if flat.show_gauges != (program.stage.id == "layout"):
            flat.show_gauges = program.stage.id == "layout"
            flat.overlay.update()
        if flat.show_names != display.names:
            flat.show_names = display.names
            flat.overlay.update()
        flat.show_chips(display)

    def _light_moved(self) -> None:
        """Look has turned the light or moved the wipe."""
        now = (self.program.tool_settings.lamp_turn, self.program.tool_settings.wipe)
        if now != self._light:
            self._light = now
            self._redraw_form()

    def _look_for_painting(self) -> None:
        """Show pictures of one's own, and those of decals, anew when they changed on disk."""
        program = self.program
        if program.stage.id != "deliver" or not program.display.lit:
            return
        stamps = [(own_stamps(dict(j.pictures)), decal_stamps(j.decals)) for j in program.document.state.jackets
                  if j.visible and (j.pictures or j.decals)]  # fmt: skip
        if stamps != self._stamps:
            self._stamps = stamps
            self.redraw()

    def _zoomed(self) -> None:
        zooms = (zoom_step(self.form.per_unit), zoom_step(self.flat.camera.scale))
        if zooms != self._zooms:
            self._zooms = zooms
            self.redraw()
