"""The document: one state, one history, changes told to listeners."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.source.placing import placed
from jacket.core.source.rebuild import joined
from jacket.document.state import Held, JacketObject, SourceObject, State, Trial, free_name
from jacket.errors import JacketError


def moved_places(places: Any, matrix: Any) -> Any:
    """Places (K, 3) moved by a (4, 4) matrix."""
    return np.asarray(places) @ np.asarray(matrix)[:3, :3].T + np.asarray(matrix)[:3, 3]


Listener = Callable[[set[str]], None]

PARTS = ("sources", "jackets", "trials", "active", "mirror", "sheet", "held", "active_source", "picked",
         "guides", "paint", "shown_trial")  # fmt: skip
_PASSING = ("held", "active_source", "picked", "shown_trial")
"""What may change without there being anything to save."""


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
        return any(getattr(a, p) is not getattr(b, p) for p in PARTS if p not in _PASSING)

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

    def add_source(self, name: str, mesh: PolyMesh, path: str = "", stamp: tuple[int, int] = (0, 0)) -> None:
        """Add a source as one step, with an empty jacket when there is none yet; it becomes the chosen one."""
        s = self.state
        source = SourceObject(s.next_id, free_name({x.name for x in s.sources}, name), mesh, path, stamp=stamp)
        state = s.with_(sources=(*s.sources, source), next_id=s.next_id + 1, active_source=source.id, picked=Held())
        if not s.jackets:
            jacket = JacketObject(state.next_id, "Jacket", PolyMesh.empty())
            state = state.with_(jackets=(jacket,), active=jacket.id, next_id=state.next_id + 1)
        self.apply(f"open {name}", state)

    def open_to_change(self) -> SourceObject:
        """The chosen source; raises a sentence when there is none or it is locked."""
        source = self.state.chosen_source
        if source is None:
            raise JacketError("There is no source yet; open a sculpt or scan first.")
        if source.locked:
            raise JacketError(f"{source.name} is locked; unlock it on the bench first.")
        return source

    def edit_source(self, name: str, source_id: int, mesh: PolyMesh) -> None:
        """Replace a source's mesh as one step."""
        source = self.source_of(source_id)
        self.apply(name, self.state.with_source(replace(source, mesh=mesh)))

    def source_of(self, source_id: int) -> SourceObject:
        """A source by its id; raises a sentence when it is gone."""
        source = next((s for s in self.state.sources if s.id == source_id), None)
        if source is None:
            raise JacketError("That source is gone meanwhile; nothing was changed.")
        return source

    def place_source(self, name: str, source_id: int, matrix: Any, mesh: PolyMesh | None = None) -> None:
        """Move the source by a (4, 4) matrix as one step. Jackets and trials go along where it is the only one."""
        s = self.state
        source = self.source_of(source_id)
        mesh = placed(source.mesh, matrix) if mesh is None else mesh
        state = s.with_source(replace(source, mesh=mesh, placing=matrix @ source.placing))
        if len(s.sources) == 1:
            state = state.with_(
                jackets=tuple(replace(j, mesh=placed(j.mesh, matrix)) for j in s.jackets),
                trials=tuple(replace(t, mesh=placed(t.mesh, matrix)) for t in s.trials),
                guides=tuple(replace(g, points=moved_places(g.points, matrix)) for g in s.guides),
                paint=replace(s.paint, places=moved_places(s.paint.places, matrix)) if s.paint is not None else None,
            )
        self.apply(name, state)

    def freeze_source(self) -> None:
        """Take where the chosen source stands as how it is: a newer file will not be moved any more."""
        source = self.open_to_change()
        self.apply("freeze the placing", self.state.with_source(replace(source, placing=np.eye(4))))

    def change_source(self, step: str, source_id: int, **changes: Any) -> None:
        """Rename or lock a source as one step."""
        self.apply(step, self.state.with_source(replace(self.source_of(source_id), **changes)))

    def choose_source(self, source_id: int) -> None:
        """Work on another source from now on; no step of its own."""
        if source_id != self.state.active_source:
            self.amend(self.state.with_(active_source=source_id, picked=Held()))

    def remove_source(self, source_id: int) -> None:
        """Take a source off the bench as one step."""
        source, s = self.source_of(source_id), self.state
        rest = tuple(x for x in s.sources if x.id != source_id)
        self.apply(f"remove {source.name}", s.with_(sources=rest, active_source=-1, picked=Held()))

    def join_sources(self) -> None:
        """Make one source of all visible ones as one step; they may not be locked."""
        s = self.state
        visible = [x for x in s.sources if x.visible]
        if len(visible) < 2:
            raise JacketError("Joining needs two visible sources or more; show them on the bench first.")
        for x in visible:
            if x.locked:
                raise JacketError(f"{x.name} is locked; unlock it on the bench first.")
        whole = SourceObject(s.next_id, visible[0].name, joined([x.mesh for x in visible]))
        rest = tuple(x for x in s.sources if not x.visible)
        self.apply("join the visible sources", s.with_(sources=(whole, *rest), active_source=whole.id,
                                                       next_id=s.next_id + 1, picked=Held()))  # fmt: skip

    def pick_faces(self, faces: Any) -> None:
        """Pick faces of the chosen source; this is no step of its own."""
        self.amend(self.state.with_(picked=Held("faces", np.unique(np.asarray(faces, np.int32)))))

    def take_new_source(
        self, source_id: int, mesh: PolyMesh, stamp: tuple[int, int], jackets: dict[int, PolyMesh]
    ) -> None:
        """A newer version of a source and the jackets refitted to it, as one step."""
        s = self.state
        source = self.source_of(source_id)
        state = s.with_source(replace(source, mesh=mesh, stamp=stamp))
        refitted = tuple(replace(j, mesh=jackets.get(j.id, j.mesh)) for j in s.jackets)
        self.apply(f"take the new {source.name}", state.with_(jackets=refitted))

    def edit_jacket(self, name: str, mesh: PolyMesh, held: Held | None = None) -> None:
        """Replace the active jacket's mesh as one step (or within the running gesture); refused while it is locked."""
        self.open_jacket()
        self.apply(name, self.state.with_jacket_mesh(mesh, held))

    def hold(self, kind: str, ids: Any) -> None:
        """Hold elements of the active jacket; this is no step of its own."""
        self.hold_all(Held(kind, np.unique(np.asarray(ids, np.int32))))

    def hold_all(self, held: Held) -> None:
        """Hold elements of several kinds; no step of its own."""
        self.amend(self.state.with_(held=held))

    def add_trial(self, mesh: PolyMesh, settings: dict[str, Any], figures: dict[str, Any]) -> Trial:
        """Keep an automatic result beside the jacket."""
        s = self.state
        number = len(s.trials) + 1
        trial = Trial(s.next_id, f"Trial {number}", mesh, settings, figures)
        self.apply("make a trial", s.with_(trials=(*s.trials, trial), next_id=s.next_id + 1,
                                            shown_trial=trial.id))  # fmt: skip
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
            self.open_jacket()
            state = state.with_jacket_mesh(trial.mesh, Held())
        self.apply(f"take {trial.name}", state)

    def choose_trial(self, trial_id: int) -> None:
        """Look at another trial; no step of its own."""
        self.amend(self.state.with_(shown_trial=trial_id))

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
