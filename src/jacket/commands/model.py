"""What a command and a stage are."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from jacket.commands.display import Colouring
from jacket.commands.host import Host, Run
from jacket.core.checks.model import Check, Level
from jacket.document.state import State
from jacket.tools.base import Tool


@dataclass(frozen=True)
class Command:
    """Something that can be asked for.

    id         by which menus, keys, buttons and tests name it
    label      what people read;  words   to find it by
    key        its usual key, "" for none
    available  whether it fits a state now
    run        what it does
    waits      whether it works on beside the window: while other work is under way it waits its turn
    """

    id: str
    label: str
    words: str
    key: str
    available: Callable[[State], bool]
    run: Run
    waits: bool = False


@dataclass(frozen=True)
class Ticket:
    """The line under a stage's name, and whether something there wants to be looked at."""

    text: str
    level: Level = "good"


@dataclass(frozen=True)
class Looks:
    """How a stage is looked at at first: what colours the jacket, whether the checker is on, and the share of the width
    that the flat view gets once something is flat."""

    colouring: Colouring = Colouring.PLAIN
    checker: bool = False
    flat_share: float = 0.4


def _nothing_more(host: Host) -> Callable[[State], list[Check]]:
    """No checks beside those of the state."""
    return lambda state: []


@dataclass(frozen=True)
class StageSpec:
    """A stage of the job: all that the rest of the program needs to know of it.

    id, label, key   its name in the program, to people, and the key that goes to it
    tools            in the order of the rail
    commands         its own commands, in the order of the search
    values           dataclass of what it can be set to, made without arguments
    checks           its live checks for a state; slow ones are kept (core/derive.py)
    ticket           its key line from a state and those checks
    menu             commands of its context menu
    also             checks that hang on more than the state: takes what it needs of the host at once, and looks later
    """

    id: str
    label: str
    key: str
    tools: tuple[type[Tool], ...]
    commands: tuple[Command, ...]
    values: type
    checks: Callable[[State], list[Check]]
    ticket: Callable[[State, list[Check]], Ticket]
    menu: tuple[str, ...] = ()
    looks: Looks = field(default_factory=Looks)
    also: Callable[[Host], Callable[[State], list[Check]]] = _nothing_more
