"""What commands need of the program around them, in narrow pieces; `Host` is all of them."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Protocol, TypeVar

from jacket.commands.display import Display
from jacket.core.bake.made import Bake
from jacket.core.layout.pack import Glimpse
from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.core.source.mend import Mend
from jacket.core.source.symmetry import Plane
from jacket.document.document import Document
from jacket.document.state import SourceObject, State
from jacket.document.task import Task
from jacket.progress import Progress
from jacket.tools.base import ToolSettings

V = TypeVar("V")
Place = tuple[float, float, float]


class Proposal:
    """A mend that was worked out for a source and is looked at before it is taken."""

    def __init__(self, name: str, source_id: int, before: PolyMesh, mend: Mend) -> None:
        self.name, self.source_id, self.before, self.mend = name, source_id, before, mend


class PackView:
    """Packing that is under way, as it is looked at: the best layout so far of some layers, how the use of the sheets grew
    over the seconds, and whether it is good enough."""

    def __init__(self, layers: tuple[int, ...], seconds: float) -> None:
        self.layers, self.seconds = layers, seconds
        self.curve: list[tuple[float, float]] = []
        self.uvs: tuple[Floats, ...] = ()
        self.enough = False

    def see(self, glimpse: Glimpse) -> None:
        """Take a better layout; called from the packing thread."""
        self.uvs = glimpse.uvs()
        self.curve = [*self.curve, (glimpse.seconds, glimpse.use)]

    def shown(self, state: State) -> State:
        """A state in which the layers lie as the best layout so far has them."""
        for layer, uv in zip(self.layers, self.uvs, strict=True):
            found = next((j for j in state.jackets if j.id == layer), None)
            if found is not None and found.mesh.n_corners == len(uv):
                state = state.with_layer_mesh(layer, found.mesh.with_uv(uv))
        return state


class Edits(Protocol):
    """The document and the values of the stages."""

    document: Document
    tool_settings: ToolSettings

    def values(self, kind: type[V]) -> V: ...
    def put(self, kind: type[Any], name: str, value: Any) -> None: ...


class Talks(Protocol):
    """Sentences to the user and questions with a line of text for an answer."""

    def say(self, text: str) -> None: ...
    def ask_text(self, title: str, label: str, text: str) -> str | None: ...


class Works(Protocol):
    """Work beside the document, and what has to be derived of a source before it can be drawn and picked."""

    def start(self, task: Task) -> None: ...
    def prepare(self, mesh: PolyMesh, progress: Progress) -> None: ...
    def watch_field(self, strokes: Any) -> None: ...
    def watch_packing(self, view: PackView) -> None: ...
    def watch_baking(self, baked: Bake) -> None: ...


class Shows(Protocol):
    """What is looked at."""

    display: Display
    packing: PackView | None
    baked: Bake | None
    delivered: Any

    def keep_baked(self, baked: Bake | None) -> None: ...
    def keep_delivered(self, what: Any) -> None: ...
    def show_stage(self, stage: str) -> None: ...
    def show(self, display: Display) -> None: ...
    def frame(self, everything: bool) -> None: ...
    def show_packing(self, view: PackView | None) -> None: ...
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
    def save_picture(self) -> None: ...
    def choose_picture(self, role: str) -> str | None: ...
    def choose_drawing(self) -> str | None: ...
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
