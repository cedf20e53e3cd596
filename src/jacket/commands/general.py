"""Commands that belong to no stage: files, history, looking, going from stage to stage."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from jacket.commands.common import always
from jacket.commands.display import Display
from jacket.commands.host import Host, Run
from jacket.commands.model import Command, StageSpec
from jacket.commands.registry import Registry
from jacket.document.state import State


def _undo(host: Host) -> None:
    name = host.document.undo()
    if name:
        host.say(f"Undone: {name}.")
        return
    gone = host.document.history.let_go
    host.say(f"There is nothing to undo; {gone:,} older steps were let go for want of memory." if gone else
             "There is nothing to undo.")  # fmt: skip


def _redo(host: Host) -> None:
    name = host.document.redo()
    host.say(f"Done again: {name}." if name else "There is nothing to do again.")


def _stage(name: str) -> Run:
    return lambda host: host.show_stage(name)


def _toggle(name: str) -> Run:
    return lambda host: host.show(host.display.toggled(name))


def _can_split(state: State) -> bool:
    return len(state.trials) > 1 or (bool(state.trials) and state.jacket is not None and state.jacket.mesh.n_faces > 0)


SHOWN = {
    "source": "Show the source", "jacket": "Show the jacket", "trial": "Show the trial instead of the jacket",
    "wire": "Show the wires", "gap": "Show the gap to the source", "poles": "Show the poles", "seams": "Show the seams",
    "islands": "Show islands in colours", "moved": "Show how far the jacket moved", "checker": "Show the checker",
    "stretch": "Show the stretch", "names": "Show island names", "through": "See the jacket through the source",
    "solid": "Show the jacket's faces", "backs": "Show faces turned away", "lifted": "Show lifted points",
    "uncovered": "Show what is not covered", "outline": "Show the outline against the source",
    "strokes": "Show which way pictures are stretched", "threads": "Show which borders belong together",
    "apart": "Show the dense mesh beside the light one, both whole",
    "rings": "Show the rings in colours, the longest lit", "split": "Compare trials side by side",
}  # fmt: skip
"""Switches and colourings of the display by what their commands are called."""


def general_commands(stages: Sequence[StageSpec]) -> list[Command]:
    """All of them, in the order in which search lists them."""
    rows = [
        Command("open-source", "Open a source…", "load import mesh sculpt scan obj ply stl glb off", "Ctrl+I", always, lambda h: h.open_source()),
        Command("open-project", "Open a project…", "load file jacket", "Ctrl+O", always, lambda h: h.open_project()),
        Command("save", "Save", "project file store", "Ctrl+S", always, lambda h: h.save(False)),
        Command("save-as", "Save as…", "project copy", "Ctrl+Shift+S", always, lambda h: h.save(True)),
        Command("kept-work", "Kept work…", "recover crash unsaved autosave bring back", "", always, lambda h: h.show_kept()),
        Command("undo", "Undo", "back take step", "Ctrl+Z", always, _undo),
        Command("redo", "Do again", "redo forward", "Ctrl+Shift+Z", always, _redo),
        Command("frame", "Frame what is held", "zoom look view", "F", always, lambda h: h.frame(False)),
        Command("frame-all", "Frame everything", "zoom look view all", "Shift+F", always, lambda h: h.frame(True)),
        Command("show-night", "Night bench", "display dark theme", "", always, lambda h: h.toggle_night()),
    ]  # fmt: skip
    rows += [Command(f"stage-{s.id}", f"Go to {s.label}", "stage ticket", s.key, always, _stage(s.id)) for s in stages]
    rows += [
        Command(f"show-{name}", label, "display toggle view hide", "", _can_split if name == "split" else always, _toggle(name))
        for name, label in SHOWN.items()
    ]
    return rows


def registry_of(stages: Sequence[StageSpec]) -> Registry:
    """The general commands and those of all stages."""
    rows = general_commands(stages)
    return Registry([*rows, *(c for stage in stages for c in stage.commands)])


def project_name(path: str) -> str:
    """The name shown for a project file."""
    return Path(path).stem if path else "unsaved project"


def opening_display(stage: StageSpec, display: Display) -> Display:
    """What is shown on going to a stage: its colouring and checker, all else as it was."""
    from dataclasses import replace

    return replace(display, colouring=stage.looks.colouring, checker=stage.looks.checker, tried="")
