"""Work on other threads: kernels let go of the interpreter while they run."""

from __future__ import annotations

import contextlib
import os
import threading
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor, wait
from functools import cache
from typing import Generic, TypeVar

from jacket.errors import Cancelled
from jacket.progress import Progress

A = TypeVar("A")
K = TypeVar("K")
B = TypeVar("B")

EARLY = "ahead"
"""Name of the thread of what is wanted soon."""


def both(first: Callable[[], A], second: Callable[[], B]) -> tuple[A, B]:
    """What two functions return that have nothing to do with one another, the second run on another thread meanwhile."""
    if threading.current_thread().name.startswith(EARLY):
        # What is only wanted soon takes no second thread from what is waited for.
        return first(), second()
    other = pool(2, "beside").submit(second)
    return first(), other.result()


def left_at_once(act: Callable[[], A], tick: Callable[[], None]) -> A:
    """What a function returns that cannot be stopped itself: `tick`, called meanwhile, may raise, and it is not waited for then."""
    future = pool(2, "left").submit(act)
    while not future.done():
        tick()
        wait([future], 0.05)
    return future.result()


def ahead(act: Callable[[], A]) -> Future[A]:
    """Begin something on another thread that will be needed soon; it may not wait for another of its kind."""
    # A pool of its own, or halves that somebody waits for would stand in line behind what is only wanted soon.
    return pool(1, EARLY, _step_back).submit(act)


@cache
def pool(threads: int, name: str, begin: Callable[[], None] | None = None) -> ThreadPoolExecutor:
    """The one pool of a name, whose threads begin with a function; for work that waits for nothing in the same pool."""
    return ThreadPoolExecutor(threads, name, begin)


# A process that was forked has the pools but none of their threads: it would wait for them for ever.
os.register_at_fork(after_in_child=pool.cache_clear)


def _step_back() -> None:
    # On Linux each thread has a priority of its own: who waits for nothing comes after who is waited for.
    with contextlib.suppress(OSError):
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), 10)


class Begun(Generic[K, A]):
    """Pieces of work by key, two at a time on threads of their own, begun before it is known whether they are wanted. Each is
    given a progress, by which it is also stopped: what it tells is told on by whoever waits for it."""

    def __init__(self) -> None:
        self._pool = ThreadPoolExecutor(2, "ways")
        self._known: dict[K, tuple[Future[A], _Told]] = {}

    def begin(self, key: K, act: Callable[[Progress], A]) -> None:
        """Begin a piece of work, unless one of that key was."""
        if key not in self._known:
            told = _Told()
            self._known[key] = self._pool.submit(act, told), told

    def result(self, key: K, progress: Progress) -> A:
        """What a piece of work that was begun returns or raises; `progress` may raise meanwhile."""
        future, told = self._known[key]
        while not future.done():
            progress(*told.last)
            wait([future], 0.05)
        return future.result()

    def drop(self) -> None:
        """Nothing that was begun is wanted any more: what is not begun never is, the rest stops at its next telling."""
        for future, told in self._known.values():
            told.stopped = True
            future.cancel()
        self._known.clear()

    def close(self) -> None:
        """The same, and nothing more is begun."""
        self.drop()
        self._pool.shutdown(wait=False)


class _Told:
    """A progress that keeps what was told last."""

    def __init__(self) -> None:
        self.last, self.stopped = (0.0, ""), False

    def __call__(self, fraction: float, what: str) -> None:
        if self.stopped:
            raise Cancelled
        self.last = fraction, what
