"""Work begun before it is known whether it is wanted."""

from __future__ import annotations

import multiprocessing
import threading
import time

import pytest

from jacket.core.beside import Begun, ahead, both
from jacket.errors import Cancelled
from jacket.progress import Progress, silent


def test_two_go_on_at_a_time_each_once_and_what_they_tell_is_told_by_who_waits() -> None:
    meet, begun, told = threading.Barrier(2, timeout=20), list[int](), list[tuple[float, str]]()
    go = threading.Event()

    def work(k: int, progress: Progress) -> int:
        begun.append(k)
        progress(0.5, f"work {k}")
        meet.wait()
        go.wait(20)
        return k * k

    def listen(fraction: float, what: str) -> None:
        told.append((fraction, what))
        if what == "work 2":
            go.set()
        assert threading.current_thread() is threading.main_thread()

    works = Begun[int, int]()
    for k in (2, 3, 2):
        works.begin(k, lambda progress, k=k: work(k, progress))  # type: ignore[misc]
    assert works.result(2, listen) == 4 and works.result(3, silent) == 9
    assert sorted(begun) == [2, 3] and (0.5, "work 2") in told and all(what != "work 3" for _, what in told)
    works.close()


def test_what_is_dropped_stops_at_its_next_telling_and_stopping_reaches_who_waits() -> None:
    stopped, running, later = threading.Event(), threading.Event(), list[int]()

    def endless(progress: Progress) -> int:
        running.set()
        try:
            # Not without end, or nothing would end with it where it is not stopped.
            for _ in range(10_000):
                progress(0.1, "on and on")
                time.sleep(0.001)
            return 0
        except Cancelled:
            stopped.set()
            raise

    works = Begun[str, int]()
    works.begin("first", endless)
    works.begin("second", endless)
    works.begin("third", lambda progress: later.append(3) or 3)

    def stop(fraction: float, what: str) -> None:
        if what:
            raise Cancelled

    assert running.wait(20)
    with pytest.raises(Cancelled):
        works.result("first", stop)
    works.close()
    assert stopped.wait(5) and not later, "what was not begun never is"


def test_an_error_is_raised_where_its_result_is_asked_for() -> None:
    works = Begun[int, int]()
    works.begin(1, lambda progress: 1 // 0)
    works.begin(2, lambda progress: 2)
    assert works.result(2, silent) == 2
    with pytest.raises(ZeroDivisionError):
        works.result(1, silent)
    works.close()


def test_halves_do_not_stand_in_line_behind_what_is_only_wanted_soon() -> None:
    go = threading.Event()
    slow = [ahead(lambda: go.wait(20)) for _ in range(3)]
    assert both(lambda: 1, lambda: 2) == (1, 2) and not any(job.done() for job in slow)
    go.set()
    assert all(job.result() for job in slow)


def test_a_process_that_was_forked_has_threads_of_its_own() -> None:
    assert both(lambda: 1, lambda: 2) == (1, 2) and ahead(lambda: 3).result(20) == 3
    context = multiprocessing.get_context("fork")
    told, tell = context.Pipe(False)

    def child() -> None:
        tell.send((*both(lambda: 4, lambda: 5), ahead(lambda: 6).result(20)))

    process = context.Process(target=child)
    process.start()
    found = told.recv() if told.poll(30) else None
    process.kill()
    assert found == (4, 5, 6)
