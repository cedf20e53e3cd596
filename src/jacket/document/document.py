"""The document: one state, one history, changes told to listeners."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass

import numpy as np

from jacket.core.mesh.polymesh import PolyMesh
from jacket.document.history import History
from jacket.document.islands import with_island_numbers
from jacket.document.state import Held, JacketObject, SourceObject, State
from jacket.errors import JacketError

Listener = Callable[[set[str]], None]

PARTS = ("sources", "jackets", "trials", "active", "mirror", "sheets", "active_sheet", "held", "active_source", "picked",
         "guides", "paint", "shown_trial", "sights")  # fmt: skip
_PASSING = ("held", "active_source", "picked", "shown_trial", "active_sheet")
"""What may change without there being anything to save."""


@dataclass(frozen=True, eq=False)
class _Gesture:
    name: str
    before: State


class Document:
    """All edits go through here; each named step can be undone and done again.

    Listeners are called with the names of what changed: the fields of State, "history", "path"; and with "gesture" when
    one has ended.
    """

    def __init__(self, state: State | None = None, path: str = "") -> None:
        self.state = state or State()
        self.path = path
        self.history = History()
        self.listeners: list[Listener] = []
        self._saved: State = self.state
        self._gesture: _Gesture | None = None
        self._gathered: set[str] | None = None

    # ---- listening ---------------------------------------------------
    def listen(self, listener: Listener) -> None:
        """Call `listener` after every change."""
        self.listeners.append(listener)

    def _tell(self, before: State, *extra: str) -> None:
        changed = {p for p in PARTS if getattr(before, p) is not getattr(self.state, p)} | set(extra)
        if self._gathered is not None:
            self._gathered |= changed
            return
        for listener in list(self.listeners):
            listener(changed)

    # ---- steps ---------------------------------------------------------
    @property
    def last_step(self) -> str:
        """Name of the step that undoing would take back; empty where there is none."""
        return self.history.done[-1].name if self.history.done else ""

    def apply(self, name: str, state: State, numbered: bool = False) -> None:
        """Make `state` the present one as a step of its own; inside a gesture it only replaces. `numbered` says that its
        islands are numbered already."""
        before = self.state
        if self._gesture is None:
            state = state if numbered else with_island_numbers(before, state)
            self.history.record(name, before, state)
        self.state = state
        self._tell(before, "history")

    def amend(self, state: State) -> None:
        """Change what is no step: what is held, what is visible. Undoing the last step does not bring it back."""
        before = self.state
        self.state = state
        self._tell(before)

    @property
    def in_gesture(self) -> bool:
        """Whether a gesture is going on: nothing from outside may change the document now."""
        return self._gesture is not None

    def begin(self, name: str) -> None:
        """Start a gesture: everything until `commit` is one step."""
        if self._gesture is not None:
            self.commit()
        self._gesture = _Gesture(name, self.state)

    @property
    def gesture_base(self) -> State:
        """The state when the running gesture began."""
        return self._gesture.before if self._gesture is not None else self.state

    def commit(self, name: str | None = None) -> None:
        """End the gesture; nothing is recorded when nothing changed."""
        gesture, self._gesture = self._gesture, None
        before = self.state
        if gesture is not None and gesture.before is not self.state:
            if not only_passing(gesture.before, self.state):
                self.state = with_island_numbers(gesture.before, self.state)
                self.history.record(name or gesture.name, gesture.before, self.state)
        self._tell(before, "history", *(("gesture",) if gesture is not None else ()))

    def rollback(self) -> None:
        """Drop the gesture and go back to where it began."""
        gesture, self._gesture = self._gesture, None
        if gesture is not None:
            before, self.state = self.state, gesture.before
            self._tell(before, "history", "gesture")

    @contextmanager
    def transaction(self, name: str) -> Iterator[None]:
        """Several changes as one step, of which listeners hear once, at its end; an error takes all of them back."""
        self.begin(name)
        self._gathered = gathered = set[str]()
        try:
            yield
        except BaseException:
            self.rollback()
            raise
        else:
            self.commit()
        finally:
            self._gathered = None
            self._tell(self.state, *gathered)

    def undo(self) -> str | None:
        """Take the last step back; its name, or None when there is none. What is shown and hidden stays."""
        self.rollback()
        step = self.history.back(self.state)
        return self._stepped(step.name, step.state) if step is not None else None

    def redo(self) -> str | None:
        """Do the last undone step again; its name, or None."""
        self.rollback()
        step = self.history.forth(self.state)
        return self._stepped(step.name, step.state) if step is not None else None

    def _stepped(self, name: str, state: State) -> str:
        before, self.state = self.state, state.seen_like(self.state)
        self._tell(before, "history")
        return name

    # ---- saved or not ---------------------------------------------------
    @property
    def dirty(self) -> bool:
        """Whether there is work that the project file does not hold."""
        a, b = self.state, self._saved
        return any(getattr(a, p) is not getattr(b, p) for p in PARTS if p not in _PASSING)

    def mark_saved(self, path: str, state: State | None = None) -> None:
        """Remember that a state, the present one unless given, is on disk."""
        self.path, self._saved = path, state if state is not None else self.state
        self._tell(self.state, "path")

    def open(self, state: State, path: str) -> None:
        """Show another project in place of the present one; its history starts here."""
        before = self.state
        self._gesture = None
        self.state = state
        self.history.clear()
        self.path, self._saved = path, state
        self._tell(before, "history", "path", *PARTS)

    def mark_recovered(self) -> None:
        """The state came from an autosave: the project file does not hold it."""
        self._saved = State()
        self._tell(self.state, "path")

    # ---- what is worked on --------------------------------------------------
    def require_jacket(self) -> JacketObject:
        """The active jacket; raises a sentence when there is none."""
        jacket = self.state.jacket
        if jacket is None:
            raise JacketError("There is no jacket yet; draw quads or make a trial first.")
        return jacket

    def open_jacket(self) -> JacketObject:
        """The active jacket; raises a sentence when there is none or it is locked."""
        jacket = self.require_jacket()
        if jacket.locked:
            raise JacketError(f"{jacket.name} is locked; unlock it on the bench first.")
        return jacket

    def require_source(self) -> SourceObject:
        """The source; raises a sentence when there is none."""
        source = self.state.source
        if source is None:
            raise JacketError("There is no source yet; open a sculpt or scan first.")
        return source

    def open_source(self) -> SourceObject:
        """The chosen source; raises a sentence when there is none or it is locked."""
        source = self.state.chosen_source
        if source is None:
            raise JacketError("There is no source yet; open a sculpt or scan first.")
        if source.locked:
            raise JacketError(f"{source.name} is locked; unlock it on the bench first.")
        return source

    def edit_jacket(self, name: str, mesh: PolyMesh, held: Held | None = None) -> None:
        """Replace the active jacket's mesh as one step (or within the running gesture); refused while it is locked."""
        self.edit_layer(name, self.open_jacket().id, mesh, held)

    def edit_layer(self, name: str, layer_id: int, mesh: PolyMesh, held: Held | None = None) -> None:
        """Replace the mesh of a layer by its id as one step. Raises JacketError where it is gone or locked."""
        layer = next((j for j in self.state.jackets if j.id == layer_id), None)
        if layer is None:
            raise JacketError("That layer is gone meanwhile; nothing was changed.")
        if layer.locked:
            raise JacketError(f"{layer.name} is locked; unlock it on the bench first.")
        self.apply(name, self.state.with_layer_mesh(layer_id, mesh, held))

    def hold(self, kind: str, ids: object) -> None:
        """Hold elements of the active jacket; this is no step of its own."""
        self.hold_all(Held(kind, np.unique(np.asarray(ids, np.int32))))

    def hold_all(self, held: Held) -> None:
        """Hold elements of several kinds; no step of its own."""
        self.amend(self.state.with_(held=held))


def only_passing(before: State, after: State) -> bool:
    """Whether two states differ only in what is no step: what is held, chosen, looked at."""
    return all(getattr(before, p) is getattr(after, p) for p in PARTS if p not in _PASSING)
