"""Ranges of settings, each said in a sentence when a value is outside."""

from __future__ import annotations

import math

from jacket.errors import MeshError


def within(value: float, low: float, high: float, what: str) -> float:
    """The value itself. Raises MeshError with a sentence where it is no number or outside low..high."""
    if not math.isfinite(value) or not low <= value <= high:
        raise MeshError(f"{what} of {value:g} is out of range; choose {low:g} to {high:g}.")
    return value


def one_of(value: str, allowed: tuple[str, ...], what: str) -> str:
    """The value itself. Raises MeshError with a sentence where it is none of those allowed."""
    if value not in allowed:
        raise MeshError(f"{what} '{value}' is unknown; choose {', '.join(allowed[:-1])} or {allowed[-1]}.")
    return value
