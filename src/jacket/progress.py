"""Reporting of long work: a fraction, a few words, and a way to stop it."""

from __future__ import annotations

from collections.abc import Callable

Progress = Callable[[float, str], None]
"""Called with a fraction in 0..1 and what is being done; raises `Cancelled` to stop."""


def silent(fraction: float, what: str) -> None:
    """A progress that tells nobody."""


def part(progress: Progress, start: float, end: float) -> Progress:
    """A progress for a piece of the work that fills `start`..`end` of the whole."""

    def inner(fraction: float, what: str) -> None:
        progress(start + (end - start) * min(max(fraction, 0.0), 1.0), what)

    return inner


Tick = Callable[[str], None]
"""Called now and then with what is being done, by work that knows no share of its own; raises `Cancelled` to stop."""


def untold(what: str) -> None:
    """A tick that tells nobody."""


def ticking(progress: Progress) -> tuple[Progress, Tick]:
    """The same progress, and ticks that tell what is being done at the share where it stands."""
    at = [0.0]

    def told(fraction: float, what: str) -> None:
        at[0] = fraction
        progress(fraction, what)

    return told, lambda what: progress(at[0], what)
