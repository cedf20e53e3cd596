"""The base of cards that belong to a stage."""

from __future__ import annotations

from typing import Any, ClassVar

from PySide6.QtCore import Signal

from jacket.qt.cards.base import Card, Desk


class StageCard(Card):
    """A card of a stage. It is filled when its stage is shown, and anew when something it watches changes and its key is
    another one.

    name       by which it is remembered as folded
    heading    its title
    watches    names of what changes it: fields of the document's state, and what the program tells
    """

    name: ClassVar[str] = ""
    heading: ClassVar[str] = ""
    watches: ClassVar[frozenset[str]] = frozenset()
    waits: ClassVar[bool] = False
    """Whether the card stands still while a gesture goes on and is brought up to date at its end."""
    open_wanted = Signal(str)

    def __init__(self, desk: Desk) -> None:
        super().__init__(self.heading)
        self.desk = desk
        self.fill()
        self._key: Any = self.key()

    def fill(self) -> None:
        """Put the rows on the card."""

    def key(self) -> object:
        """What the rows follow from, beside what is read off when they change; None for nothing."""
        return object()

    def refresh(self, changed: set[str], force: bool = False) -> bool:
        """Fill the card anew where that is called for; whether it was."""
        document = self.desk.program.document
        if self.waits and not force:
            if document.in_gesture:
                return False
            changed = changed | ({"jackets"} if "gesture" in changed else set())
        if not force and not changed & self.watches:
            return False
        key = self.key()
        if not force and key == self._key:
            return False
        self._key = key
        self.clear()
        self.fill()
        return True
