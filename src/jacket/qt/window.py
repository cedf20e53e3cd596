"""The window: composition root of views, cards, strips, tools and commands."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QPoint, QSize, Qt, QTimer
from PySide6.QtGui import QCloseEvent, QKeyEvent, QKeySequence, QShortcut
from PySide6.QtWidgets import QApplication, QHBoxLayout, QMainWindow, QMenu, QSplitter, QVBoxLayout, QWidget

from jacket.document.document import Document
from jacket.document.state import Sheet
from jacket.errors import JacketError
from jacket.progress import Progress
from jacket.qt.checking import Checking
from jacket.qt.filing import Filing
from jacket.qt.flat_view import FlatView
from jacket.qt.form_view import FormView
from jacket.qt.keeping import Keeper
from jacket.qt.panel import Panel
from jacket.qt.rail import Rail
from jacket.qt.scenes import Display, flat_scene, form_scene
from jacket.qt.search import Search
from jacket.qt.strip import Strip
from jacket.qt.theme import DAY, NIGHT, style_sheet
from jacket.qt.tickets import TopBar
from jacket.qt.work import Worker
from jacket.settings import Settings, save_settings
from jacket.tools.base import Tool, ToolSettings
from jacket.tools.commands import Command, build_commands, project_name, search
from jacket.tools.toolbox import STAGE_TOOLS

VIEW_HINT = "Right-drag turns · middle-drag shifts · wheel nears · right-click for what fits here"


class Window(QMainWindow):
    """Everything a user sees; also the host that commands run against."""

    def __init__(self, document: Document, settings: Settings) -> None:
        super().__init__()
        self.document, self.settings = document, settings
        sheet = document.state.sheet
        self.values: dict[str, Any] = {
            "quads": settings.quads, "sharp": settings.sharp, "angle": 60.0, "size": sheet.size,
            "margin": sheet.margin, "turn": sheet.turn, "profile": "y-up-metres",
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
        self.worker, self.warmer = Worker(self), Worker(self)
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
        self._after_change({"sources", "jackets", "trials", "sheet", "path"})
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
        self.panel.visible_wanted.connect(self.document.set_visible)
        self.strip.check_clicked.connect(self.checking.show)
        self.strip.stop_wanted.connect(self._stop_work)
        self.worker.progressed.connect(self.strip.show_progress)
        self.warmer.progressed.connect(self.show_warming)
        self.panel.open_wanted.connect(lambda path: self.filing.open_path(Path(path)))
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
        self.top.show_stage(stage)
        self.rail.show_tools(STAGE_TOOLS[stage], self.tool.id)
        self.panel.show_stage(stage)
        sizes = self.settings.splitters.get(stage)
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
        if name in ("stretch", "gap", "islands", "checker") and self.display.on[name]:
            for other in {"stretch", "gap", "islands"} - {name}:
                if name != "checker":
                    self.display.on[other] = False
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
        points = [m.points for m in meshes if m.n_points]
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
            self.strip.show_progress(None, "")
            self._show_hint()
            try:
                done(result)
            except JacketError as error:
                self.say(str(error))

        def failed(sentence: str) -> None:
            self.strip.show_progress(None, "")
            self.say(sentence)

        self.worker.start(name, job, finished, failed)
        self.strip.show_progress(0.0, name)

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
            "source": ("open-source", "frame-all"),
            "topology": ("frame", "remove-held", "relax-all", "make-trial"),
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
        self.values[name] = int(value) if name in ("quads", "size") else value
        if name in ("quads", "sharp"):
            setattr(self.settings, name, self.values[name])
        if name in ("size", "margin", "turn"):
            sheet = Sheet(int(self.values["size"]), float(self.values["margin"]), str(self.values["turn"]))
            self.document.apply("change the sheet", self.document.state.with_(sheet=sheet))

    # ---- what changes show ------------------------------------------------------------------------
    def _after_change(self, changed: set[str]) -> None:
        state = self.document.state
        if changed & {"sources", "jackets", "trials", "active"}:
            self.offenders = None
            self.panel.show_objects(state)
            self.checking.ask()
        if "sheet" in changed:
            sheet = state.sheet
            self.values.update(size=sheet.size, margin=sheet.margin, turn=sheet.turn)
            self.checking.ask()
            if self.stage == "layout" and not self.panel.isAncestorOf(QApplication.focusWidget() or self):
                self.panel.show_stage("layout")
        if changed & {"held", "jackets", "active"}:
            self.panel.show_held(state)
        if "mirror" in changed:
            self.panel.show_tool(self.tool, state.mirror)
        self.panel.refresh_buttons(state)
        self._show_status()
        self._redraw()

    def _show_status(self) -> None:
        doc = self.document
        steps = doc.undo_steps
        parts = [f"Undo: {steps[-1].name}" if steps else "Nothing to undo"]
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
        trial = state.trials[-1].mesh if state.trials and self.stage == "topology" else None
        self.form.show_scene(form_scene(state, self.display, self.colours, self.stage, trial, self.offenders))
        mesh = state.jacket.mesh if state.jacket is not None else None
        # What the sheet shows hangs on faces, UVs and seams alone: moving points leaves its scene as it is.
        parts = (mesh.corners, mesh.uv, mesh.marks.get("seam")) if mesh is not None and mesh.uvs else ()
        key = (*map(id, parts), id(self.colours), self.display.key(), state.sheet.size, id(state.held))
        if key != self._flat_key or self.display.on["stretch"]:
            self._flat_key, self._flat_parts = key, parts
            self.flat.show_scene(flat_scene(state, self.display, self.colours, state.sheet.size))
            self.flat.overlay.update()
        if self.flat.show_names != self.display.on["names"]:
            self.flat.show_names = self.display.on["names"]
            self.flat.overlay.update()
        self.form.show_chips(self.display.on)
        self.flat.show_chips(self.display.on)

    @property
    def settled(self) -> bool:
        """Whether nothing is under way and all numbers are up to date."""
        return not (self.checking.busy or self.worker.busy or self.form.moving)

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
        if key == Qt.Key.Key_Escape:
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
        for url in event.mimeData().urls():
            if url.isLocalFile():
                self.filing.open_path(Path(url.toLocalFile()))

    def closeEvent(self, event: QCloseEvent) -> None:  # noqa: N802 - Qt's name
        if not self.filing.may_leave():
            event.ignore()
            return
        self.checking.close()
        self._keep_timer.stop()
        self.worker.stop()
        self.warmer.stop()
        self.worker.wait(5)
        self.settings.reach, self.settings.brush = self.tool_settings.reach, self.tool_settings.brush
        self.settings.strength = self.tool_settings.strength
        save_settings(self.settings)
        self.keeper.clear()
        event.accept()
