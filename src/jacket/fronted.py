"""What a program asks of what is in front of it: sentences, dialogs, views."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Protocol

from jacket.commands.display import Heat
from jacket.commands.host import Files, PackView, Place
from jacket.core.bake.made import Bake
from jacket.core.mesh.polymesh import PolyMesh
from jacket.document.state import SourceObject
from jacket.progress import Progress


class Front(Protocol):
    """What the program needs of what is in front of it."""

    def say(self, text: str) -> None: ...
    def offer(self, text: str, again: Callable[[], None]) -> None: ...
    def ask_text(self, title: str, label: str, text: str) -> str | None: ...
    def frame(self, everything: bool) -> None: ...
    def prepare(self, mesh: PolyMesh, progress: Progress) -> None: ...
    def prepare_heat(self, heat: Heat) -> None: ...
    def watch_field(self, strokes: Any) -> None: ...
    def watch_packing(self, view: PackView) -> None: ...
    def watch_baking(self, baked: Bake) -> None: ...
    def toggle_night(self) -> None: ...
    def refresh_checks(self) -> None: ...
    def looks_from(self) -> tuple[Place, Place]: ...
    @property
    def filing(self) -> Files: ...


class Fronted:
    """Hands on to the front what commands ask of their host."""

    front: Front

    def say(self, text: str) -> None:
        """A sentence to the user."""
        self.front.say(text)

    def ask_text(self, title: str, label: str, text: str) -> str | None:
        """A line of text from the user; None where it was called off."""
        return self.front.ask_text(title, label, text)

    def frame(self, everything: bool) -> None:
        """Frame what is held, or all."""
        self.front.frame(everything)

    def prepare(self, mesh: PolyMesh, progress: Progress) -> None:
        """Derive what drawing and picking a source need; for the background."""
        self.front.prepare(mesh, progress)

    def watch_field(self, strokes: Any) -> None:
        """Show strokes of a field; may be called from any thread."""
        self.front.watch_field(strokes)

    def watch_packing(self, view: PackView) -> None:
        """Show a better layout; may be called from any thread."""
        self.front.watch_packing(view)

    def toggle_night(self) -> None:
        """The other palette."""
        self.front.toggle_night()

    def refresh_checks(self) -> None:
        """Look at the checks again."""
        self.front.refresh_checks()

    def looks_from(self) -> tuple[Place, Place]:
        """Where one looks from and to."""
        return self.front.looks_from()

    def open_source(self) -> None:
        """Ask for meshes to open as sources."""
        self.front.filing.open_source()

    def open_project(self) -> None:
        """Ask for a project to open."""
        self.front.filing.open_project()

    def save(self, ask: bool) -> None:
        """Save the project, asking for a name where it has none or `ask` says so."""
        self.front.filing.save(ask)

    def deliver(self) -> None:
        """Ask for a folder and deliver there."""
        self.front.filing.deliver()

    def save_picture(self) -> None:
        """Ask for a file and draw the sheets there."""
        self.front.filing.save_picture()

    def choose_picture(self, role: str) -> str | None:
        """Ask for a picture that is to stand for something; None where it was called off."""
        return self.front.filing.choose_picture(role)

    def choose_drawing(self) -> str | None:
        """The path of a drawing over a sheet, None where the dialog was left."""
        return self.front.filing.choose_drawing()

    def show_kept(self) -> None:
        """Show the work that was kept when a window ended without saving."""
        self.front.filing.show_kept()

    def newer_source(self) -> SourceObject | None:
        """The source whose file is newer on disk."""
        return self.front.filing.newer_source()
