"""Edits of large layers beside the window: the same command, on a document of its own, whose result comes back in one step."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any, Protocol, TypeVar

from jacket.commands.host import Edits, Host, Run
from jacket.core.derive import islands_of, normals_of, stretch_of
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.sheets import Sheets
from jacket.document.document import Document
from jacket.document.state import JacketObject, State
from jacket.document.task import Task, on_layer
from jacket.errors import JacketError
from jacket.progress import Progress
from jacket.tools.base import ToolSettings

V = TypeVar("V")

LARGE = 10_000
"""Faces of all layers from which on an edit works beside the window."""


def is_large(state: State) -> bool:
    """Whether there is so much that the window would feel what is done at once."""
    return sum(j.mesh.n_faces for j in state.jackets) >= LARGE


class Quiet(Edits, Protocol):
    """What an edit may ask for that works on a copy too: document, values, and a sentence at its end."""

    def say(self, text: str) -> None: ...


QuietRun = Callable[[Quiet], object]


class Copied:
    """A document of its own over the present state, and the values as they are; what is said is kept."""

    def __init__(self, host: Host) -> None:
        self.document = Document(host.document.state)
        self.tool_settings: ToolSettings = replace(host.tool_settings)
        self.said: list[str] = []
        self._host = host

    def values(self, kind: type[V]) -> V:
        """What a stage is set to."""
        return replace(self._host.values(kind))  # type: ignore[type-var]

    def put(self, kind: type[Any], name: str, value: Any) -> None:
        """Values are not changed from beside the window."""
        raise TypeError("an edit beside the window changes no values")

    def say(self, text: str) -> None:
        """Said once the result is there."""
        self.said.append(text)


def beside(name: str, run: QuietRun) -> Run:
    """A command that changes the document: at once, or, where its layers are large, on a copy beside the window.

    name   what is being done, shown with its progress
    """

    def outer(host: Host) -> None:
        state = host.document.state
        if not is_large(state):
            run(host)
            return
        copy = Copied(host)

        def job(progress: Progress) -> Copied:
            progress(0.1, name)
            run(copy)
            now = copy.document.state
            if now.jacket is not None:
                readied(now.jacket.mesh, now.sheets)
            return copy

        def merge(done: Copied) -> None:
            _take_over(host.document, state, done.document)
            for text in done.said:
                host.say(text)

        host.start(Task(name, job, merge, tuple(on_layer(state, j.id) for j in state.jackets), lambda: outer(host)))

    return outer


def readied(mesh: PolyMesh, sheets: Sheets) -> PolyMesh:
    """Find out here what the window would find out of a new mesh; it is kept. The mesh itself."""
    if mesh.n_faces:
        normals_of(mesh)
    if mesh.n_faces and mesh.uv is not None:
        islands_of(mesh, sheets).pixel_area  # noqa: B018 - kept by the islands
        stretch_of(mesh, sheets)
    return mesh


def _take_over(document: Document, before: State, done: Document) -> None:
    """What a copy came to, as one step over the present state, in which layers may be named or hidden otherwise by now."""
    result, now = done.state, document.state
    was, live = {j.id: j for j in before.jackets}, {j.id: j for j in now.jackets}

    def row(j: JacketObject) -> JacketObject:
        old, present = was.get(j.id), live.get(j.id)
        if old is None or present is None or j is old:
            return present or j
        changes = {f: getattr(j, f) for f in j.__dataclass_fields__ if getattr(j, f) is not getattr(old, f)}
        return replace(present, **changes)

    added = [j for j in now.jackets if j.id not in was]
    if added and result.next_id != before.next_id:
        # Both would have given out the same numbers.
        raise JacketError("Layers were added meanwhile, so nothing was changed; do it again.")
    held = result.held if result.held is not before.held else now.held
    if not done.history.done:
        document.amend(now.with_(held=held))
        return
    parts = {f: getattr(result, f) for f in State.__dataclass_fields__ if getattr(result, f) is not getattr(before, f)}
    parts |= {"held": held, "next_id": max(now.next_id, result.next_id)}
    if "jackets" in parts:
        parts["jackets"] = (*(row(j) for j in result.jackets), *added)
    document.apply(done.history.done[-1].name, now.with_(**parts), numbered=True)
