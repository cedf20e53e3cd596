"""Two halves of one piece of work on two threads: kernels let go of the interpreter while they run."""

from __future__ import annotations

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
    """Begin something on another thread that will be needed soon."""
    return _pool().submit(act)


@cache
def _pool() -> ThreadPoolExecutor:
    return ThreadPoolExecutor(2, "beside")
