"""Heavy pieces of what is shown anew, each in a turn of the event loop of its own."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QObject, QTimer


class Turns(QObject):
    """Works that wait for their turn, in the order in which they were put; between two of them events are seen to, and what the
    first has changed is painted in a turn of its own."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._waiting: dict[str, Callable[[], object]] = {}
        self._paints = False
        self._timer = QTimer(self, interval=0, singleShot=True)
        self._timer.timeout.connect(self._next)

    @property
    def busy(self) -> bool:
        """Whether anything waits."""
        return bool(self._waiting)

    def put(self, name: str, work: Callable[[], object]) -> None:
        """Let a work wait for its turn, in place of one of that name that waits."""
        self._waiting[name] = work
        if not self._timer.isActive():
            self._timer.start()

    def drop(self, *names: str) -> None:
        """What no longer has to be done, by name; everything where none is given."""
        for name in names or list(self._waiting):
            self._waiting.pop(name, None)

    def _next(self) -> None:
        if not self._waiting:
            self._paints = False
            return
        if self._paints:
            # The turn in which the last one is painted, which may take as long.
            self._paints = False
        else:
            name = next(iter(self._waiting))
            self._paints = True
            self._waiting.pop(name)()
        self._timer.start()
