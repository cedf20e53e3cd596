"""Keys: those of commands, and those of tools in the stage they belong to."""

from __future__ import annotations

from collections.abc import Sequence

from jacket.commands.model import Command, StageSpec
from jacket.commands.registry import Registry
from jacket.tools.base import Tool


def tool_of_key(stage: StageSpec, key: str) -> type[Tool] | None:
    """The tool of a stage by its key; None where there is none."""
    return next((tool for tool in stage.tools if key and tool.key == key), None)


def plain_command(commands: Registry, key: str) -> Command | None:
    """The command of a single character, which counts only where no field takes it; None where there is none."""
    return commands.of_key(key) if len(key) == 1 else None


def chords(commands: Registry) -> list[tuple[str, Command]]:
    """Keys with modifiers or names and their commands; these count everywhere."""
    return [(c.key, c) for c in commands if len(c.key) > 1]


def clashes(stages: Sequence[StageSpec], commands: Registry) -> list[str]:
    """Tools and commands that would answer to the same key, a sentence each."""
    out = []
    for stage in stages:
        seen: dict[str, str] = {}
        for tool in stage.tools:
            if tool.key in seen:
                out.append(f"{stage.label}: {tool.label} and {seen[tool.key]} share {tool.key}")
            seen[tool.key] = tool.label
            command = plain_command(commands, tool.key)
            if command is not None and command.id in {c.id for c in stage.commands}:
                out.append(f"{stage.label}: {tool.label} and {command.label} share {tool.key}")
    return out
