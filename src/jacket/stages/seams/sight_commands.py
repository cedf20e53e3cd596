"""Sight lines: the views from which seams are not to show."""

from __future__ import annotations

from collections.abc import Callable

from jacket.commands.common import always
from jacket.commands.host import Host
from jacket.commands.model import Command
from jacket.document.edits import seams
from jacket.document.state import State


def has_sights(state: State) -> bool:
    """Sight lines are saved."""
    return bool(state.sights)


def _add(kind: str) -> Callable[[Host], None]:
    def run(host: Host) -> None:
        eye, target = host.looks_from()
        seams.add_sight(host.document, kind, eye, target)

    return run


def _clear(host: Host) -> None:
    document = host.document
    document.apply("forget all sight lines", document.state.with_(sights=()))


COMMANDS = (
    Command("sight-here", "Save this view as a sight line", "camera seen hidden game view", "", always, _add("eye")),
    Command("sight-ring", "Save a turntable as sight lines", "camera round seen hidden", "", always, _add("ring")),
    Command("sight-around", "Save all around as sight lines", "camera sphere seen hidden", "", always, _add("around")),
    Command("clear-sights", "Forget all sight lines", "camera seen remove", "", has_sights, _clear),
)  # fmt: skip
