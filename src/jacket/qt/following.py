"""What is shown anew when the program or the document changes: the one place where the window's parts are told."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QTimer

from jacket.commands.beside import LARGE
from jacket.commands.common import has_uvs
from jacket.qt.checking import Looked

if TYPE_CHECKING:
    from jacket.qt.window import Window


class Following(QObject):
    """Tells the parts of a window what has changed for them."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self.window = window
        self._mapped = has_uvs(window.document.state)
        self._cards_wait: set[str] = set()
        self._cards_timer = QTimer(self, interval=12, singleShot=True)
        self._cards_timer.timeout.connect(self._refresh_waiting)

    @property
    def busy(self) -> bool:
        """Whether cards are still to be brought up to date."""
        return self._cards_timer.isActive()

    def close(self) -> None:
        """Tell nobody any more."""
        self._cards_timer.stop()

    def program_changed(self, name: str) -> None:
        """Something that the program holds has changed, by its name."""
        window, program = self.window, self.window.program
        if name == "stage":
            stage = program.stage
            window.top.show_stage(stage.id)
            window.rail.show_tools(stage.tools, program.tool.id)
            window.panel.show_stage()
            window.dock.show_stage(stage.id, stage.looks.flat_share, has_uvs(window.document.state))
            window.checking.ask()
        if name == "tool":
            window.rail.show_chosen(program.tool.id)
            for view in (window.form, window.flat):
                view.tool = program.tool
                view.refresh_ghost()
            window.hover_timer.start()
        if name == "work":
            task = program.tasks.running
            window.strip.show_progress(0.0 if task is not None else None, task.name if task is not None else "")
            window.hints.show()
        if name in ("stage", "work"):
            window.foreseeing.refresh()
        if name == "display":
            window.looking.look_for_uncovered()
            window.looking.follow_gap()
            window.looking.follow_skins()
        window.panel.refresh({name})
        if name in ("values", "baked") and not program.tasks.busy:
            window.checking.ask()
        if name == "values":
            window.showing.redraw_flat()
        if name == "packing":
            window.flat.packing.show_view(program.packing)
            window.showing.redraw_flat()
        if name in ("stage", "display", "lit", "proposal", "strokes", "figures", "baked"):
            window.showing.redraw()
            window.differing.follow()

    def document_changed(self, changed: set[str]) -> None:
        """Parts of the document's state have changed, by their names."""
        window, state = self.window, self.window.document.state
        if changed & {"sources", "jackets", "trials", "active", "active_source", "sheets", "sights"}:
            window.checking.ask()
        if {"path", "history", "trials"} <= changed:
            window.hints.clear()  # another project: what was said and dragged was about the last
            window.form.drop_drag()
            window.flat.drop_drag()
        if "sources" in changed:
            window.looking.follow_sources()
            window.watching.follow()
        if "jackets" in changed:
            window.looking.follow_jackets()
        if changed & {"jackets", "active"}:
            window.set_tabs.refresh()
            mapped = has_uvs(state)
            window.dock.show_filled(mapped)
            if mapped and not self._mapped:
                window.flat.frame_sheet()
            self._mapped = mapped
        if changed & {"jackets", "active", "sights", "gesture"}:
            window.foreseeing.refresh()
        if changed & {"sheets", "active_sheet"}:
            window.flat.show_sheets()
        self._refresh_panel(changed)
        window.hints.show_status()
        window.showing.redraw()
        window.differing.follow()
        if not window.document.in_gesture:
            window.hover_timer.start()

    def _refresh_panel(self, changed: set[str]) -> None:
        """Bring the cards up to date: at once, or, where there is much to look at, in the event loop's next turn."""
        window, state = self.window, self.window.document.state
        if window.document.in_gesture or sum(j.mesh.n_faces for j in state.jackets) < LARGE:
            window.panel.refresh(changed | self._cards_wait)
            self._cards_wait = set()
            return
        self._cards_wait |= changed
        self._cards_timer.start()

    def _refresh_waiting(self) -> None:
        waiting, self._cards_wait = self._cards_wait, set()
        self.window.panel.refresh(waiting)

    def show_looked(self, looked: Looked) -> None:
        """The checks were looked at."""
        window = self.window
        window.top.show_lines(looked.lines)
        window.strip.show_checks(looked.checks)
        window.panel.refresh({"checked"})
        window.showing.redraw_flat()
