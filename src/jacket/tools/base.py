"""What every tool is: a state machine over pointer events that shows ghosts and makes edits."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

from jacket.core.mesh.polymesh import Ints, PolyMesh
from jacket.document.document import Document
from jacket.tools.events import NO_GHOST, Ghost, Pointer


@dataclass(frozen=True)
class Option:
    """A setting of a tool that its card shows: the attribute, its label, and what it takes. kind: "count", "number",
    "switch" or "choice" (of `choices`, pairs of value and label)."""

    name: str
    label: str
    kind: str = "count"
    low: float = 0
    high: float = 1e9
    unit: str = ""
    choices: tuple[tuple[str, str], ...] = ()


@dataclass
class ToolSettings:
    """Values that all tools share; sizes are in pixels on the screen."""

    reach: float = 9.0
    brush: float = 60.0
    strength: float = 0.5
    which: str = "all"
    """What brushes move: "all", "inside" or "border" points."""
    connected: bool = True
    """Whether brushes move only what edges join to the point under them."""
    falloff: str = "smooth"
    pivot: str = "middle"
    """What islands turn and grow about: a point of their box, "sheet", "origin" or "each"."""
    snap: str = "free"
    grid: float = 32.0
    """How islands are moved on the sheet, and pixels of the grid that they may keep to."""
    lamp_turn: float = 0.0
    wipe: float = 1.0
    baked: Any = None
    """Where the light stands, in degrees; how much of the view shows the light mesh beside the dense one; and the maps that
    were baked last (core/bake/made.py)."""
    picture: str = ""
    decal: int = -1
    decal_role: str = "colour"
    """The picture that Decal lays on, the decal that was touched last, and the map new ones lie in."""
    likeness: float = 1.0
    mirror_twins: bool = True
    """Per cent of their size by which twins may differ, and whether mirror images are twins."""


@dataclass(frozen=True, eq=False)
class Asked:
    """What a tool wants to have worked out beside the window for what is under the pointer: what becomes of a mesh when
    edges are cut or sewn, and which of how many offers that is."""

    mesh: PolyMesh
    edges: Ints
    turn: int = 0
    offers: int = 1


class Tool:
    """Base of all tools. `ghost` is what the overlay shows; views call the methods below.

    Every method may raise EditRefused; the document is then unchanged and the sentence is shown.
    """

    id: ClassVar[str] = ""
    label: ClassVar[str] = ""
    stage: ClassVar[str] = ""
    key: ClassVar[str] = ""
    brush: ClassVar[bool] = False
    strong: ClassVar[bool] = True
    """Whether a brush has a strength."""
    takes_wheel: ClassVar[bool] = False
    """Whether the wheel is the tool's even when nothing is drawn yet, over what the tool works on."""
    lit: ClassVar[bool] = False
    """Whether its work is seen only as a game shows it."""
    legend: ClassVar[tuple[tuple[str, str], ...]] = ()
    options: ClassVar[tuple[Option, ...]] = ()
    actions: ClassVar[tuple[str, ...]] = ()
    """Commands that the tool's card shows as buttons."""

    def __init__(self, document: Document, settings: ToolSettings) -> None:
        self.document = document
        self.settings = settings
        self.ghost: Ghost = NO_GHOST
        self.asks: Asked | None = None
        self.note = ""
        """A sentence to show once: why a part of what was done was left out."""

    @property
    def busy(self) -> bool:
        """Whether a drag is going on."""
        return False

    @property
    def lags(self) -> bool:
        """Whether a drag is not where the pointer is: the last move is then made once more as soon as there is time."""
        return False

    def hover(self, pointer: Pointer) -> None:
        """The pointer moved with no button down."""

    def press(self, pointer: Pointer) -> None:
        """The left button went down."""

    def move(self, pointer: Pointer) -> None:
        """The pointer moved with the left button down."""

    def release(self, pointer: Pointer) -> None:
        """The left button came up."""

    @property
    def pending(self) -> bool:
        """Whether something drawn waits for Enter."""
        return False

    def accept(self) -> None:
        """Enter: take what waits."""

    def wheel(self, steps: float) -> bool:
        """The wheel while something is drawn or waits; whether the tool used it."""
        return False

    def ctrl_wheel(self, steps: float, pointer: Pointer) -> bool:
        """The wheel with Ctrl, for tools that are no brush; whether the tool used it."""
        return False

    def option(self, name: str) -> Any:
        """A setting of the card: the tool's own, or one that all tools share."""
        return getattr(self if hasattr(self, name) else self.settings, name)

    def set_option(self, name: str, value: Any) -> None:
        """Take a setting from the card; what waits is shown anew."""
        setattr(self if hasattr(self, name) else self.settings, name, value)

    def step(self) -> None:
        """Space: the next of the things that could happen here."""

    def remove(self, pointer: Pointer) -> None:
        """Backspace: remove what is under the pointer."""

    def cancel(self) -> bool:
        """Escape: drop the gesture; whether there was one."""
        had = self.busy
        self.document.rollback()
        self.ghost = NO_GHOST
        return had

    @property
    def previews(self) -> bool:
        """Whether the ghost shows what a button of the card would do, whatever is under the pointer."""
        return False

    def leave(self) -> None:
        """The pointer left the view or the tool is put away."""
        self.ghost = NO_GHOST
