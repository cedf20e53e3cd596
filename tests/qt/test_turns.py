"""Heavy pieces of what is shown, one a turn."""

from __future__ import annotations

from PySide6.QtCore import QObject, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QWidget

from jacket.qt.turns import Turns


class Painted(QWidget):
    """Notes when it is painted."""

    def __init__(self, told: list[str]) -> None:
        super().__init__()
        self.told = told

    def paintEvent(self, event: object) -> None:  # noqa: N802 - Qt's name
        self.told.append("painted")


def _pump(turns: Turns, told: list[str]) -> None:
    """Turns of the event loop until nothing waits, with a line between them."""
    for _ in range(60):
        QApplication.processEvents()
        told.append("|")
        if not turns.busy and told[-3:] == ["|", "|", "|"]:
            return


def test_each_work_has_a_turn_of_its_own_and_so_has_its_painting(qapp: QApplication) -> None:
    parent, told = QObject(), list[str]()
    turns, widget = Turns(parent), Painted(told)
    widget.show()
    # What is not on the screen yet is not painted either, however busy the machine is.
    assert QTest.qWaitForWindowExposed(widget, 20_000)
    for _ in range(20):
        QApplication.processEvents()
    told.clear()

    def work(name: str) -> None:
        told.append(name)
        widget.update()

    for name in "abc":
        turns.put(name, lambda n=name: work(n))
    assert turns.busy and not told, "not at once"
    _pump(turns, told)
    done = [set(turn.split()) for turn in " ".join(told).split("|")]
    assert [t for t in told if t in "abc"] == ["a", "b", "c"], "in the order in which they came"
    assert all(len(turn & {"a", "b", "c", "painted"}) <= 1 for turn in done)
    assert sum("painted" in turn for turn in done) == 3
    widget.close()


def test_the_newest_of_a_name_counts_and_what_is_dropped_never_comes(qapp: QApplication) -> None:
    parent, told = QObject(), list[str]()
    turns = Turns(parent)
    turns.put("view", lambda: told.append("old"))
    turns.put("view", lambda: told.append("new"))
    turns.put("cards", lambda: told.append("cards"))
    turns.drop("cards", "unknown")
    # A work may put itself back, to go on in pieces: others get between.
    turns.put("pieces", lambda: (told.append("first"), turns.put("pieces", lambda: told.append("second"))))
    turns.put("last", lambda: told.append("last"))
    _pump(turns, told)
    assert [t for t in told if t != "|"] == ["new", "first", "last", "second"]
    QTimer.singleShot(0, parent, lambda: turns.put("late", lambda: told.append("late")))
    turns.drop()
    _pump(turns, told)
    assert "late" in told and not turns.busy, "it goes on after all was dropped"
