"""The interpreter's search for cycles, kept short: it holds everybody up while it looks at all there is."""

from __future__ import annotations

import gc
from collections.abc import Callable

from PySide6.QtCore import QObject, QTimer

LOOK = 2000
"""Milliseconds between two looks whether there is much to leave out."""
MANY = 40_000
"""Objects that have outlived two searches from which on they are left out of further ones; about a quarter of a microsecond each
and more."""


class Collecting(QObject):
    """What has come to stay while the window is at rest is left out of all further searches for cycles.

    Modules, compiled kernels and widgets are most of all objects and never go: looking at them takes 100 to 150 ms, and any
    thread that makes many objects can set that off. What is freed by its count of users, as documents and meshes are, is
    freed as before.
    """

    def __init__(self, at_rest: Callable[[], bool], parent: QObject) -> None:
        super().__init__(parent)
        self._at_rest = at_rest
        self._timer = QTimer(self, interval=LOOK)
        self._timer.timeout.connect(self.look)
        self._timer.start()
        gc.freeze()

    def look(self) -> None:
        """Leave out what is there, where that is much and nothing is under way."""
        if not self._at_rest() or len(gc.get_objects(generation=2)) < MANY:
            return
        gc.collect()
        gc.freeze()
