"""The document: one state, one history, changes told to listeners."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from typing import Any

from jacket.core.mesh.polymesh import PolyMesh
from jacket.document.state import Held, JacketObject, SourceObject, State, Trial
from jacket.errors import JacketError

Listener = Callable[[set[str]], None]

PARTS = ("sources", "jackets", "trials", "active", "mirror", "sheet", "held")


@dataclass(frozen=True, eq=False)
class Step:
    """A named step of the history and the state before it."""

    name: str
    before: State


class Document:
    """All edits go through here; each named step can be undone and done again.

    Listeners are called with the names of what changed: the fields of State, "history", "path".
    """

    def __init__(self, state: State | None = None, path: str = "") -> None:
        self.state = state or State()
        self.path = path
        self.undo_steps: list[Step] = []
        self.redo_steps: list[Step] = []
        self.listeners: list[Listener] = []
        self._saved: State = self.state
        self._gesture: Step | None = None

    # ---- listening ---------------------------------------------------
    def listen(self, listener: Listener) -> None:
        """Call `listener` after every change."""
        self.listeners.append(listener)

    def _tell(self, before: State, *extra: str) -> None:
        changed = {p for p in PARTS if getattr(before, p) is not getattr(self.state, p)} | set(extra)
        for listener in list(self.listeners):
            listener(changed)

    # ---- steps ---------------------------------------------------------
    def apply(self, name: str, state: State) -> None:
        """Make `state` the present one as a step of its own; inside a gesture it only replaces."""
        before = self.state
        if self._gesture is None:
            self.undo_steps.append(Step(name, before))
            self.redo_steps.clear()
        self.state = state
        self._tell(before, "history")

    def amend(self, state: State) -> None:
        """Change what is no step: what is held, what is visible."""
        before = self.state
        self.state = state
        self._tell(before)

    def begin(self, name: str) -> None:
        """Start a gesture: everything until `commit` is one step."""
        if self._gesture is not None:
            self.commit()
        self._gesture = Step(name, self.state)

    @property
    def gesture_base(self) -> State:
        """The state when the running gesture began."""
        return self._gesture.before if self._gesture is not None else self.state

    def commit(self, name: str | None = None) -> None:
        """End the gesture; nothing is recorded when nothing changed."""
        step, self._gesture = self._gesture, None
        if step is not None and step.before is not self.state:
            self.undo_steps.append(Step(name or step.name, step.before))
            self.redo_steps.clear()
        self._tell(self.state, "history")

    def rollback(self) -> None:
        """Drop the gesture and go back to where it began."""
        step, self._gesture = self._gesture, None
        if step is not None:
            before, self.state = self.state, step.before
            self._tell(before, "history")

    @contextmanager
    def transaction(self, name: str) -> Iterator[None]:
        """Several changes as one step; an error takes all of them back."""
        self.begin(name)
        try:
            yield
        except BaseException:
            self.rollback()
            raise
        self.commit()

    def undo(self) -> str | None:
        """Take the last step back; its name, or None when there is none."""
        self.rollback()
        if not self.undo_steps:
            return None
        step = self.undo_steps.pop()
        self.redo_steps.append(Step(step.name, self.state))
        before, self.state = self.state, step.before
        self._tell(before, "history")
        return step.name

    def redo(self) -> str | None:
        """Do the last undone step again; its name, or None."""
        if not self.redo_steps:
            return None
        step = self.redo_steps.pop()
        self.undo_steps.append(Step(step.name, self.state))
        before, self.state = self.state, step.before
        self._tell(before, "history")
        return step.name

    # ---- saved or not ---------------------------------------------------
    @property
    def dirty(self) -> bool:
        """Whether there is work that the project file does not hold."""
        a, b = self.state, self._saved
        return any(getattr(a, p) is not getattr(b, p) for p in PARTS if p != "held")

    def mark_saved(self, path: str) -> None:
        """Remember that the present state is on disk."""
        self.path, self._saved = path, self.state
        self._tell(self.state, "path")

    def open(self, state: State, path: str) -> None:
        """Show another project in place of the present one; its history starts here."""
        before = self.state
        self._gesture = None
        self.state = state
        self.undo_steps.clear()
        self.redo_steps.clear()
        self.path, self._saved = path, state
        self._tell(before, "history", "path", *PARTS)

    def mark_recovered(self) -> None:
        """The state came from an autosave: the project file does not hold it."""
        self._saved = State()
        self._tell(self.state, "path")

    # ---- objects ---------------------------------------------------------
    def require_jacket(self) -> JacketObject:
        """The active jacket; raises a sentence when there is none."""
        jacket = self.state.jacket
        if jacket is None:
            raise JacketError("There is no jacket yet; draw quads or make a trial first.")
        return jacket

    def require_source(self) -> SourceObject:
        """The source; raises a sentence when there is none."""
        source = self.state.source
        if source is None:
            raise JacketError("There is no source yet; open a sculpt or scan first.")
        return source

    def add_source(self, name: str, mesh: PolyMesh, path: str = "") -> None:
        """Add a source as one step, with an empty jacket when there is none yet."""
        s = self.state
        source = SourceObject(s.next_id, name, mesh, path)
        state = s.with_(sources=(*s.sources, source), next_id=s.next_id + 1)
        if not s.jackets:
            jacket = JacketObject(state.next_id, "Jacket", PolyMesh.empty())
            state = state.with_(jackets=(jacket,), active=jacket.id, next_id=state.next_id + 1)
        self.apply(f"open {name}", state)

    def edit_jacket(self, name: str, mesh: PolyMesh, held: Held | None = None) -> None:
        """Replace the active jacket's mesh as one step (or within the running gesture)."""
        self.require_jacket()
        self.apply(name, self.state.with_jacket_mesh(mesh, held))

    def hold(self, kind: str, ids: Any) -> None:
        """Hold elements of the active jacket; this is no step of its own."""
        import numpy as np

        self.amend(self.state.with_(held=Held(kind, np.unique(np.asarray(ids, np.int32)))))

    def add_trial(self, mesh: PolyMesh, settings: dict[str, Any], figures: dict[str, Any]) -> Trial:
        """Keep an automatic result beside the jacket."""
        s = self.state
        number = len(s.trials) + 1
        trial = Trial(s.next_id, f"Trial {number}", mesh, settings, figures)
        self.apply("make a trial", s.with_(trials=(*s.trials, trial), next_id=s.next_id + 1))
        return trial

    def take_trial(self, trial_id: int) -> None:
        """Make a trial the jacket: it joins what is drawn when the jacket is empty, else replaces it."""
        s = self.state
        trial = next((t for t in s.trials if t.id == trial_id), None)
        if trial is None:
            raise JacketError("That trial is gone; make a new one.")
        state = s.with_(trials=tuple(t for t in s.trials if t.id != trial_id))
        if s.jacket is None:
            jacket = JacketObject(s.next_id, "Jacket", trial.mesh)
            state = state.with_(jackets=(*s.jackets, jacket), active=jacket.id, next_id=s.next_id + 1, held=Held())
        else:
            state = state.with_jacket_mesh(trial.mesh, Held())
        self.apply(f"take {trial.name}", state)

    def drop_trial(self, trial_id: int) -> None:
        """Throw a trial away."""
        s = self.state
        self.apply("throw a trial away", s.with_(trials=tuple(t for t in s.trials if t.id != trial_id)))

    def set_visible(self, object_id: int, visible: bool) -> None:
        """Show or hide an object; no step of its own."""
        s = self.state
        self.amend(
            s.with_(
                sources=tuple(replace(o, visible=visible) if o.id == object_id else o for o in s.sources),
                jackets=tuple(replace(o, visible=visible) if o.id == object_id else o for o in s.jackets),
            )
        )
