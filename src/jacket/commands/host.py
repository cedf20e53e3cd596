"""What commands need of the program around them, in narrow pieces; `Host` is all of them."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Protocol, TypeVar

from jacket.commands.display import Display
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.source.mend import Mend
from jacket.core.source.symmetry import Plane
from jacket.document.document import Document
from jacket.document.state import SourceObject
from jacket.document.task import Task
from jacket.progress import Progress

V = TypeVar("V")
Place = tuple[float, float, float]


class Proposal:
    """A mend that was worked out for a source and is looked at before it is taken."""

    def __init__(self, name: str, source_id: int, before: PolyMesh, mend: Mend) -> None:
        self.name, self.source_id, self.before, self.mend = name, source_id, before, mend


class Edits(Protocol):
    """The document and the values of the stages."""

    document: Document

    def values(self, kind: type[V]) -> V: ...


class Talks(Protocol):
    """Sentences to the user and questions with a line of text for an answer."""

    def say(self, text: str) -> None: ...
    def ask_text(self, title: str, label: str, text: str) -> str | None: ...


class Works(Protocol):
    """Work beside the document, and what has to be derived of a source before it can be drawn and picked."""

    def start(self, task: Task) -> None: ...
    def prepare(self, mesh: PolyMesh, progress: Progress) -> None: ...
    def watch_field(self, strokes: Any) -> None: ...


class Shows(Protocol):
    """What is looked at."""

    display: Display

    def show_stage(self, stage: str) -> None: ...
    def show(self, display: Display) -> None: ...
    def frame(self, everything: bool) -> None: ...
    def toggle_night(self) -> None: ...
    def refresh_checks(self) -> None: ...
    def looks_from(self) -> tuple[Place, Place]: ...


class Files(Protocol):
    """What needs a file dialog."""

    def open_source(self) -> None: ...
    def open_project(self) -> None: ...
    def save(self, ask: bool) -> object: ...
    def show_kept(self) -> None: ...
    def deliver(self) -> None: ...
    def newer_source(self) -> SourceObject | None: ...


class Proposes(Protocol):
    """What waits for a yes or no, and the mirror plane that was found."""

    proposal: Proposal | None
    mirror_plane: Plane | None

    def propose(self, proposal: Proposal | None) -> None: ...
    def show_mirror(self, source: SourceObject | None, plane: Plane | None) -> None: ...


class Host(Edits, Talks, Works, Shows, Files, Proposes, Protocol):
    """All of it."""


Run = Callable[[Host], object]
