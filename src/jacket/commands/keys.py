"""Keys: those of commands, and those of tools in the stage they belong to."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from jacket.commands.model import Command, StageSpec
from jacket.commands.registry import Registry
from jacket.tools.base import Tool


def tool_of_key(stage: StageSpec, key: str) -> type[Tool] | None:
    """The tool of a stage by its key; None where there is none."""
    return next((tool for tool in stage.tools if key and tool.key == key), None)


def taking(stages: Sequence[StageSpec], now: StageSpec, take: Callable[[str, str], None]) -> list[Command]:
    """A command for every tool that puts it in hand, those of the stage `now` first: `take` is given the ids of stage and tool.
    A tool of several stages is taken where one is, else in the first of them. They are found by what their legend says."""
    out: dict[str, Command] = {}
    for stage in (now, *stages):
        for tool in stage.tools:
            if tool.id not in out:
                words = " ".join([*(what for _, what in tool.legend), *(label for o in tool.options for _, label in o.choices)])
                out[tool.id] = _taking(tool, stage, words.lower(), take)
    return list(out.values())


def _taking(tool: type[Tool], stage: StageSpec, words: str, take: Callable[[str, str], None]) -> Command:
    label = f"{tool.label}, a tool of {stage.label}"
    return Command(f"tool-{tool.id}", label, words, tool.key, lambda _: True, lambda _: take(stage.id, tool.id))


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
