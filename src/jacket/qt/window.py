"""The window: composition root of views, cards, strips, tools and commands."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QPoint, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QCloseEvent, QKeyEvent, QKeySequence, QShortcut
from PySide6.QtWidgets import (
    QApplication,
    QHBoxLayout,
    QInputDialog,
    QMainWindow,
    QMenu,
    QSplitter,
    QVBoxLayout,
    QWidget,
)

from jacket.core.derive import HEAVY, mirror_difference, pickable, uncovered_values
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.source.symmetry import Plane, axis_plane
from jacket.document.document import Document
from jacket.document.edits import layers
from jacket.document.edits import sheets as sheets_steps
from jacket.document.edits import sources as sources_steps
from jacket.document.edits import trials as trials_steps
from jacket.document.edits import view as view_steps
from jacket.document.state import SourceObject
from jacket.errors import JacketError
from jacket.progress import Progress
from jacket.qt.cards.panel import Panel
from jacket.qt.cards.source import fill_lengths
from jacket.qt.checking import Checking
from jacket.qt.files.filing import Filing
from jacket.qt.files.keeping import Keeper
from jacket.qt.files.watching import Watching
from jacket.qt.rail import Rail
from jacket.qt.scene.scenes import (
    LIGHTS,
    Display,
    Heat,
    compared,
    drawn_light,
    flat_scene,
    form_scene,
    is_shown,
    is_whole,
    prepare_drawing,
)
from jacket.qt.search import Search
from jacket.qt.strip import Strip
from jacket.qt.theme import DAY, NIGHT, style_sheet
from jacket.qt.tickets import TopBar
from jacket.qt.views.flat_view import FlatView
from jacket.qt.views.form_view import FormView
from jacket.qt.work import Worker
from jacket.settings import Settings, save_settings
from jacket.stages.commands import Command, build_commands, has_moves, project_name, search
from jacket.stages.source.mending import SOURCE_VALUES, Proposal
from jacket.stages.toolbox import STAGE_TOOLS
from jacket.stages.topology.hand_commands import HAND_VALUES, forget_choice, hold_choice
from jacket.stages.topology.tools.moving import Move
from jacket.stages.topology.tools.tidying import TIDYINGS, Tidy
from jacket.tools.base import Tool, ToolSettings
from jacket.tools.events import Ghost

VIEW_HINT = "Right-drag turns · middle-drag shifts · wheel nears · right-click for what fits here"


class Window(QMainWindow):
    """Everything a user sees; also the host that commands run against."""

    field_seen = Signal(object)

    def __init__(self, document: Document, settings: Settings) -> None:
        super().__init__()
        self.document, self.settings = document, settings
        sheet = document.state.sheet
        self.values: dict[str, Any] = {
            "quads": settings.quads, "sharp": settings.sharp, "angle": 60.0, "size": sheet.width,
            "margin": sheet.margin, "turn": "free", "profile": "y-up-metres", "shown_unit": "u", **SOURCE_VALUES, **HAND_VALUES,
        }  # fmt: skip
        self.commands = build_commands()
        self.display = Display()
        self.display.on["night"] = settings.night
        self.stage = "topology"
        self.tool_settings = ToolSettings(settings.reach, settings.brush, settings.strength)
        self.tools: dict[str, Tool] = {
            t.id: t(document, self.tool_settings) for row in STAGE_TOOLS.values() for t in row
        }
        self.chosen = {stage: row[0].id for stage, row in STAGE_TOOLS.items()}
        self.strokes: Any = None
        self.field_seen.connect(self._show_strokes)
        self.worker, self.warmer, self.preparer, self.looker = Worker(self), Worker(self), Worker(self), Worker(self)
        self._uncovered_timer = QTimer(self, interval=250, singleShot=True)
        self._uncovered_timer.timeout.connect(self._look_for_uncovered)
        self.proposal: Proposal | None = None
        self.mirror_plane: Plane | None = None
        self.keeper = Keeper(document)
        self.filing = Filing(self)
        self.checking = Checking(self)
        self.offenders: Any = None
        self._hint_until = 0.0
        self._flat_key: Any = None
        self._flat_parts: Any = ()
        self._build()
        self._connect()
        self._recolour()
        self.show_stage(self.stage)
        self._after_change({"sources", "jackets", "trials", "sheets", "path"})
        self.watching = Watching(self)
        self.watching.follow()
        self._show_hint()

    # ---- building -------------------------------------------------------------------------------
    def _build(self) -> None:
        self.setWindowTitle("Jacket")
        self.resize(QSize(1280, 800))
        self.setMinimumSize(QSize(980, 620))
        self.setAcceptDrops(True)
        self.top, self.rail, self.strip = TopBar(), Rail(), Strip()
        self.form, self.flat = FormView(self.document), FlatView(self.document)
        self.panel = Panel(self.document, self.commands, self.values, self.settings)
        self.panel.display = self.display
        self.splitter = QSplitter()
        self.splitter.addWidget(self.form)
        self.splitter.addWidget(self.flat)
        self.splitter.setHandleWidth(3)
        self.splitter.setSizes([559, 404])
        middle = QHBoxLayout()
        middle.setSpacing(0)
        for widget, stretch in ((self.rail, 0), (self.splitter, 1), (self.panel, 0)):
            middle.addWidget(widget, stretch)
        body = QWidget()
        body.setObjectName("panel")
        column = QVBoxLayout(body)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.top)
        column.addLayout(middle, 1)
        column.addWidget(self.strip)
        self.setCentralWidget(body)

    def _connect(self) -> None:
        self.document.listen(self._after_change)
        self.top.stage_wanted.connect(self.show_stage)
        self.top.search_wanted.connect(self.open_search)
        self.rail.tool_wanted.connect(self.take_tool)
        self.panel.command_wanted.connect(lambda c: self.run(self.commands[c]))
        self.panel.value_changed.connect(self._set_value)
        self.panel.visible_wanted.connect(partial(view_steps.set_visible, self.document))
        self.panel.source_wanted.connect(partial(sources_steps.choose_source, self.document))
        self.panel.object_menu_wanted.connect(self._object_menu)
        self.panel.look_changed.connect(self.set_look)
        self.panel.gauge_wanted.connect(self._scale_measured)
        self.panel.new_file_left.connect(self.watching_leave)
        self.panel.option_changed.connect(self._option_changed)
        self.panel.preview_wanted.connect(self._preview)
        self.panel.choice_wanted.connect(self._choice)
        self.panel.typed_wanted.connect(self._typed)
        self.panel.trial_wanted.connect(partial(trials_steps.choose_trial, self.document))
        self.panel.layer_wanted.connect(lambda i: layers.choose_layer(self.document, i))
        self.strip.check_clicked.connect(self.checking.show)
        self.strip.stop_wanted.connect(self._stop_work)
        self.worker.progressed.connect(self.strip.show_progress)
        self.warmer.progressed.connect(self.show_warming)
        # The full mesh is drawn as soon as it can be, while it is still being made ready to be picked.
        self.preparer.progressed.connect(lambda fraction, _: self._redraw() if fraction >= 0.5 else None)
        self.panel.open_wanted.connect(lambda path: self.filing.open_path(Path(path)))
        self.form.ready = lambda: all(pickable(s.mesh) for s in self.document.state.sources if s.visible)
        self.form.acted.connect(lambda: self.panel.refresh_tool(self.tool))
        for view in (self.form, self.flat):
            view.refused.connect(self.say)
            view.broke.connect(self.say)
            view.menu_wanted.connect(self._context_menu)
            view.chip_toggled.connect(self.toggle)
        self._keep_timer = QTimer(self, interval=max(self.settings.autosave_seconds, 5) * 1000)
        self._keep_timer.timeout.connect(self.keeper.keep)
        self._keep_timer.start()
        for command in self.commands.values():
            if command.key and len(command.key) > 1:
                shortcut = QShortcut(QKeySequence(command.key), self)
                shortcut.activated.connect(lambda c=command: self.run(c))
        QShortcut(QKeySequence("Ctrl+K"), self).activated.connect(self.open_search)

    # ---- host: stages, tools, display -----------------------------------------------------------
    @property
    def tool(self) -> Tool:
        """The tool in hand."""
        return self.tools[self.chosen[self.stage]]

    def show_stage(self, stage: str) -> None:
        """Change rail, panel and checks; views and what is held stay."""
        self.settings.splitters[self.stage] = self.splitter.sizes()
        self.tool.cancel()
        if stage != self.stage:
            self.display.on["islands"] = stage in ("seams", "layout")
            self.display.on["checker"] = stage == "flatten"
            self.display.on["stretch"] = False
        self.stage = stage
        if stage != "source" and self.proposal is not None:
            self.propose(None)
        self.top.show_stage(stage)
        self.rail.show_tools(STAGE_TOOLS[stage], self.tool.id)
        self.panel.show_stage(stage)
        sizes = self.settings.splitters.get(stage) or ([663, 300] if stage == "source" else [559, 404])
        if sizes and len(sizes) == 2 and min(sizes) > 100:
            self.splitter.setSizes(sizes)
        self.take_tool(self.tool.id)
        self.offenders = None
        self._redraw()
        self.checking.ask()

    def take_tool(self, tool_id: str) -> None:
        """Put another tool in hand."""
        self.tool.cancel()
        self.tool.leave()
        self.chosen[self.stage] = tool_id
        self.rail.show_chosen(tool_id)
        for view in (self.form, self.flat):
            view.tool = self.tool
            view.refresh_ghost()
        self.panel.show_tool(self.tool, self.document.state.mirror)

    def toggle(self, name: str) -> None:
        """Switch something on or off in the views."""
        self.display.on[name] = not self.display.on[name]
        if name == "night":
            self.settings.night = self.display.on["night"]
            self._recolour()
        if name == "uncovered":
            self._look_for_uncovered()
        if name in ("stretch", "gap", "islands", "checker", "moved") and self.display.on[name]:
            for other in {"stretch", "gap", "islands", "moved"} - {name}:
                if name != "checker":
                    self.display.on[other] = False
        if self.panel.show_card is not None:
            self.panel.refresh_show()
        self._redraw()

    def _recolour(self) -> None:
        self.colours = NIGHT if self.display.on["night"] else DAY
        app = QApplication.instance()
        if isinstance(app, QApplication):
            app.setStyleSheet(style_sheet(self.colours))
        self.top.recolour(self.colours)
        self.rail.colours = self.strip.colours = self.flat.palette_ = self.colours
        self.rail.show_tools(STAGE_TOOLS[self.stage], self.tool.id)
        self.strip.show_checks(self.strip.checks)
        self.flat.title.setStyleSheet(f"color: {self.colours.soft}; font-weight: bold; background: transparent;")

    def frame(self, everything: bool) -> None:
        """Frame what is held, or all."""
        state = self.document.state
        jacket, held = state.jacket, state.held
        if not everything and jacket is not None and len(held):
            mesh = jacket.mesh
            if held.kind == "faces":
                corners = np.flatnonzero(np.isin(mesh.face_of_corner, held.ids))
            elif held.kind == "edges":
                corners = np.flatnonzero(np.isin(mesh.topology.edge, held.ids))
            else:
                corners = np.flatnonzero(np.isin(mesh.corners, held.ids))
            self.form.frame_points(mesh.points[mesh.corners[corners]])
            if mesh.uv is not None:
                self.flat.frame_uv(mesh.uv[corners])
            return
        meshes = [s.mesh for s in state.sources if s.visible] or ([jacket.mesh] if jacket is not None else [])
        # A light copy frames as well as millions of points.
        light = [drawn_light(m, LIGHTS[0]).points.astype(float) for m in meshes if m.n_faces >= HEAVY and is_shown(m)]
        points = light + [m.points for m in meshes if m.n_points and m.n_faces < HEAVY]
        if points:
            self.form.frame_points(np.concatenate(points))
        self.flat.frame_sheet()

    # ---- host: commands, work, words -------------------------------------------------------------
    def run(self, command: Command) -> None:
        """Run a command when it fits; say why when it fails."""
        if not command.available(self.document.state):
            self.say(f"'{command.label}' does not fit here yet.")
            return
        try:
            self.tool.cancel()
            command.run(self)
        except JacketError as error:
            self.say(str(error))

    def work(self, name: str, job: Callable[[Progress], Any], done: Callable[[Any], None]) -> None:
        """Run a job in the background with progress in the strip."""

        def finished(result: Any) -> None:
            self._show_strokes(None)
            self.strip.show_progress(None, "")
            self._show_hint()
            try:
                done(result)
            except JacketError as error:
                self.say(str(error))
            self.filing.open_next()

        def failed(sentence: str) -> None:
            self._show_strokes(None)
            self.strip.show_progress(None, "")
            self.say(sentence)
            self.filing.open_next()

        self.strokes = None
        self.worker.start(name, job, finished, failed)
        self.strip.show_progress(0.0, name)

    def watch_field(self, strokes: Any) -> None:
        """Show strokes (S, 2, 3) of a field until the work that makes it is over; may be called from any thread."""
        self.field_seen.emit(strokes)

    def _show_strokes(self, strokes: Any) -> None:
        if strokes is not None and not self.worker.busy:
            return
        if strokes is not None or self.strokes is not None:
            self.strokes = strokes
            self._redraw()

    def _stop_work(self) -> None:
        (self.worker if self.worker.busy else self.warmer).stop()

    def show_warming(self, fraction: float | None, what: str) -> None:
        """Progress of getting ready, wherever no work of the user's is shown."""
        if not self.worker.busy:
            self.strip.show_progress(fraction, what)
            if fraction is None:
                self._show_hint()

    def say(self, text: str) -> None:
        """Show a sentence in the hint line for a while."""
        self.strip.hint.setText(text)
        self._hint_until = time.monotonic() + 6.0
        QTimer.singleShot(6100, self._show_hint)

    def _show_hint(self) -> None:
        if time.monotonic() >= self._hint_until and not self.worker.busy:
            self.strip.hint.setText(VIEW_HINT)

    # ---- host: the Source stage -------------------------------------------------------------------
    def propose(self, proposal: Proposal | None) -> None:
        """Show what a mend would do, or nothing any more."""
        if proposal is not None and proposal.mend.nothing:
            self.say(f"{proposal.mend.said}.")
            proposal = None
        self.proposal = proposal
        self.panel.show_proposal(proposal)
        if proposal is not None:
            self.offenders = None
            self.say(f"{proposal.mend.said}? Enter does it, Esc leaves it.")
        self._redraw()

    def prepare(self, mesh: PolyMesh, progress: Progress) -> None:
        """Derive what drawing and picking a source need; for the background."""
        renderer = self.form.renderer
        prepare_drawing(mesh, renderer is None or renderer.software, progress)

    def show_mirror(self, source: SourceObject | None, plane: Plane | None) -> None:
        """Show how far the source differs from its mirror image, or nothing any more."""
        self.mirror_plane = plane
        if source is None or plane is None:
            self.display.heat = None
            self.panel.show_look(self.display, self.mirror_plane)
            self._redraw()
            return

        def done(values: Any) -> None:
            reach = max(float(np.percentile(values, 98)), 0.1)
            self.display.heat = Heat(source.mesh, values, reach, plane)
            self.panel.show_look(self.display, plane)
            mean = float(values.mean())
            self.say(f"Mirrored points lie {mean:.2f} % of the diagonal off on average, {values.max():.2f} % at most.")
            self._redraw()

        def job(progress: Progress) -> Any:
            progress(0.1, "measuring the mirror difference")
            return mirror_difference(source.mesh, plane)

        self.work("measuring the mirror difference", job, done)

    def refresh_checks(self) -> None:
        """Look at the checks again."""
        self.checking.ask()

    def ask_text(self, title: str, label: str, text: str) -> str | None:
        """Ask for a line of text; None where it was called off."""
        answer, good = QInputDialog.getText(self, title, label, text=text)
        return answer if good else None

    def take_new_file(self) -> None:
        self.filing.take_new_file()

    def watching_leave(self) -> None:
        """Do not offer the newer file any more."""
        source = self.watching.changed()
        if source is not None:
            self.watching.leave(source)

    def set_look(self, name: str, value: Any) -> None:
        """Change how sources are drawn: shade, cut_axis, cut_share, or the mirror plane to measure against."""
        if name == "mirror":
            source = self.document.state.chosen_source
            plane = self.mirror_plane if value == "found" else (axis_plane(value) if value else None)
            try:
                self.show_mirror(source if value else None, plane)
            except JacketError as error:
                self.say(str(error))
            return
        setattr(self.display, name, value)
        self._redraw()

    def _option_changed(self) -> None:
        """A setting of the tool changed: what waits is shown anew."""
        tool = self.tool
        pointer = self.form.pointer_now()
        if pointer is not None and not tool.busy:
            self.form.act(lambda: tool.hover(pointer))
        else:
            self.form.act(tool.leave)

    def _preview(self, command_id: str) -> None:
        """Show in the form view what a button of Tidy would do."""
        tool = self.tool
        if not isinstance(tool, Tidy):
            return
        self.form.act(lambda: tool.preview(command_id, self.values))
        if not tool.wants_time(command_id) or self.looker.busy:
            return
        values = dict(self.values)

        def told(sentence: str) -> None:
            if tool.pointed == command_id:
                tool.ghost = Ghost(what=sentence)
                self.form.refresh_ghost()

        def seen(new: PolyMesh) -> None:
            self.form.act(lambda: tool.show_result(command_id, new))

        self.looker.start("looking ahead", lambda progress: TIDYINGS[command_id].run(self.document, values), seen, told)

    def _choice(self, name: str, hold: bool) -> None:
        """Hold a kept choice, or forget it."""
        try:
            (hold_choice if hold else forget_choice)(self.document, name)
        except JacketError as error:
            self.say(str(error))

    def _typed(self, kind: str, values: tuple[float, float, float]) -> None:
        """Numbers typed for Move."""
        tool = self.tools["move"]
        try:
            assert isinstance(tool, Move)
            tool.typed(kind, values)
        except JacketError as error:
            self.say(str(error))

    def _look_for_uncovered(self) -> None:
        """Measure, in the background, how far the source lies from the jacket, and show it as heat."""
        state = self.document.state
        source, jacket = state.chosen_source, state.jacket
        if not self.display.on["uncovered"] or source is None or jacket is None or jacket.mesh.n_faces == 0:
            self.display.heat = (
                None if self.display.heat is not None and self.display.heat.plane is None else self.display.heat
            )
            self._redraw()
            return
        if self.looker.busy:
            self._uncovered_timer.start()
            return
        meshes = [j.mesh for j in state.jackets if j.visible and j.mesh.n_faces]

        def done(found: tuple[Any, float]) -> None:
            if self.display.on["uncovered"]:
                self.display.heat = Heat(source.mesh, found[0], found[1])
                self._redraw()
            if any(
                j.visible and j.mesh.n_faces and not any(j.mesh is m for m in meshes)
                for j in self.document.state.jackets
            ):
                self._uncovered_timer.start()

        self.looker.start(
            "looking for what is not covered", lambda _: uncovered_values(source.mesh, meshes), done, self.say
        )

    def _scale_measured(self, wanted: float) -> None:
        gauge = self.tools["gauge"]
        try:
            gauge.scale_to(wanted)  # type: ignore[attr-defined]
        except JacketError as error:
            self.say(str(error))
        self.form.refresh_ghost()
        self.panel.refresh_tool(self.tool)

    def _object_menu(self, object_id: int, at: QPoint) -> None:
        """What can be done with a source or a layer on the bench."""
        if any(j.id == object_id for j in self.document.state.jackets):
            self._layer_menu(object_id, at)
            return
        sources_steps.choose_source(self.document, object_id)
        menu = QMenu(self)
        source = self.document.state.chosen_source
        if source is None:
            return
        shown = menu.addAction("Hide" if source.visible else "Show")
        shown.triggered.connect(lambda: view_steps.set_visible(self.document, object_id, not source.visible))
        for command_id in ("lock-source", "rename-source", "join-sources", "take-new-file", "remove-source"):
            command = self.commands[command_id]
            label = ("Unlock" if source.locked else "Lock") if command_id == "lock-source" else command.label
            action = menu.addAction(label)
            action.setEnabled(command.available(self.document.state))
            action.triggered.connect(lambda _=False, c=command: self.run(c))
        menu.popup(at)

    def _layer_menu(self, layer_id: int, at: QPoint) -> None:
        layers.choose_layer(self.document, layer_id)
        layer = self.document.require_jacket()
        menu = QMenu(self)
        shown = menu.addAction("Hide" if layer.visible else "Show")
        shown.triggered.connect(lambda: view_steps.set_visible(self.document, layer_id, not layer.visible))
        for command_id in ("lock-layer", "rename-layer", "copy-layer", "split-layer", "join-layers", "layer-up",
                           "layer-down", "remove-layer"):  # fmt: skip
            command = self.commands[command_id]
            label = ("Unlock" if layer.locked else "Lock") if command_id == "lock-layer" else command.label
            action = menu.addAction(label)
            action.setEnabled(command.available(self.document.state))
            action.triggered.connect(lambda _=False, c=command: self.run(c))
        menu.popup(at)

    def open_source(self) -> None:
        self.filing.open_source()

    def open_project(self) -> None:
        self.filing.open_project()

    def save(self, ask: bool) -> None:
        self.filing.save(ask)

    def deliver(self) -> None:
        self.filing.deliver()

    def open_search(self) -> None:
        """Command search under the top bar."""
        box = Search(self, lambda text: search(self.commands, text, self.document.state), self.run, lambda c: c.key)
        box.move(self.mapToGlobal(QPoint(self.width() - 420, 54)))
        box.show()
        box.field.setFocus()
        self._search = box

    def _context_menu(self, at: QPoint) -> None:
        menu = QMenu(self)
        groups = {
            "source": (
                "keep-picked",
                "drop-picked",
                "close-holes",
                "to-ground",
                "count-crossings",
                "open-source",
                "frame-all",
            ),
            "topology": (
                "frame",
                "grow-held",
                "shrink-held",
                "loops-held",
                "rings-held",
                "split-layer",
                "remove-held",
                "settle-held",
                "relax-all",
                "make-trial",
            ),
            "seams": ("cut-held", "sew-held", "suggest-seams", "clear-seams"),
            "flatten": ("flatten", "flatten-held"),
            "layout": ("pack", "even-density"),
            "deliver": ("deliver",),
        }
        for command_id in (*groups[self.stage], "let-go", "undo", "redo"):
            command = self.commands[command_id]
            action = menu.addAction(command.label)
            action.setEnabled(command.available(self.document.state))
            action.triggered.connect(lambda _=False, c=command: self.run(c))
        menu.popup(at)

    def _set_value(self, name: str, value: Any) -> None:
        self.values[name] = (
            int(value)
            if name in ("quads", "size", "keep", "rounds", "reduce", "nth", "nth_offset", "copies")
            else value
        )
        if name == "shown_unit":
            self.panel.show_health(self.document.state)
        if name == "aim" and self.stage == "topology":
            self.panel.show_stage("topology")
        if name in ("quads", "sharp"):
            setattr(self.settings, name, self.values[name])
        if name in ("size", "margin"):
            size = int(self.values["size"])
            try:
                sheets_steps.change_sheet(self.document, self.document.state.active_sheet, width=size, height=size,
                                          margin=float(self.values["margin"]))  # fmt: skip
            except JacketError as error:
                self.say(str(error))

    # ---- what changes show ------------------------------------------------------------------------
    def _after_change(self, changed: set[str]) -> None:
        state = self.document.state
        if changed & {"sources", "jackets", "trials", "active", "active_source"}:
            self.offenders = None
            self.panel.show_objects(state)
            self.checking.ask()
        if "sources" in changed:
            self._sources_changed()
        if "jackets" in changed and self.display.on["uncovered"]:
            self._uncovered_timer.start()
        if "picked" in changed:
            self.panel.show_picked(state)
        if "sheets" in changed:
            sheet = state.sheet
            self.values.update(size=sheet.width, margin=sheet.margin)
            self.checking.ask()
            if self.stage == "layout" and not self.panel.isAncestorOf(QApplication.focusWidget() or self):
                self.panel.show_stage("layout")
        if changed & {"sources", "active_source"} and self.stage == "source":
            fill_lengths(self.panel)
        if changed & {"held", "jackets", "active"}:
            self.panel.show_held(state)
            self.panel.refresh_choices(self.tool, state)
        if "mirror" in changed:
            self.panel.show_tool(self.tool, state.mirror)
        self.panel.refresh_buttons(state)
        self._show_status()
        self._redraw()

    def _sources_changed(self) -> None:
        """Drop what belonged to meshes that are gone; make ready to draw what undo brought back."""
        meshes = [s.mesh for s in self.document.state.sources]
        if self.proposal is not None and not any(m is self.proposal.before for m in meshes):
            self.propose(None)
        heat = self.display.heat
        if heat is not None and not any(m is heat.mesh for m in meshes):
            self.display.heat = self.mirror_plane = None
            self.panel.show_look(self.display, None)
        if hasattr(self, "watching"):
            self.watching.follow()
        missing = next((m for m in meshes if not is_whole(m)), None)
        if missing is not None and not self.preparer.busy:
            self.preparer.start(
                "making ready to draw", lambda progress: self.prepare(missing, progress), self._prepared, self.say
            )

    def _prepared(self, _: Any) -> None:
        self._sources_changed()
        self._redraw()

    def _show_status(self) -> None:
        doc = self.document
        parts = [f"Undo: {doc.last_step}" if doc.last_step else "Nothing to undo"]
        if doc.state.mirror:
            parts.append(f"mirror {doc.state.mirror.upper()} on")
        if self.strip.status.text() != "   ·   ".join(parts):
            self.strip.status.setText("   ·   ".join(parts))
        saved = "unsaved changes" if doc.dirty else ("saved" if doc.path else "not saved yet")
        self.top.show_file(project_name(doc.path), saved)
        title = f"{project_name(doc.path)}{' *' if doc.dirty else ''} – Jacket"
        if title != self.windowTitle():
            self.setWindowTitle(title)

    def light(self, segments: Any) -> None:
        """Light up line segments (S, 2, 3) in the form view until something changes."""
        self.offenders = segments
        self._redraw()

    def _redraw(self) -> None:
        state = self.document.state
        trial = state.trial.mesh if state.trial is not None and self.stage == "topology" else None
        other, names = compared(state) if trial is not None and self.display.on["split"] else (None, None)
        # While a field is shown, what lies over the source would hide it.
        looked = (
            replace(self.display, on={**self.display.on, "jacket": False}) if self.strokes is not None else self.display
        )
        self.form.show_scene(
            form_scene(
                state, looked, self.colours, self.stage, trial, self.offenders, self.proposal, self.strokes, other
            )
        )
        self.form.halves = names if looked.on["jacket"] and looked.on["trial"] else None
        mesh = state.jacket.mesh if state.jacket is not None else None
        # What the sheet shows hangs on faces, UVs and seams alone: moving points leaves its scene as it is.
        parts = (mesh.corners, mesh.uv, mesh.cuts) if mesh is not None and mesh.uv_sets else ()
        key = (*map(id, parts), id(self.colours), self.display.key(), state.sheets, id(state.held))
        if key != self._flat_key or self.display.on["stretch"]:
            self._flat_key, self._flat_parts = key, parts
            self.flat.show_scene(flat_scene(state, self.display, self.colours))
            self.flat.overlay.update()
        if self.flat.show_names != self.display.on["names"]:
            self.flat.show_names = self.display.on["names"]
            self.flat.overlay.update()
        self.form.mark_poles = self.display.on["poles"] and self.display.on["jacket"] and self.stage == "topology" \
            and trial is None and self.strokes is None and not self.display.smooth  # fmt: skip
        self.form.compare_outline = self.display.on["edge of sight"]
        self.form.overlay.update()
        self.form.show_chips(self.display.on)
        moved = has_moves(state)
        if self.form.chips["moved"].isHidden() == moved:
            self.form.chips["moved"].setVisible(moved)
        self.flat.show_chips(self.display.on)

    @property
    def settled(self) -> bool:
        """Whether nothing is under way and all numbers are up to date."""
        busy = self.checking.busy or self.worker.busy or self.preparer.busy or self.looker.busy
        busy = busy or self._uncovered_timer.isActive()
        return not (busy or self.form.moving or self.form.unfinished)

    # ---- keys, drops, closing -----------------------------------------------------------------------
    def _view_under(self) -> Any:
        for view in (self.form, self.flat):
            if view.overlay.pointer.x() >= 0:
                return view
        return self.form

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802 - Qt's name
        key, plain = event.key(), event.modifiers() == Qt.KeyboardModifier.NoModifier
        view = self._view_under()
        tool = self.tool
        if self.proposal is not None and key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Escape):
            self.run(self.commands["leave-proposal" if key == Qt.Key.Key_Escape else "take-proposal"])
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and tool.pending:
            view.act(tool.accept)
        elif key == Qt.Key.Key_Escape:
            view.act(lambda: None if tool.cancel() else tool.leave())
        elif key == Qt.Key.Key_Space:
            view.act(tool.step)
        elif key == Qt.Key.Key_Backspace:
            pointer = view.pointer_now()
            if pointer is not None:
                view.act(lambda: tool.remove(pointer))
        elif event.text() in ("[", "]"):
            grow = 1.15 if event.text() == "]" else 1 / 1.15
            self.tool_settings.brush = float(np.clip(self.tool_settings.brush * grow, 6, 400))
            self.panel.show_tool(tool, self.document.state.mirror)
            pointer = view.pointer_now()
            if pointer is not None and not tool.busy:
                view.act(lambda: tool.hover(pointer))
        elif plain and self._key_command(event.text().upper()):
            pass
        else:
            super().keyPressEvent(event)

    def _key_command(self, text: str) -> bool:
        for row in STAGE_TOOLS[self.stage]:
            if text and text == row.key:
                self.take_tool(row.id)
                return True
        for command in self.commands.values():
            if text and text == command.key:
                self.run(command)
                return True
        return False

    def dragEnterEvent(self, event: Any) -> None:  # noqa: N802 - Qt's name
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: Any) -> None:  # noqa: N802 - Qt's name
        self.filing.open_paths([Path(u.toLocalFile()) for u in event.mimeData().urls() if u.isLocalFile()])

    def closeEvent(self, event: QCloseEvent) -> None:  # noqa: N802 - Qt's name
        if not self.filing.may_leave():
            event.ignore()
            return
        self.checking.close()
        self._keep_timer.stop()
        self.worker.stop()
        self.warmer.stop()
        self.preparer.stop()
        self._uncovered_timer.stop()
        self.looker.stop()
        self.looker.wait(5)
        self.worker.wait(5)
        self.preparer.wait(5)
        self.settings.reach, self.settings.brush = self.tool_settings.reach, self.tool_settings.brush
        self.settings.strength = self.tool_settings.strength
        save_settings(self.settings)
        self.keeper.clear()
        event.accept()
