"""Results that follow from meshes, made once and kept for as long as what they came from is there.

A result is kept under its *grounds*: the aspects of meshes (`PolyMesh.aspect`) and other objects it was made from, and a
key. Grounds are held weakly and compared as themselves, so a result goes when one of them goes, is never found for
another object, and meshes that share what it came from share it. A value must not hold its own grounds; where it needs
the mesh it holds `mesh.detached()`. A budget of bytes drops what was not used for longest; it is made again when asked.
"""

from __future__ import annotations

import dataclasses
import os
import threading
import weakref
from collections import OrderedDict
from collections.abc import Callable, Hashable, Iterable
from typing import Any, TypeVar

import numpy as np

T = TypeVar("T")
Grounds = tuple[object, ...]


class _Ground:
    """A weak reference that is equal to others of the same object, alive or dead."""

    __slots__ = ("__weakref__", "hash", "ref")

    def __init__(self, thing: object, gone: Callable[[Any], None] | None = None) -> None:
        self.ref = weakref.ref(thing, gone) if gone is not None else weakref.ref(thing)
        # Where a thing stands is only where to look for it: equality asks for the thing itself.
        self.hash = hash(id(thing))

    def __hash__(self) -> int:
        return self.hash

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, _Ground):
            return NotImplemented
        mine, theirs = self.ref(), other.ref()
        return self.ref is other.ref if mine is None or theirs is None else mine is theirs


class _Entry:
    """A result, or the lock behind which one is being made."""

    __slots__ = ("ready", "size", "value", "working")

    def __init__(self) -> None:
        self.working, self.ready = threading.RLock(), False
        self.value: Any = None
        self.size = 0


class Store:
    """Kept results within a budget of bytes. Safe to use from several threads: who asks for what another thread is
    making waits for it, and nobody else does."""

    def __init__(self, budget: int) -> None:
        self.budget = budget
        self._lock = threading.RLock()
        self._entries: OrderedDict[tuple[tuple[_Ground, ...], Hashable], _Entry] = OrderedDict()
        self._by_ground: dict[int, tuple[_Ground, set[tuple[tuple[_Ground, ...], Hashable]]]] = {}
        self._size = 0

    @property
    def size(self) -> int:
        """Bytes of all kept results, as far as they consist of arrays."""
        return self._size

    def __len__(self) -> int:
        return sum(e.ready for e in self._entries.values())

    def get(self, grounds: Grounds, key: Hashable, make: Callable[[], T]) -> T:
        """The result kept under grounds and key, made by `make()` where there is none."""
        place = (tuple(_Ground(g) for g in grounds), key)
        with self._lock:
            entry = self._entries.get(place)
            if entry is None:
                entry = self._begun(grounds, key)
            else:
                self._entries.move_to_end(place)
        if not entry.ready:
            with entry.working:
                if not entry.ready:
                    entry.value = make()
                    entry.size = array_bytes(entry.value)
                    entry.ready = True
                    self._grown(entry)
        value: T = entry.value
        return value

    def peek(self, grounds: Grounds, key: Hashable) -> Any:
        """The result where it is kept already, else None; never waits."""
        entry = self._entries.get((tuple(_Ground(g) for g in grounds), key))
        return entry.value if entry is not None and entry.ready else None

    def put(self, grounds: Grounds, key: Hashable, value: T) -> T:
        """Keep a result that was come by otherwise; what is kept already stays."""
        return self.get(grounds, key, lambda: value)

    def clear(self) -> None:
        """Forget everything."""
        with self._lock:
            self._entries.clear()
            self._by_ground.clear()
            self._size = 0

    def _begun(self, grounds: Grounds, key: Hashable) -> _Entry:
        kept, entry = tuple(self._ground(g) for g in grounds), _Entry()
        place = (kept, key)
        self._entries[place] = entry
        for ground in kept:
            self._by_ground[id(ground.ref)][1].add(place)
        return entry

    def _ground(self, thing: object) -> _Ground:
        """The one kept reference to a thing, whose end takes along what stands on it."""
        ground = _Ground(thing, self._gone)
        self._by_ground[id(ground.ref)] = (ground, set())
        return ground

    def _gone(self, ref: Any) -> None:
        with self._lock:
            _, places = self._by_ground.pop(id(ref), (None, set()))
            for place in places:
                self._drop(place)

    def _drop(self, place: tuple[tuple[_Ground, ...], Hashable]) -> None:
        entry = self._entries.pop(place, None)
        if entry is None:
            return
        self._size -= entry.size
        for ground in place[0]:
            self._by_ground.pop(id(ground.ref), None)

    def _grown(self, entry: _Entry) -> None:
        with self._lock:
            self._size += entry.size
            if self._size <= self.budget:
                return
            for place, old in list(self._entries.items()):
                if self._size <= self.budget:
                    return
                if old.ready and old is not entry:
                    self._drop(place)


def array_bytes(value: Any, seen: set[int] | None = None, depth: int = 5) -> int:
    """Bytes of the arrays that a value consists of, each counted once."""
    seen = set() if seen is None else seen
    if id(value) in seen or depth == 0:
        return 0
    seen.add(id(value))
    if isinstance(value, np.ndarray):
        return value.nbytes
    if isinstance(value, bytes):
        return len(value)
    parts: Iterable[Any] = ()
    if isinstance(value, dict):
        parts = list(value.values())
    elif isinstance(value, (list, tuple)):
        parts = value
    elif dataclasses.is_dataclass(value) or hasattr(value, "__dict__"):
        parts = list(getattr(value, "__dict__", {}).values())
    return sum(array_bytes(p, seen, depth - 1) for p in parts)


def _memory() -> int:
    try:
        return os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
    except (ValueError, OSError):
        return 8 << 30


STORE = Store(min(4 << 30, _memory() // 3))
"""What the whole program keeps."""
