"""The values that stages are set to: a dataclass a stage, found by its type."""

from __future__ import annotations

import dataclasses
import math
import re
from collections.abc import Iterable
from typing import Any, TypeVar, cast

from jacket.errors import JacketError

V = TypeVar("V")


def ranged(default: Any, low: float, high: float) -> Any:
    """A field of values that is a number from `low` to `high`."""
    return dataclasses.field(default=default, metadata={"low": low, "high": high})


def chosen(default: str, *allowed: str) -> Any:
    """A field of values that is one of a few words."""
    return dataclasses.field(default=default, metadata={"allowed": allowed})


def worded(default: str, pattern: str) -> Any:
    """A field of values that is text of a pattern."""
    return dataclasses.field(default=default, metadata={"pattern": pattern, "like": default or "a name"})


def coloured(default: str) -> Any:
    """A field of values that is a colour, written as #rrggbb."""
    return dataclasses.field(default=default, metadata={"pattern": "#[0-9a-fA-F]{6}", "like": "#23272e"})


class Values:
    """One record of each kind."""

    def __init__(self, records: Iterable[Any]) -> None:
        self._by_kind = {type(r): r for r in records}
        self.passed_over: list[str] = []
        """Names of kept values that made no sense and are as usual."""

    def of(self, kind: type[V]) -> V:
        """The record of a kind. Raises JacketError where no stage has such values."""
        if kind not in self._by_kind:
            raise JacketError(f"No stage has values of the kind {kind.__name__}.")
        return cast(V, self._by_kind[kind])

    def put(self, kind: type[Any], name: str, value: Any) -> None:
        """Set one value, as the kind of thing it was before. Raises JacketError for names and values that do not fit."""
        record = self.of(kind)
        setattr(record, name, _fitting(record, name, value))

    def as_dict(self) -> dict[str, dict[str, Any]]:
        """What differs from what a record begins with, by the name of its kind."""
        out = {}
        for kind, record in self._by_kind.items():
            usual = kind()
            differs = {f.name: getattr(record, f.name) for f in dataclasses.fields(record)
                       if getattr(record, f.name) != getattr(usual, f.name)}  # fmt: skip
            if differs:
                out[kind.__name__] = differs
        return out

    def take(self, data: Any) -> None:
        """Take values that were kept; what does not fit is passed over, each by itself, and remembered by its name."""
        for kind, record in self._by_kind.items():
            rows = data.get(kind.__name__) if isinstance(data, dict) else None
            for name, value in rows.items() if isinstance(rows, dict) else ():
                if name in {f.name for f in dataclasses.fields(record)}:
                    try:
                        setattr(record, name, _fitting(record, name, value))
                    except JacketError:
                        self.passed_over.append(name.replace("_", " "))


def _fitting(record: Any, name: str, value: Any) -> Any:
    """A value for a field of a record. Raises JacketError with a sentence where it is none or out of the field's range."""
    found = fitting(getattr(record, name, None), value, name)
    limits = type(record).__dataclass_fields__[name].metadata
    said = name.replace("_", " ")
    if "low" in limits and not limits["low"] <= found <= limits["high"]:
        raise JacketError(f"{found:g} is out of range for {said}; choose {limits['low']:g} to {limits['high']:g}.")
    if "pattern" in limits and not re.fullmatch(limits["pattern"], found):
        raise JacketError(f"'{found[:20]}' does not fit {said}; type it like {limits['like']}.")
    if "allowed" in limits and found not in limits["allowed"]:
        raise JacketError(f"'{found}' does not fit {said}; choose one of {', '.join(limits['allowed'])}.")
    return found


def fitting(now: Any, value: Any, name: str) -> Any:
    """A value as the kind of thing `now` is. Raises JacketError with a sentence where it is none."""
    try:
        if isinstance(now, bool):
            if not isinstance(value, bool):
                raise TypeError
            return value
        if isinstance(now, (int, float)):
            if isinstance(value, (bool, str)) or not math.isfinite(value):
                raise TypeError
            return type(now)(value)
        if isinstance(now, str) and isinstance(value, str):
            return value
        raise TypeError
    except (TypeError, ValueError, OverflowError) as error:
        raise JacketError(f"'{value}' does not fit {name.replace('_', ' ')}; nothing was changed.") from error
