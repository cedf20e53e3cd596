"""Work beside the document: where its result goes, and when."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import pytest

from jacket.core.mesh.edits import points_moved
from jacket.document.document import Document
from jacket.document.edits import layers, trials
from jacket.document.state import JacketObject, SourceObject, State
from jacket.document.task import Task, Tasks, Teller, on_layer, on_sources
from jacket.errors import JacketError
from jacket.progress import silent
from tests.conftest import cube, grid


class Later:
    """An executor that works when it is told to."""

    def __init__(self) -> None:
        self.jobs: list[tuple[Any, Callable[[Any], None], Callable[[str], None]]] = []
        self.stopped = 0

    @property
    def busy(self) -> bool:
        return bool(self.jobs)

    def start(self, name: str, job: Any, done: Callable[[Any], None], failed: Callable[[str], None]) -> None:
        self.jobs.append((job, done, failed))

    def stop(self) -> None:
        self.stopped += 1

    def finish(self) -> None:
        job, done, failed = self.jobs.pop(0)
        try:
            result = job(silent)
        except JacketError as error:
            failed(str(error))
        else:
            done(result)


class Bench:
    def __init__(self) -> None:
        state = State((SourceObject(1, "s", cube()),), (JacketObject(2, "one", grid(2)), JacketObject(3, "two", grid(3))),
                      active=2, next_id=4)  # fmt: skip
        self.document, self.worker = Document(state), Later()
        self.said: list[str] = []
        self.again: list[Callable[[], None]] = []
        teller = Teller(
            self.said.append, lambda text, again: (self.said.append(text), self.again.append(again)), lambda _: None
        )
        self.tasks = Tasks(self.document, self.worker, teller)

    def mesh(self, layer: int = 2):  # type: ignore[no-untyped-def]
        return layers.layer_of(self.document.state, layer).mesh

    def lift(self, name: str = "lift", z: float = 1.0) -> None:
        """A task on the active layer: all points up by z."""
        ground = on_layer(self.document.state)
        mesh = ground.mesh

        def job(_: Any) -> Any:
            return points_moved(mesh, np.arange(mesh.n_points), mesh.points + [0, 0, z])

        merge = lambda new: self.document.edit_layer(name, ground.id, new)  # noqa: E731
        self.tasks.start(Task(name, job, merge, (ground,), again=lambda: self.lift(name, z)))


@pytest.fixture
def bench() -> Bench:
    return Bench()


def test_a_result_goes_to_the_layer_it_was_made_from(bench: Bench) -> None:
    bench.lift()
    layers.choose_layer(bench.document, 3)
    bench.worker.finish()
    assert (bench.mesh(2).points[:, 2] == 1).all() and (bench.mesh(3).points[:, 2] == 0).all()
    assert bench.document.state.active == 3 and bench.document.undo() == "lift"
    assert (bench.mesh(2).points[:, 2] == 0).all()


def test_a_copy_that_shares_the_mesh_is_not_taken_for_it(bench: Bench) -> None:
    bench.lift()
    layers.copy_layer(bench.document)
    copy = bench.document.state.active
    bench.worker.finish()
    assert (bench.mesh(2).points[:, 2] == 1).all() and (bench.mesh(copy).points[:, 2] == 0).all()


def test_a_result_waits_for_the_gesture_to_end(bench: Bench) -> None:
    bench.lift()
    bench.document.begin("brush")
    bench.worker.finish()
    assert (bench.mesh().points[:, 2] == 0).all() and not bench.tasks.settled
    bench.document.rollback()
    assert (bench.mesh().points[:, 2] == 1).all() and bench.tasks.settled
    assert [s.name for s in bench.document.history.done] == ["lift"]


def test_a_trial_that_ends_during_a_gesture_survives_its_escape(bench: Bench) -> None:
    made = grid(4)
    bench.tasks.start(Task("make a trial", lambda _: made, lambda m: trials.add_trial(bench.document, m, {}, {}) and None,
                           on_sources(bench.document.state)))  # fmt: skip
    bench.document.begin("brush")
    bench.document.edit_jacket("brush", points_moved(bench.mesh(), [0], [[0, 0, 9.0]]))
    bench.worker.finish()
    bench.document.rollback()
    assert [t.mesh for t in bench.document.state.trials] == [made] and bench.mesh().points[0, 2] == 0


def test_a_gesture_that_changed_the_ground_wins_and_it_can_be_done_again(bench: Bench) -> None:
    bench.lift()
    bench.document.begin("brush")
    bench.document.edit_jacket("brush", points_moved(bench.mesh(), [0], [[0, 0, 9.0]]))
    bench.worker.finish()
    bench.document.commit()
    assert bench.mesh().points[0, 2] == 9 and bench.mesh().points[1, 2] == 0
    assert "was not applied" in bench.said[-1] and len(bench.again) == 1
    bench.again[0]()
    bench.worker.finish()
    assert bench.mesh().points[0, 2] == 10 and bench.mesh().points[1, 2] == 1


def test_a_layer_that_is_gone_or_locked_is_left_alone(bench: Bench) -> None:
    bench.lift()
    layers.lock_layer(bench.document, 2)
    bench.worker.finish()
    assert (bench.mesh().points[:, 2] == 0).all() and "locked" in bench.said[-1]
    layers.lock_layer(bench.document, 2)
    bench.lift()
    layers.remove_layer(bench.document)
    bench.worker.finish()
    assert [j.id for j in bench.document.state.jackets] == [3] and "was not applied" in bench.said[-1]


def test_the_next_one_waits_its_turn_from_what_is_there_then(bench: Bench) -> None:
    bench.lift("lift")
    bench.tasks.later("lift more", lambda: bench.lift("lift more", 2.0))
    assert bench.said == ["Lift more begins when 'lift' is done."] and bench.tasks.waiting == ("lift more",)
    bench.tasks.later("lift more", lambda: bench.lift("lift more", 2.0))
    assert bench.said[-1] == "Lift more waits already until 'lift' is done."
    bench.worker.finish()
    bench.worker.finish()
    assert (bench.mesh().points[:, 2] == 3).all() and bench.tasks.settled


def test_a_failure_is_said_and_the_next_begins(bench: Bench) -> None:
    def fails(_: Any) -> None:
        raise JacketError("There is nothing to lift; draw something.")

    bench.tasks.start(Task("fail", fails, lambda _: None))
    bench.tasks.later("lift", bench.lift)
    bench.worker.finish()
    assert bench.said[-1] == "There is nothing to lift; draw something." and bench.tasks.busy
    bench.tasks.later("never", lambda: pytest.fail("what waits goes with what is stopped"))
    bench.tasks.stop()
    bench.worker.finish()
    assert bench.worker.stopped == 1 and bench.tasks.settled
