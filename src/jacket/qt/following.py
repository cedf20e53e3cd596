"""What is shown anew when the program or the document changes: the one place where the window's parts are told."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from PySide6.QtCore import QObject, QTimer

from jacket.commands.beside import is_large
from jacket.commands.common import has_uvs
from jacket.program import Program
from jacket.qt.cards.panel import Panel
from jacket.qt.checking import Checking, Looked
from jacket.qt.differing import Differing
from jacket.qt.files.watching import Watching
from jacket.qt.foreseeing import Foreseeing
from jacket.qt.hints import Hints
from jacket.qt.looking import Looking
from jacket.qt.outlining import Outlining
from jacket.qt.rail import Rail
from jacket.qt.showing import Showing
from jacket.qt.strip import Strip
from jacket.qt.tickets import TopBar
from jacket.qt.turns import Turns
from jacket.qt.views.dock import Dock
from jacket.qt.views.flat_view import FlatView
from jacket.qt.views.form_view import FormView
from jacket.qt.views.sets import SetTabs


@dataclass(frozen=True, eq=False)
class Parts:
    """The parts of a window that are told: its widgets, what works for the views alone, the turns that heavy pieces take, and the
    timer after which the tool in hand looks again at what is under the pointer."""

    program: Program
    form: FormView
    flat: FlatView
    top: TopBar
    rail: Rail
    strip: Strip
    panel: Panel
    dock: Dock
    set_tabs: SetTabs
    hints: Hints
    looking: Looking
    showing: Showing
    differing: Differing
    outlining: Outlining
    foreseeing: Foreseeing
    checking: Checking
    watching: Watching
    turns: Turns
    hover_timer: QTimer


_DONE = object()


class Following(QObject):
    """Tells the parts of a window what has changed for them."""

    def __init__(self, parts: Parts, parent: QObject) -> None:
        super().__init__(parent)
        self.parts, self.document = parts, parts.program.document
        self._mapped = has_uvs(self.document.state)
        self._cards_wait: set[str] = set()
        self._cards_now: set[str] = set()
        self._cards_left: Iterator[None] = iter(())

    def close(self) -> None:
        """Tell nobody any more."""
        self.parts.turns.drop()

    def program_changed(self, name: str) -> None:
        """Something that the program holds has changed, by its name."""
        parts, program = self.parts, self.parts.program
        if name == "stage":
            stage = program.stage
            parts.top.show_stage(stage.id)
            parts.rail.show_tools(stage.tools, program.tool.id)
            parts.panel.show_stage()
            parts.dock.show_stage(stage.id, stage.looks.flat_share, has_uvs(self.document.state))
            self._look_again()
        if name == "tool":
            parts.rail.show_chosen(program.tool.id)
            for view in (parts.form, parts.flat):
                view.tool = program.tool
                view.refresh_ghost()
            parts.hover_timer.start()
        if name == "work":
            task = program.tasks.running
            parts.strip.show_progress(0.0 if task is not None else None, task.name if task is not None else "")
            parts.hints.show()
        if name in ("stage", "work"):
            parts.foreseeing.refresh()
        if name == "display":
            parts.looking.look_for_uncovered()
        if name in ("display", "stage"):
            parts.looking.follow_gap()
            parts.looking.follow_skins()
        parts.panel.refresh({name})
        if name in ("values", "baked") and not program.tasks.busy:
            self._look_again()
        if name == "values":
            parts.showing.redraw_flat()
        if name == "packing":
            parts.flat.packing.show_view(program.packing)
            parts.showing.redraw_flat()
        if name in ("stage", "display", "lit", "proposal", "strokes", "figures", "baked"):
            parts.showing.redraw()
            parts.differing.follow()
            parts.outlining.follow()

    def document_changed(self, changed: set[str]) -> None:
        """Parts of the document's state have changed, by their names."""
        parts, state = self.parts, self.document.state
        if changed & {"sources", "jackets", "trials", "active", "active_source", "sheets", "sights"}:
            self._look_again()
        if {"path", "history", "trials"} <= changed:
            parts.hints.clear()  # another project: what was said and dragged was about the last
            parts.form.drop_drag()
            parts.flat.drop_drag()
        if "sources" in changed:
            parts.looking.follow_sources()
            parts.watching.follow()
        if "jackets" in changed:
            parts.looking.follow_jackets()
        if changed & {"jackets", "active"}:
            parts.set_tabs.refresh()
            mapped = has_uvs(state)
            parts.dock.show_filled(mapped)
            if mapped and not self._mapped:
                parts.flat.frame_sheet()
            self._mapped = mapped
        if changed & {"jackets", "active", "sights", "gesture"}:
            parts.foreseeing.refresh()
        if changed & {"sheets", "active_sheet"}:
            parts.flat.show_sheets()
        parts.hints.show_status()
        parts.showing.redraw()
        self._refresh_panel(changed)
        parts.differing.follow()
        parts.outlining.follow()
        if not self.document.in_gesture:
            parts.hover_timer.start()

    def _refresh_panel(self, changed: set[str]) -> None:
        """Bring the cards up to date: at once, or, where there is much to look at, in turns after the views."""
        parts, state = self.parts, self.document.state
        if self.document.in_gesture or not is_large(state):
            parts.panel.refresh(changed | self._cards_wait | self._cards_now)
            self._cards_wait, self._cards_now, self._cards_left = set(), set(), iter(())
            parts.turns.drop("cards")
            return
        # What is under way is begun anew: it may look at what was.
        self._cards_wait |= changed | self._cards_now
        self._cards_now, self._cards_left = set(), iter(())
        parts.turns.drop("cards")
        parts.turns.put("cards", self._refresh_waiting)

    def _refresh_waiting(self) -> None:
        """The next piece of what waits; the window sees to other things before the one after it."""
        if self._cards_wait:
            self._cards_now, self._cards_wait = self._cards_wait, set()
            self._cards_left = self.parts.panel.refreshing(self._cards_now)
        if next(self._cards_left, _DONE) is not _DONE:
            self.parts.turns.put("cards", self._refresh_waiting)
        else:
            self._cards_now = set()

    def _look_again(self) -> None:
        """What the checks found may no longer hold, also where it still waits to be shown."""
        self.parts.turns.drop("looked")
        self.parts.checking.ask()

    def show_looked(self, looked: Looked) -> None:
        """The checks were looked at."""
        if is_large(self.document.state):
            self.parts.turns.put("looked", lambda: self._show_looked(looked))
        else:
            self._show_looked(looked)

    def _show_looked(self, looked: Looked) -> None:
        parts = self.parts
        parts.top.show_lines(looked.lines)
        parts.strip.show_checks(looked.checks)
        parts.panel.refresh({"checked"})
        parts.showing.redraw_flat()
