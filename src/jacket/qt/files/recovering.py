"""Work that was kept when a window ended without saving: listed with time, name and picture, brought back or given up."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QBuffer, QByteArray, QIODevice, QObject, QSize, Qt
from PySide6.QtGui import QIcon, QPixmap
from PySide6.QtOpenGLWidgets import QOpenGLWidget
from PySide6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from jacket.commands.general import project_name
from jacket.document.state import State
from jacket.document.task import Task
from jacket.errors import FormatError
from jacket.program import Program
from jacket.progress import Progress
from jacket.qt.files.filing import Filing, made_ready
from jacket.qt.files.keeping import Kept, forget, left_behind, recover

PICTURE = QSize(168, 105)


class KeptWork(QDialog):
    """The list: one can be brought back at a time; closing it keeps everything."""

    def __init__(self, rows: list[Kept], parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Kept work")
        self.setMinimumSize(600, 380)
        self.rows = rows
        self.list = QListWidget()
        self.list.setIconSize(PICTURE)
        self.list.setSpacing(3)
        self.back = QPushButton("Bring it back")
        self.back.setObjectName("main")
        self.drop = QPushButton("Give it up")
        self.later = QPushButton("Leave it for later")
        words = QLabel("This work was not saved when its window ended. It stays here until it is saved or given up.")
        words.setWordWrap(True)
        column, buttons = QVBoxLayout(self), QHBoxLayout()
        column.addWidget(words)
        column.addWidget(self.list, 1)
        buttons.addWidget(self.drop)
        buttons.addStretch(1)
        buttons.addWidget(self.later)
        buttons.addWidget(self.back)
        column.addLayout(buttons)
        self.back.clicked.connect(self.accept)
        self.later.clicked.connect(self.reject)
        self.drop.clicked.connect(self._drop)
        self.list.itemDoubleClicked.connect(lambda _: self.accept())
        self.list.currentRowChanged.connect(self._marked)
        self._fill()

    def _fill(self) -> None:
        self.list.clear()
        for kept in self.rows:
            item = QListWidgetItem(_icon(kept.picture), in_lines(kept))
            item.setSizeHint(QSize(0, PICTURE.height() + 10))
            item.setToolTip(kept.path or str(kept.file))
            self.list.addItem(item)
        self.list.setCurrentRow(0 if self.rows else -1)
        if not self.rows:
            self.reject()

    @property
    def chosen(self) -> Kept | None:
        """The row that is marked."""
        k = self.list.currentRow()
        return self.rows[k] if 0 <= k < len(self.rows) else None

    def _marked(self, row: int) -> None:
        self.back.setEnabled(row >= 0)
        self.drop.setEnabled(row >= 0)

    def _drop(self) -> None:
        kept = self.chosen
        if kept is not None:
            forget(kept.file)
            self.rows.remove(kept)
            self._fill()


def in_lines(kept: Kept) -> str:
    """A row in words: name, when, what is in it."""
    name = project_name(kept.path)
    when = time.strftime("%A %d %B, %H:%M", time.localtime(kept.when))
    return "\n".join([name[:1].upper() + name[1:] if not kept.path else name, when, *([kept.holds] if kept.holds else [])])


def picture_of(view: QOpenGLWidget) -> Callable[[], bytes]:
    """What a view shows, small; the PNG is made when it is called, in any thread."""
    image = view.grabFramebuffer().scaled(2 * PICTURE.width(), 2 * PICTURE.height(), Qt.AspectRatioMode.KeepAspectRatioByExpanding)

    def encode() -> bytes:
        data = QByteArray()
        buffer = QBuffer(data)
        buffer.open(QIODevice.OpenModeFlag.WriteOnly)
        image.save(buffer, "PNG")  # type: ignore[call-overload]
        return bytes(data.data())

    return encode


def _icon(path: Path) -> QIcon:
    picture = QPixmap(str(path)) if path.exists() else QPixmap()
    if picture.isNull():
        picture = QPixmap(PICTURE)
        picture.fill(Qt.GlobalColor.transparent)
    small = picture.scaled(PICTURE, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation)
    icon = QIcon(small)
    icon.addPixmap(small, QIcon.Mode.Selected)  # a marked row keeps the picture's own colours
    return icon


class Recovering(QObject):
    """Offers kept work and brings it back."""

    def __init__(self, program: Program, filing: Filing, window: QWidget) -> None:
        super().__init__(window)
        self.program, self.filing, self.window = program, filing, window
        self.dialog: KeptWork | None = None

    def offer(self, quietly: bool) -> None:
        """At the start: show the list where there is kept work, or, beside files that were named, only say so."""
        rows = self.waiting()
        if not rows:
            return
        if quietly:
            count = f"{len(rows)} piece{'s' if len(rows) > 1 else ''} of unsaved work {'are' if len(rows) > 1 else 'is'} kept"
            self.program.say(f"{count} from before: find 'Kept work' in the search.")
        else:
            self.show()

    def waiting(self) -> list[Kept]:
        """Kept work that is not on the bench already."""
        taken = self.filing.keeper.adopted
        return [kept for kept in left_behind() if kept.file not in taken]

    def show(self) -> None:
        """The list of kept work."""
        rows = self.waiting()
        if not rows:
            self.program.say("No unsaved work is kept from before.")
            return
        self.dialog = KeptWork(rows, self.window)
        self.dialog.accepted.connect(self._chosen)
        self.dialog.open()

    def _chosen(self) -> None:
        kept = self.dialog.chosen if self.dialog is not None else None
        if kept is not None:
            self.take(kept)

    def take(self, kept: Kept) -> None:
        """Bring kept work back as unsaved work; what is on the bench is asked about first."""
        if not self.filing.may_leave():
            return
        before = self.program.document.state

        def job(progress: Progress) -> State:
            try:
                return made_ready(recover(kept), progress)
            except FormatError:
                raise FormatError("That kept work is damaged and cannot be brought back; the others are not touched.") from None

        def merge(state: State) -> None:
            if self.filing.left(before):
                self.filing.show_project(state, kept.path, kept.stamp)
                self.program.document.mark_recovered()
                # It is kept until the work has been saved or given up: a second crash must not lose it.
                self.filing.keeper.adopt(kept.file)

        self.program.start(Task("bring kept work back", job, merge))
