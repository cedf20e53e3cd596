"""Two halves of one piece of work on two threads: kernels let go of the interpreter while they run."""

from __future__ import annotations

import contextlib
import os
import threading
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from functools import cache
from typing import TypeVar

A = TypeVar("A")
B = TypeVar("B")


def both(first: Callable[[], A], second: Callable[[], B]) -> tuple[A, B]:
    """What two functions return that have nothing to do with one another, the second run on another thread meanwhile."""
    other = _pool().submit(second)
    return first(), other.result()


def ahead(act: Callable[[], A]) -> Future[A]:
    """Begin something on another thread that will be needed soon. It may itself work by halves, but not wait for another."""
    return _early().submit(act)


@cache
def _pool() -> ThreadPoolExecutor:
    return ThreadPoolExecutor(2, "beside")


@cache
def _early() -> ThreadPoolExecutor:
    # A pool of its own, or halves that somebody waits for would stand in line behind what is only wanted soon.
    return ThreadPoolExecutor(1, "ahead", _step_back)


def _step_back() -> None:
    # On Linux each thread has a priority of its own: who waits for nothing comes after who is waited for.
    with contextlib.suppress(OSError):
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), 10)
