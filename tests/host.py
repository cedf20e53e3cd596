"""The program without a window, for tests: the real one, with work done at once and a front that remembers."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from jacket.commands.display import Heat
from jacket.commands.host import PackView, Place
from jacket.core.bake.made import Bake
from jacket.core.mesh.polymesh import PolyMesh
from jacket.document.document import Document
from jacket.document.state import SourceObject, State
from jacket.document.task import AtOnce
from jacket.program import Program
from jacket.progress import Progress
from jacket.settings import Settings
from jacket.stages.all import STAGES


def put(program: Program, **values: Any) -> None:
    """Set values of stages by their name, whichever stage has them."""
    for name, value in values.items():
        kind = next(s.values for s in STAGES if name in s.values.__dataclass_fields__)
        program.put(kind, name, value)


def toggle(program: Program, name: str) -> None:
    """Switch something of the display, as its chip does."""
    program.show(program.display.toggled(name))


class Front:
    """What a window would do, written down: sentences, what was offered to be done again, and calls by name. Anything that
    a program may not ask of a front is an AttributeError here too."""

    def __init__(self) -> None:
        self.said: list[str] = []
        self.offered: list[Callable[[], None]] = []
        self.calls: list[tuple[str, Any]] = []
        self.answers: list[str | None] = []
        self.filing = Files(self.calls)

    def say(self, text: str) -> None:
        self.said.append(text)

    def offer(self, text: str, again: Callable[[], None]) -> None:
        self.said.append(text)
        self.offered.append(again)

    def ask_text(self, title: str, label: str, text: str) -> str | None:
        return self.answers.pop(0) if self.answers else text

    def frame(self, everything: bool) -> None:
        self.calls.append(("frame", everything))

    def prepare(self, mesh: PolyMesh, progress: Progress) -> None:
        progress(1.0, "ready")

    def prepare_heat(self, heat: Heat) -> None:
        self.calls.append(("prepare_heat", heat.reach))

    def watch_field(self, strokes: Any) -> None:
        self.calls.append(("watch_field", len(strokes)))

    def watch_baking(self, baked: Bake) -> None:
        self.calls.append(("watch_baking", baked.whole))

    def watch_packing(self, view: PackView) -> None:
        self.calls.append(("watch_packing", len(view.curve)))

    def toggle_night(self) -> None:
        self.calls.append(("toggle_night", None))

    def looks_from(self) -> tuple[Place, Place]:
        return (0.0, 1.0, 5.0), (0.0, 0.0, 0.0)

    def refresh_checks(self) -> None:
        self.calls.append(("refresh_checks", None))


class Files:
    """File dialogs that are only written down."""

    def __init__(self, calls: list[tuple[str, Any]]) -> None:
        self.calls = calls
        self.newer: SourceObject | None = None
        self.picture: str | None = None

    def open_source(self) -> None:
        self.calls.append(("open_source", None))

    def open_project(self) -> None:
        self.calls.append(("open_project", None))

    def save(self, ask: bool) -> None:
        self.calls.append(("save", ask))

    def show_kept(self) -> None:
        self.calls.append(("show_kept", None))

    def save_picture(self) -> None:
        self.calls.append(("save_picture", None))

    def choose_picture(self, role: str) -> str | None:
        self.calls.append(("choose_picture", role))
        return self.picture

    def choose_drawing(self) -> str | None:
        self.calls.append(("choose_drawing", None))
        return self.picture

    def deliver(self) -> None:
        self.calls.append(("deliver", None))

    def newer_source(self) -> SourceObject | None:
        return self.newer


class Headless(Program):
    """A program over a state or a document, with its front at hand."""

    front: Front

    def __init__(self, over: State | Document, **values: Any) -> None:
        self.at_once = AtOnce()
        document = over if isinstance(over, Document) else Document(over)
        super().__init__(document, STAGES, Settings(), Front(), self.at_once)
        self.set(**values)

    def set(self, **values: Any) -> None:
        """Set values of stages by their name, whichever stage has them."""
        put(self, **values)

    @property
    def said(self) -> list[str]:
        return self.front.said

    def do(self, *commands: str) -> PolyMesh:
        """Run commands that have to fit; errors are raised, not said. The mesh of the active layer afterwards."""
        for command in commands:
            assert self.commands[command].available(self.document.state), command
            self.commands[command].run(self)
        return self.document.require_jacket().mesh
