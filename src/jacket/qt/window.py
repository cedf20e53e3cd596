"""The window: composes views, cards, strips and the program, and decides nothing."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QPoint, QSize, QTimer, Signal
from PySide6.QtGui import QCloseEvent, QKeyEvent, QKeySequence, QShortcut
from PySide6.QtWidgets import QApplication, QHBoxLayout, QInputDialog, QMainWindow, QVBoxLayout, QWidget

from jacket.commands.display import Display, Heat
from jacket.commands.host import PackView, Place
from jacket.commands.keys import chords
from jacket.commands.model import Command
from jacket.core.bake.made import Bake
from jacket.core.mesh.polymesh import PolyMesh
from jacket.document.document import Document
from jacket.program import Program
from jacket.progress import Progress
from jacket.qt.cards.panel import Panel
from jacket.qt.checking import Checking
from jacket.qt.collecting import Collecting
from jacket.qt.differing import Differing
from jacket.qt.files.filing import Filing
from jacket.qt.files.keeping import Keeper
from jacket.qt.files.recovering import Recovering, picture_of
from jacket.qt.files.watching import Watching
from jacket.qt.following import Following, Parts
from jacket.qt.foreseeing import Foreseeing
from jacket.qt.framing import held_corners, whole_points
from jacket.qt.hints import Hints
from jacket.qt.keyboard import Keyboard
from jacket.qt.looking import Looking
from jacket.qt.menus import object_menu, stage_menu
from jacket.qt.outlining import Outlining
from jacket.qt.pointing import Pointing
from jacket.qt.rail import Rail
from jacket.qt.search import Search
from jacket.qt.showing import Showing
from jacket.qt.strip import Strip
from jacket.qt.theme import DAY, NIGHT, style_sheet
from jacket.qt.tickets import TopBar
from jacket.qt.turns import Turns
from jacket.qt.views.dock import Dock
from jacket.qt.views.flat_view import FlatView
from jacket.qt.views.form_view import FormView
from jacket.qt.views.sets import SetTabs
from jacket.qt.work import Worker
from jacket.settings import Settings, save_settings
from jacket.stages.all import STAGES
from jacket.tools.base import Tool


class Window(QMainWindow):
    """Everything a user sees; the front that the program asks."""

    field_seen = Signal(object)
    packing_seen = Signal(object)
    baking_seen = Signal(object)
    panel: Panel

    def __init__(self, document: Document, settings: Settings) -> None:
        super().__init__()
        self.document, self.settings = document, settings
        self.worker, self.warmer = Worker(self), Worker(self)
        self.program = Program(document, STAGES, settings, self, self.worker)
        self.keeper = Keeper(document)
        self.colours = DAY
        self.turns = Turns(self)
        self._build()
        self.hints = Hints(self.program, self.top, self.strip, self)
        self.looking = Looking(self.program, self.form, self)
        self.showing = Showing(self.program, self.form, self.flat, self.turns, self)
        self.differing = Differing(self.program, self.form, self)
        self.outlining = Outlining(self.program, self.form, self)
        self.foreseeing = Foreseeing(self.program, self.form, self.flat, self)
        self.pointing = Pointing(self.program, self.form, self.flat, self)
        self.checking = Checking(self.program, lambda: self.looking.preparer.busy, self)
        self.watching = Watching(document, self)
        self.filing = Filing(self.program, self.keeper, self.watching, self)
        self.keeper.stamp = lambda: self.filing.claims.stamp
        self.keeper.picture = partial(picture_of, self.form)
        self.recovering = Recovering(self.program, self.filing, self)
        self.hover_timer = QTimer(self, interval=20, singleShot=True)
        parts = Parts(self.program, self.form, self.flat, self.top, self.rail, self.strip, self.panel, self.dock, self.set_tabs, self.hints,
                      self.looking, self.showing, self.differing, self.outlining, self.foreseeing, self.checking, self.watching, self.turns, self.hover_timer)  # fmt: skip
        self.following = Following(parts, self)
        self.keyboard = Keyboard(self.program, self.form, self.flat, self.rehover)
        self.collecting = Collecting(lambda: self.settled, self)
        self._connect()
        self._recolour()
        self.following.program_changed("stage")
        self.following.program_changed("tool")
        self.following.document_changed({"sources", "jackets", "trials", "sheets", "path"})
        self.watching.follow()
        self.hints.show()

    # ---- building -------------------------------------------------------------------------------
    def _build(self) -> None:
        self.setWindowTitle("Jacket")
        self.resize(QSize(1280, 800))
        self.setMinimumSize(QSize(980, 620))
        self.setAcceptDrops(True)
        self.top, self.rail, self.strip = TopBar(STAGES), Rail(), Strip()
        self.form, self.flat = FormView(self.document), FlatView(self.document)
        self.dock = Dock(self.form, self.flat, self.settings)
        self.set_tabs = SetTabs(self.dock, self.document, self.say)
        self.panel = Panel(self.program, self.turns, self.rehover, lambda: self.watching.leave())
        middle = QHBoxLayout()
        middle.setSpacing(0)
        for widget, stretch in ((self.rail, 0), (self.dock, 1), (self.panel, 0)):
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
        program = self.program
        self.document.listen(self.following.document_changed)
        program.listen(self.following.program_changed)
        self.top.stage_wanted.connect(program.show_stage)
        self.top.search_wanted.connect(self.open_search)
        self.rail.tool_wanted.connect(program.take_tool)
        self.panel.object_menu_wanted.connect(lambda i, at: object_menu(self, program, i, at))
        self.panel.open_wanted.connect(lambda path: self.filing.open_path(Path(path)))
        self.panel.desk.preview_wanted.connect(self.looking.preview)
        self.strip.check_clicked.connect(lambda check: self.checking.show(check, self._frame_places))
        self.strip.stop_wanted.connect(lambda: program.tasks.stop() if program.tasks.busy else self.warmer.stop())
        self.checking.stale.connect(self.strip.show_stale)
        self.checking.looked.connect(self.following.show_looked)
        self.watching.found.connect(self.panel.show_newer)
        self.filing.kept_wanted.connect(self.recovering.show)
        self.worker.progressed.connect(self.strip.show_progress)
        self.warmer.progressed.connect(self.hints.show_warming)
        self.field_seen.connect(program.show_strokes)
        self.packing_seen.connect(program.packing_seen)
        self.baking_seen.connect(program.baking_seen)
        self.flat.packing.enough_wanted.connect(lambda: program.run(program.commands["good-enough"]))
        self.looking.ready.connect(self.showing.redraw)
        self.form.ready = self.showing.ready
        self.form.acted.connect(lambda: self.panel.desk.refill_wanted.emit("tool") if program.tool.id == "gauge" else None)
        self._keep_timer = QTimer(self, interval=max(self.settings.autosave_seconds, 5) * 1000)
        self._keep_timer.timeout.connect(self.keeper.keep)
        self._keep_timer.start()
        self.hover_timer.timeout.connect(self.rehover)
        for view in (self.form, self.flat):
            view.refused.connect(self.say)
            view.broke.connect(self.say)
            view.menu_wanted.connect(lambda at: stage_menu(self, program, at))
            view.chip_toggled.connect(lambda name: program.show(program.display.toggled(name)))
            for changed in (view.camera_changed, view.acted):
                changed.connect(self.hover_timer.start)
        for key, command in chords(program.commands):
            QShortcut(QKeySequence(key), self).activated.connect(lambda c=command: program.run(c))
        QShortcut(QKeySequence("Ctrl+K"), self).activated.connect(self.open_search)

    def _recolour(self) -> None:
        self.colours = NIGHT if self.settings.night else DAY
        app = QApplication.instance()
        if isinstance(app, QApplication):
            app.setStyleSheet(style_sheet(self.colours))
        self.top.recolour(self.colours)
        self.rail.colours = self.strip.colours = self.flat.palette_ = self.form.palette_ = self.showing.palette = self.colours
        self.flat.packing.colours = self.colours
        self.panel.desk.ink = self.colours.ink
        self.rail.show_tools(self.program.stage.tools, self.program.tool.id)
        self.strip.show_checks(self.strip.checks)
        self.flat.title.setStyleSheet(f"color: {self.colours.soft}; font-weight: bold; background: transparent;")

    @property
    def settled(self) -> bool:
        """Whether nothing is under way and everything shown is up to date."""
        busy = self.checking.busy or self.turns.busy or self.looking.busy or self.foreseeing.busy or self.differing.busy or self.outlining.busy or self.filing.saver.busy or not self.program.tasks.settled
        return not (busy or self.form.moving or self.form.unfinished)

    def rehover(self) -> None:
        """The ghost follows from document and settings: look again at what is under the pointer."""
        self.keyboard.rehover()

    # ---- the program's front: words ---------------------------------------------------------------
    def say(self, text: str) -> None:
        self.hints.say(text)

    def offer(self, text: str, again: Callable[[], None]) -> None:
        self.hints.offer(text, again)

    def ask_text(self, title: str, label: str, text: str) -> str | None:
        """Ask for a line of text; None where it was called off."""
        answer, good = QInputDialog.getText(self, title, label, text=text)
        return answer if good else None

    # ---- the program's front: views -----------------------------------------------------------------
    def frame(self, everything: bool) -> None:
        """Frame what is held, or all."""
        state = self.document.state
        corners = None if everything else held_corners(state)
        if corners is not None and state.jacket is not None:
            mesh = state.jacket.mesh
            self.form.frame_points(mesh.points[mesh.corners[corners]])
            if mesh.uv is not None:
                self.flat.frame_uv(mesh.uv[corners])
            return
        self.form.frame_points(whole_points(state), True)
        self.flat.frame_sheet()

    def _frame_places(self, places: Any) -> None:
        self.frame(False) if places is None else self.form.frame_points(np.asarray(places))

    def looks_from(self) -> tuple[Place, Place]:
        """Where the form view looks from and to."""
        camera = self.form.camera
        return tuple(camera.eye.tolist()), tuple(np.asarray(camera.target).tolist())

    def prepare(self, mesh: PolyMesh, progress: Progress) -> None:
        self.looking.prepare(mesh, progress)

    def prepare_heat(self, heat: Heat) -> None:
        self.looking.prepare_heat(heat)

    def watch_field(self, strokes: Any) -> None:
        self.field_seen.emit(strokes)

    def watch_baking(self, baked: Bake) -> None:
        self.baking_seen.emit(baked)

    def watch_packing(self, view: PackView) -> None:
        self.packing_seen.emit(view)

    def toggle_night(self) -> None:
        self.settings.night = not self.settings.night
        self._recolour()
        self.panel.show_stage()
        self.showing.redraw()

    def refresh_checks(self) -> None:
        self.checking.ask()

    def open_search(self) -> None:
        """Command search under the top bar."""
        box = Search(self, self.program.search, self.program.run, lambda c: c.key)
        box.move(self.mapToGlobal(QPoint(self.width() - 420, 54)))
        box.show()
        box.field.setFocus()
        self._search = box

    # ---- what others ask of the window -----------------------------------------------------------------
    @property
    def commands(self) -> Any:
        """Every command by its id."""
        return self.program.commands

    @property
    def tool(self) -> Tool:
        """The tool in hand."""
        return self.program.tool

    @property
    def stage(self) -> str:
        """The id of the stage that is shown."""
        return self.program.stage.id

    @property
    def display(self) -> Display:
        """What is shown and how."""
        return self.program.display

    def run(self, command: Command) -> None:
        """Run a command."""
        self.program.run(command)

    def show_stage(self, stage: str) -> None:
        """Go to a stage."""
        self.program.show_stage(stage)

    def take_tool(self, tool_id: str) -> None:
        """Put a tool of the stage in hand."""
        self.program.take_tool(tool_id)

    # ---- keys, drops, closing -------------------------------------------------------------------------
    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802 - Qt's name
        if not self.keyboard.press(event):
            super().keyPressEvent(event)

    def dragEnterEvent(self, event: Any) -> None:  # noqa: N802 - Qt's name
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: Any) -> None:  # noqa: N802 - Qt's name
        self.filing.open_paths([Path(u.toLocalFile()) for u in event.mimeData().urls() if u.isLocalFile()])

    def closeEvent(self, event: QCloseEvent) -> None:  # noqa: N802 - Qt's name
        if not self.filing.may_leave() or not self.filing.saver.wait():
            event.ignore()
            return
        self._keep_timer.stop()
        self.hover_timer.stop()
        self.following.close()
        self.program.tasks.stop()
        self.warmer.stop()
        self.checking.close()
        self.looking.close()
        self.foreseeing.close()
        self.differing.close()
        self.outlining.close()
        self.worker.wait(5)
        settings, tools = self.settings, self.program.tool_settings
        settings.reach, settings.brush, settings.strength = tools.reach, tools.brush, tools.strength
        settings.values = self.program.kept_values()
        save_settings(settings)
        self.keeper.clear()
        self.filing.claims.let_go()
        event.accept()
