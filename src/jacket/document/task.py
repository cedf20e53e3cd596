"""Work beside the document: a function of a frozen state, whose result comes back by what it was made from.

A task never sees the live document. When its work is done its result waits for a gesture to end; then it is merged by
the id of the object it belongs to, if that is still what it was made from. Otherwise this is said, and it can be run again.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Protocol

from jacket.core.mesh.polymesh import PolyMesh
from jacket.document.document import Document
from jacket.document.state import State
from jacket.errors import JacketError
from jacket.progress import Progress, silent

Job = Callable[[Progress], Any]


@dataclass(frozen=True, eq=False)
class Ground:
    """An object that a result is made from: its kind ("source" or "layer"), its id and the mesh it had."""

    kind: str
    id: int
    mesh: PolyMesh

    def holds(self, state: State) -> bool:
        """Whether the object is still there and still has this mesh."""
        rows: Any = state.sources if self.kind == "source" else state.jackets
        return any(o.id == self.id and o.mesh is self.mesh for o in rows)


def on_layer(state: State, layer_id: int | None = None) -> Ground:
    """A layer as ground, the active one unless named. Raises JacketError where there is none."""
    wanted = state.active if layer_id is None else layer_id
    found = next((j for j in state.jackets if j.id == wanted), None)
    if found is None:
        raise JacketError("There is no jacket yet; draw quads or make a trial first.")
    return Ground("layer", found.id, found.mesh)


def on_sources(state: State) -> tuple[Ground, ...]:
    """The sources that jackets are fitted to as grounds."""
    rows = [s for s in state.sources if s.visible] or list(state.sources[:1])
    return tuple(Ground("source", s.id, s.mesh) for s in rows)


@dataclass(frozen=True, eq=False)
class Task:
    """name      what is being done, as in "flatten": shown with progress and in sentences
    job       the work; it may only use what it was given when the task was made
    merge     takes the result into the document; may raise JacketError to refuse it
    grounds   what the result is made from; where one has changed it is not merged
    again     starts the same from the present state, where that makes sense
    """

    name: str
    job: Job
    merge: Callable[[Any], None]
    grounds: tuple[Ground, ...] = ()
    again: Callable[[], None] | None = None


class Executor(Protocol):
    """Runs one job at a time beside the caller and calls back in the caller's thread."""

    @property
    def busy(self) -> bool: ...
    def start(self, name: str, job: Job, done: Callable[[Any], None], failed: Callable[[str], None]) -> None: ...
    def stop(self) -> None: ...


class AtOnce:
    """An executor without a thread, for scripts and tests; `meanwhile` is called between work and result."""

    busy = False

    def __init__(self) -> None:
        self.meanwhile: Callable[[], None] | None = None

    def start(self, name: str, job: Job, done: Callable[[Any], None], failed: Callable[[str], None]) -> None:
        """Run a job; errors that are meant for people go to `failed`."""
        try:
            result = job(silent)
        except JacketError as error:
            failed(str(error))
            return
        if self.meanwhile is not None:
            self.meanwhile()
        done(result)

    def stop(self) -> None:
        """Nothing runs that could be stopped."""


@dataclass(eq=False)
class Teller:
    """Whom tasks tell what happens: sentences, the offer to run one again, the beginning and the end of work."""

    say: Callable[[str], None]
    offer: Callable[[str, Callable[[], None]], None]
    changed: Callable[[str | None], None]


class Tasks:
    """The user's tasks, one at a time; others wait their turn."""

    def __init__(self, document: Document, executor: Executor, teller: Teller) -> None:
        self.document, self.executor, self.teller = document, executor, teller
        self.running: Task | None = None
        self._waiting: list[tuple[str, Callable[[], None]]] = []
        self._ready: list[tuple[Task, Any]] = []
        document.listen(self._heard)

    @property
    def busy(self) -> bool:
        """Whether a task is at work."""
        return self.running is not None

    @property
    def waiting(self) -> tuple[str, ...]:
        """Names of what waits its turn."""
        return tuple(name for name, _ in self._waiting)

    @property
    def settled(self) -> bool:
        """Whether nothing is at work, waits its turn or waits for a gesture to end."""
        return not (self.running or self._waiting or self._ready)

    def start(self, task: Task) -> None:
        """Begin a task, or let it wait its turn while another is at work."""
        if self.busy:
            self.later(task.name, lambda: self.start(task))
            return
        self.running = task
        self.teller.changed(task.name)
        self.executor.start(task.name, task.job, lambda result: self._done(task, result),
                            lambda sentence: self._failed(task, sentence))  # fmt: skip

    def later(self, name: str, start: Callable[[], None]) -> None:
        """Call `start` when the present task is over; a second wish of the same name is told, not kept."""
        present = self.running.name if self.running is not None else "what is under way"
        if any(n == name for n, _ in self._waiting):
            self.teller.say(f"{_capital(name)} waits already until '{present}' is done.")
            return
        self._waiting.append((name, start))
        self.teller.say(f"{_capital(name)} begins when '{present}' is done.")

    def stop(self) -> None:
        """Stop what is at work; what waits its turn is dropped with it."""
        self._waiting.clear()
        self.executor.stop()

    def forget(self) -> None:
        """Drop everything that waits: another document takes the place of this one."""
        self._waiting.clear()
        self._ready.clear()

    def _done(self, task: Task, result: Any) -> None:
        self.running = None
        self.teller.changed(None)
        if self.document.in_gesture:
            self._ready.append((task, result))
        else:
            self._merge(task, result)
        self._next()

    def _failed(self, task: Task, sentence: str) -> None:
        self.running = None
        self.teller.changed(None)
        self.teller.say(sentence)
        self._next()

    def _merge(self, task: Task, result: Any) -> None:
        if not all(g.holds(self.document.state) for g in task.grounds):
            sentence = f"What it was made from changed meanwhile, so '{task.name}' was not applied."
            if task.again is not None:
                self.teller.offer(sentence, task.again)
            else:
                self.teller.say(f"{sentence[:-1]}; do it again.")
            return
        try:
            task.merge(result)
        except JacketError as error:
            self.teller.say(str(error))

    def _heard(self, changed: set[str]) -> None:
        if "gesture" in changed and self._ready and not self.document.in_gesture:
            ready, self._ready = self._ready, []
            for task, result in ready:
                self._merge(task, result)

    def _next(self) -> None:
        while self._waiting and not self.busy:
            _, start = self._waiting.pop(0)
            try:
                start()
            except JacketError as error:
                self.teller.say(str(error))


def _capital(text: str) -> str:
    return text[:1].upper() + text[1:]
