"""Pictures over the form view that are found beside the window once the view stands still."""

from __future__ import annotations

from PySide6.QtCore import QObject, QTimer

from jacket.program import Program
from jacket.qt.views.form_view import FormView
from jacket.qt.work import Worker


class Overlooking(QObject):
    """What such pictures share: a worker, and a timer after which the view is looked at."""

    def __init__(self, program: Program, form: FormView, wait: int, parent: QObject) -> None:
        super().__init__(parent)
        self.program, self.form = program, form
        self.worker = Worker(self)
        self._timer = QTimer(self, interval=wait, singleShot=True)
        self._timer.timeout.connect(self._look)
        form.camera_changed.connect(self.follow)

    @property
    def busy(self) -> bool:
        """Whether it is being found."""
        return self.worker.busy or self._timer.isActive()

    def close(self) -> None:
        """Stop and wait."""
        self._timer.stop()
        self.worker.stop()
        self.worker.wait(5)

    def follow(self) -> None:
        """Something changed that it may follow from."""
        raise NotImplementedError

    def _look(self) -> None:
        raise NotImplementedError
