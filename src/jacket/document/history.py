"""The history: named steps with the state before each, within a budget of bytes."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from jacket.core.mesh.polymesh import PolyMesh
from jacket.document.state import State

BUDGET = 2 << 30
"""Bytes of arrays that the steps of a document may hold beside its present state."""

WARM = 6
"""So many of the last steps keep what was derived of their jackets, so that undoing them is quick."""


@dataclass(frozen=True, eq=False)
class Step:
    """A named step and the state on the other side of it."""

    name: str
    state: State


@dataclass
class History:
    """What can be undone and done again. Steps share the arrays that did not change; only what no other step holds
    counts against the budget, and the oldest steps go first when it is spent."""

    budget: int = BUDGET
    done: list[Step] = field(default_factory=list)
    undone: list[Step] = field(default_factory=list)
    let_go: int = 0
    """Steps that were dropped for want of room since the document was opened."""

    def record(self, name: str, before: State, now: State) -> None:
        """One step more; what was undone cannot be done again from here on."""
        self.done.append(Step(name, before))
        self.undone.clear()
        self._cool(now)
        self._shrink(now)

    def back(self, now: State) -> Step | None:
        """Take the last step back: its name and the state before it."""
        if not self.done:
            return None
        step = self.done.pop()
        self.undone.append(Step(step.name, now))
        return step

    def forth(self, now: State) -> Step | None:
        """Do the last undone step again: its name and the state after it."""
        if not self.undone:
            return None
        step = self.undone.pop()
        self.done.append(Step(step.name, now))
        return step

    def clear(self) -> None:
        """Start anew, as with another document."""
        self.done.clear()
        self.undone.clear()
        self.let_go = 0

    def bytes(self, now: State) -> int:
        """Bytes of arrays that steps hold and the present state does not."""
        seen = {id(a) for a in arrays_of(now)}
        total = 0
        for step in (*self.done, *self.undone):
            total += _new_bytes(step.state, seen)
        return total

    def _cool(self, now: State) -> None:
        """Forget what was derived of the jackets of the step that is no longer among the last."""
        if len(self.done) <= WARM:
            return
        warm = [j.mesh for state in (now, *(s.state for s in self.done[-WARM:])) for j in state.jackets]
        for jacket in self.done[-WARM - 1].state.jackets:
            if not any(jacket.mesh is m for m in warm):
                jacket.mesh.forget_derived()

    def _shrink(self, now: State) -> None:
        # From the newest step back: what is still within the budget stays.
        seen = {id(a) for a in arrays_of(now)}
        total = 0
        for k in range(len(self.done) - 1, -1, -1):
            total += _new_bytes(self.done[k].state, seen)
            if total > self.budget and k < len(self.done) - 1:
                self.let_go += k + 1
                del self.done[: k + 1]
                return


def _new_bytes(state: State, seen: set[int]) -> int:
    total = 0
    for array in arrays_of(state):
        if id(array) not in seen:
            seen.add(id(array))
            total += array.nbytes
    return total


def arrays_of(state: State) -> Iterator[Any]:
    """Every array that a state holds; those that several of its meshes share come several times."""
    for mesh in (*(s.mesh for s in state.sources), *(j.mesh for j in state.jackets), *(t.mesh for t in state.trials)):
        yield from mesh_arrays(mesh)
    if state.paint is not None:
        yield state.paint.places
        yield state.paint.values


def mesh_arrays(mesh: PolyMesh) -> Iterator[Any]:
    """Every array of a mesh and of the connectivity derived from it, which it keeps."""
    yield from (mesh.points, mesh.corners, mesh.starts)
    for table in (mesh.point_data, mesh.face_data, mesh.corner_data, mesh.marks):
        yield from table.values()
    kept = mesh.__dict__
    for name in ("triangles", "triangle_faces", "sizes", "face_of_corner"):
        if name in kept:
            yield kept[name]
    if "topology" in kept:
        yield from (a for a in vars(kept["topology"]).values() if isinstance(a, np.ndarray))


