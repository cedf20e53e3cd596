"""Noticing that the file of a source changed on disk, once it has been written to its end."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QFileSystemWatcher, QTimer

from jacket.document.state import SourceObject

if TYPE_CHECKING:
    from jacket.qt.window import Window


def stamp_of(path: Path | str) -> tuple[int, int]:
    """Time (ns) and size of a file; noughts where there is none."""
    try:
        status = Path(path).stat()
    except (OSError, ValueError):
        return (0, 0)
    return (status.st_mtime_ns, status.st_size)


class Watching:
    """Watches the files of all sources. Programs that save write pieces or replace the file: a change counts
    when the file has stood still for two looks."""

    def __init__(self, window: Window) -> None:
        self.window = window
        self.watcher = QFileSystemWatcher(window)
        self.timer = QTimer(window, interval=500, singleShot=True)
        self.timer.timeout.connect(self._look)
        self.watcher.fileChanged.connect(lambda _: self.timer.start())
        self.watcher.directoryChanged.connect(lambda _: self.timer.start())
        self._last: dict[int, tuple[int, int]] = {}
        self._left: set[tuple[int, tuple[int, int]]] = set()

    def follow(self) -> None:
        """The sources changed: watch their files and folders."""
        paths = [s.path for s in self.window.document.state.sources if s.path]
        wanted = {p for p in paths if Path(p).exists()} | {
            str(Path(p).parent) for p in paths if Path(p).parent.is_dir()
        }
        present = set(self.watcher.files()) | set(self.watcher.directories())
        if present - wanted:
            self.watcher.removePaths(sorted(present - wanted))
        if wanted - present:
            self.watcher.addPaths(sorted(wanted - present))
        if any(self._differs(s) for s in self.window.document.state.sources):
            self.timer.start()

    def _differs(self, source: SourceObject) -> bool:
        now = stamp_of(source.path) if source.path else (0, 0)
        known = source.stamp != (0, 0) and now != (0, 0) and now != source.stamp
        return known and (source.id, now) not in self._left

    def changed(self) -> SourceObject | None:
        """A source whose file is newer and has stood still."""
        for source in self.window.document.state.sources:
            if self._differs(source) and self._last.get(source.id) == stamp_of(source.path):
                return source
        return None

    def leave(self, source: SourceObject) -> None:
        """Do not offer this version of the file again."""
        self._left.add((source.id, stamp_of(source.path)))
        self.window.panel.show_changed(self.changed())

    def _look(self) -> None:
        again = False
        for source in self.window.document.state.sources:
            now = stamp_of(source.path) if source.path else (0, 0)
            if self._differs(source) and self._last.get(source.id) != now:
                again = True
            self._last[source.id] = now
        self.follow_replaced()
        if again:
            self.timer.start()
        self.window.panel.show_changed(self.changed())

    def follow_replaced(self) -> None:
        """A file that was replaced by another of its name has to be watched anew."""
        for source in self.window.document.state.sources:
            if source.path and Path(source.path).exists() and source.path not in self.watcher.files():
                self.watcher.addPath(source.path)
