"""Noticing that the file of a source changed on disk, once it has been written to its end."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QFileSystemWatcher, QObject, QTimer, Signal

from jacket.document.document import Document
from jacket.document.state import SourceObject
from jacket.stages.source.reading import stamp_of


class Watching(QObject):
    """Watches the files of all sources. Programs that save write pieces or replace the file: a change counts
    when the file has stood still for two looks."""

    found = Signal(object)

    def __init__(self, document: Document, parent: QObject) -> None:
        super().__init__(parent)
        self.document = document
        self.watcher = QFileSystemWatcher(self)
        self.timer = QTimer(self, interval=500, singleShot=True)
        self.timer.timeout.connect(self._look)
        self.watcher.fileChanged.connect(lambda _: self.timer.start())
        self.watcher.directoryChanged.connect(lambda _: self.timer.start())
        self._last: dict[int, tuple[int, int]] = {}
        self._left: set[tuple[int, tuple[int, int]]] = set()

    def follow(self) -> None:
        """The sources changed: watch their files and folders."""
        paths = [s.path for s in self.document.state.sources if s.path]
        wanted = {p for p in paths if Path(p).exists()} | {
            str(Path(p).parent) for p in paths if Path(p).parent.is_dir()
        }
        present = set(self.watcher.files()) | set(self.watcher.directories())
        if present - wanted:
            self.watcher.removePaths(sorted(present - wanted))
        if wanted - present:
            self.watcher.addPaths(sorted(wanted - present))
        if any(self._differs(s) for s in self.document.state.sources):
            self.timer.start()
        self.found.emit(self.changed())

    def _differs(self, source: SourceObject) -> bool:
        now = stamp_of(source.path) if source.path else (0, 0)
        known = source.stamp != (0, 0) and now != (0, 0) and now != source.stamp
        return known and (source.id, now) not in self._left

    def changed(self) -> SourceObject | None:
        """A source whose file is newer and has stood still: the chosen one where it is one of several."""
        chosen = self.document.state.chosen_source
        rows = sorted(self.document.state.sources, key=lambda s: chosen is None or s.id != chosen.id)
        for source in rows:
            if self._differs(source) and self._last.get(source.id) == stamp_of(source.path):
                return source
        return None

    def leave(self) -> None:
        """Do not offer this version of the file again."""
        source = self.changed()
        if source is None:
            return
        self._left.add((source.id, stamp_of(source.path)))
        self.found.emit(self.changed())

    def _look(self) -> None:
        again = False
        for source in self.document.state.sources:
            now = stamp_of(source.path) if source.path else (0, 0)
            if self._differs(source) and self._last.get(source.id) != now:
                again = True
            self._last[source.id] = now
        self.follow_replaced()
        if again:
            self.timer.start()
        self.found.emit(self.changed())

    def follow_replaced(self) -> None:
        """A file that was replaced by another of its name has to be watched anew."""
        for source in self.document.state.sources:
            if source.path and Path(source.path).exists() and source.path not in self.watcher.files():
                self.watcher.addPath(source.path)
