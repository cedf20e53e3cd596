"""Numbers on the command line: each with its range, which stands in the help and in the message."""

from __future__ import annotations

import argparse
import math
from collections.abc import Callable


def number(low: float, high: float) -> Callable[[str], float]:
    """A reader of numbers from `low` to `high`, for `type` of an argument."""

    def read(text: str) -> float:
        try:
            value = float(_digits(text))
        except ValueError:
            raise argparse.ArgumentTypeError(f"'{text[:40]}' is no number; choose {ranged(low, high)}") from None
        return float(_within(value, low, high, text))

    return read


def whole(low: int, high: int) -> Callable[[str], int]:
    """A reader of whole numbers from `low` to `high`."""

    def read(text: str) -> int:
        try:
            value = int(_digits(text))
        except ValueError:
            raise argparse.ArgumentTypeError(f"'{text[:40]}' is no whole number; choose {ranged(low, high)}") from None
        return int(_within(value, low, high, text))

    return read


def _digits(text: str) -> str:
    """The text itself; raises ValueError for what only programmers write, such as 1_000."""
    if "_" in text:
        raise ValueError(text)
    return text


def _within(value: float, low: float, high: float, text: str) -> float:
    if (isinstance(value, float) and not math.isfinite(value)) or not low <= value <= high:
        raise argparse.ArgumentTypeError(f"{text[:40]} is out of range; choose {ranged(low, high)}")
    return value


def ranged(low: float, high: float) -> str:
    """A range in words, as in "12 to 500,000"."""
    return f"{_plain(low)} to {_plain(high)}"


def _plain(value: float) -> str:
    return f"{value:,.0f}" if value == int(value) and abs(value) < 1e7 else f"{value:g}"
