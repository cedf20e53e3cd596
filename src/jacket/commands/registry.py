"""The one list of commands: menus, keys, search, buttons and the pocket all read it; plugins add to it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from jacket.commands.model import Command
from jacket.document.state import State
from jacket.errors import JacketError


class Registry:
    """Commands by their id, in the order in which they were added."""

    def __init__(self, commands: Iterable[Command] = ()) -> None:
        self._by_id: dict[str, Command] = {}
        for command in commands:
            self.add(command)

    def add(self, command: Command) -> None:
        """One command more. Raises JacketError where its id or its key is taken: two lists of one thing drift apart."""
        if command.id in self._by_id:
            raise JacketError(f"There are two commands called {command.id}.")
        if command.key and any(c.key == command.key for c in self._by_id.values()):
            raise JacketError(f"The key {command.key} is taken already; {command.id} needs another.")
        self._by_id[command.id] = command

    def __getitem__(self, command_id: str) -> Command:
        if command_id not in self._by_id:
            raise JacketError(f"There is no command {command_id}.")
        return self._by_id[command_id]

    def __contains__(self, command_id: str) -> bool:
        return command_id in self._by_id

    def __iter__(self) -> Iterator[Command]:
        return iter(self._by_id.values())

    def __len__(self) -> int:
        return len(self._by_id)

    def of_key(self, key: str) -> Command | None:
        """The command of a key; None where it has none."""
        return next((c for c in self._by_id.values() if key and c.key == key), None)

    def search(self, text: str, state: State, more: Iterable[Command] = ()) -> list[Command]:
        """Available commands, and some `more`, that match every typed word, those whose label begins so first."""
        words = text.lower().split()
        found = []
        for command in (*self, *more):
            label, other = command.label.lower(), command.words
            if command.available(state) and all(w in label or w in other for w in words):
                rank = 0 if label.startswith(text.lower()) else 1 if all(w in label for w in words) else 2
                found.append((rank, command))
        return [c for _, c in sorted(found, key=lambda item: item[0])]
