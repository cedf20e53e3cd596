"""The search for cycles: what stays is left out of it, what goes is still found."""

from __future__ import annotations

import gc
import weakref

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QApplication

from jacket.qt.collecting import MANY, Collecting


class Node:
    """Something that can lie in a cycle."""

    other: Node | None = None


def test_what_stays_is_left_out_and_cycles_made_later_still_go(qapp: QApplication) -> None:
    """By the counts of Python's own `gc`."""
    parent, kept = QObject(), [[k] for k in range(MANY + 1)]
    gc.collect()
    rest = [False]
    collecting = Collecting(lambda: rest[0], parent)
    gc.unfreeze()
    before = gc.get_freeze_count()
    collecting.look()
    assert gc.get_freeze_count() == before == 0, "nothing while something is under way"
    rest[0] = True
    collecting.look()
    assert gc.get_freeze_count() > MANY and len(gc.get_objects(generation=2)) < MANY
    one, two = Node(), Node()
    one.other, two.other = two, one
    gone = weakref.ref(one)
    del one, two
    gc.collect()
    assert gone() is None and len(kept) > MANY
    gc.unfreeze()
