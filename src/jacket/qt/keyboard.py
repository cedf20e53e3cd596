"""Keys: what the tool in hand takes, then tools and commands of a single character."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent

from jacket.commands.keys import plain_command, tool_of_key
from jacket.program import Program
from jacket.qt.views.flat_view import FlatView
from jacket.qt.views.form_view import FormView

ENTER = (Qt.Key.Key_Return, Qt.Key.Key_Enter)


class Keyboard:
    """Gives keys to the view under the pointer and its tool."""

    def __init__(self, program: Program, form: FormView, flat: FlatView, changed: Callable[[], None]) -> None:
        self.program, self.form, self.flat, self.changed = program, form, flat, changed

    def view(self) -> Any:
        """The view under the pointer, the form view where it is over none."""
        for view in (self.form, self.flat):
            if view.overlay.pointer.x() >= 0:
                return view
        return self.form

    def rehover(self) -> None:
        """Look again at what is under the pointer, so that the ghost is true."""
        tool = self.program.tool
        if tool.busy or tool.previews or self.program.document.in_gesture or self.form.dragged or self.flat.dragged:
            return
        for view in (self.form, self.flat):
            if view.overlay.pointer.x() >= 0 and view.isVisible():
                pointer = view.pointer_now()
                if pointer is not None:
                    view.act(partial(tool.hover, pointer))
                    return
        tool.leave()
        for view in (self.form, self.flat):
            view.refresh_ghost()

    def press(self, event: QKeyEvent) -> bool:
        """Take a key; whether it meant something."""
        key, text = event.key(), event.text()
        if self._for_proposal(key) or self._for_tool(key, text):
            self.changed()
            return True
        if event.modifiers() != Qt.KeyboardModifier.NoModifier:
            return False
        return self._for_stage(text.upper())

    def _for_proposal(self, key: int) -> bool:
        if self.program.proposal is None or key not in (*ENTER, Qt.Key.Key_Escape):
            return False
        answer = "leave-proposal" if key == Qt.Key.Key_Escape else "take-proposal"
        self.program.run(self.program.commands[answer])
        return True

    def _for_tool(self, key: int, text: str) -> bool:
        view, tool = self.view(), self.program.tool
        if key in ENTER and tool.pending:
            view.act(tool.accept)
        elif key == Qt.Key.Key_Escape:
            view.act(lambda: None if tool.cancel() else tool.leave())
        elif key == Qt.Key.Key_Space:
            view.act(tool.step)
        elif key == Qt.Key.Key_Backspace:
            pointer = view.pointer_now()
            if pointer is not None:
                view.act(lambda: tool.remove(pointer))
        elif text in ("[", "]"):
            settings = self.program.tool_settings
            settings.brush = float(np.clip(settings.brush * (1.15 if text == "]" else 1 / 1.15), 6, 400))
            self.program.take_note("tool")
        else:
            return False
        return True

    def _for_stage(self, text: str) -> bool:
        tool = tool_of_key(self.program.stage, text)
        if tool is not None:
            self.program.take_tool(tool.id)
            return True
        command = plain_command(self.program.commands, text)
        if command is not None:
            self.program.run(command)
            return True
        return False
