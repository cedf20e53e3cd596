"""Commands of the automatic route: trials made, compared, taken whole or in part, and parts made anew."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace
from typing import Any

from jacket.commands.common import has_faces, has_source
from jacket.commands.host import Host
from jacket.commands.model import Command
from jacket.core.derive import surface_of
from jacket.core.mesh.geometry import face_areas
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.redo import part_redone, taken_inside
from jacket.document.edits import trials
from jacket.document.edits.layers import keep_as_layer
from jacket.document.state import State, Trial
from jacket.document.task import Ground, Task, on_layer, on_sources
from jacket.errors import JacketError
from jacket.jobs.remesh import RemeshSettings, remesh
from jacket.jobs.unwind import UnwindSettings, unwind
from jacket.progress import Progress
from jacket.stages.topology.values import TopologyValues


def has_trials(state: State) -> bool:
    """There is a trial."""
    return bool(state.trials)


def several_trials(state: State) -> bool:
    """There are two trials or more."""
    return len(state.trials) > 1


def trial_and_source(state: State) -> bool:
    """There is a trial and a source."""
    return has_trials(state) and has_source(state)


def held_faces(state: State) -> bool:
    """Faces of the layer are held, and there is a source."""
    return state.jacket is not None and state.source is not None and len(state.held.of("faces")) > 0


def _make(host: Host) -> None:
    _run(host, host.values(TopologyValues).remeshing(host.document.state))


def _again(host: Host) -> None:
    """The chosen trial made once more with its own settings, over the source as it is now."""
    _run(host, RemeshSettings.from_dict(chosen(host).settings))


def _run(host: Host, settings: RemeshSettings) -> None:
    settings.checked()
    state = host.document.state
    source = host.document.require_source().mesh
    plain = _told(replace(settings, auto=settings.auto.unguided(), gap=0.0), source)
    unguided = next((t.mesh for t in state.trials if t.settings == plain), None)
    watch = host.watch_field
    start = time.perf_counter()

    def job(progress: Progress) -> Any:
        return remesh(source, settings, progress, surface_of(source), watch, unguided)

    def merge(result: Any) -> None:
        figures = {**result.figures.as_dict(), "field_singularities": result.field_singularities}
        figures["seconds"] = time.perf_counter() - start
        figures["notes"] = list(result.notes)
        trials.add_trial(host.document, result.mesh, _told(settings, source), figures)
        for note in result.notes:
            host.say(note)

    host.start(Task("make a trial", job, merge, on_sources(state), lambda: _run(host, settings)))


def _told(settings: RemeshSettings, source: PolyMesh) -> dict[str, Any]:
    """What a trial remembers; `faces` of the source, so that one over an older source is not compared with."""
    return {**settings.as_dict(), "faces": source.n_faces}


def chosen(host: Host) -> Trial:
    """The trial that is looked at; raises JacketError where there is none."""
    trial = host.document.state.trial
    if trial is None:
        raise JacketError("There is no trial; make one first.")
    return trial


def _take(host: Host) -> None:
    trials.take_trial(host.document, chosen(host).id)


def _drop(host: Host) -> None:
    trials.drop_trial(host.document, chosen(host).id)


def _next(host: Host) -> None:
    ids = [t.id for t in host.document.state.trials]
    trials.choose_trial(host.document, ids[(ids.index(chosen(host).id) + 1) % len(ids)])


def _keep(host: Host) -> None:
    keep_as_layer(host.document, chosen(host))


Change = Callable[[Progress], tuple[PolyMesh, tuple[str, ...]]]


def _change_part(host: Host, name: str, ground: Ground, change: Change) -> None:
    """Replace the held faces of a layer by what a long piece of work makes of them."""

    def merge(result: tuple[PolyMesh, tuple[str, ...]]) -> None:
        host.document.edit_layer(name, ground.id, result[0])
        for note in result[1]:
            host.say(note)

    host.start(Task(name, change, merge, (ground,)))


def _take_inside(host: Host) -> None:
    document = host.document
    document.open_jacket()
    trial, source = chosen(host).mesh, document.require_source().mesh
    ground, faces = on_layer(document.state), document.state.held.of("faces")
    _change_part(host, "take the trial where held", ground,
                 lambda progress: taken_inside(ground.mesh, faces, trial, surface_of(source), progress))  # fmt: skip


def _redo(host: Host) -> None:
    document = host.document
    document.open_jacket()
    source = document.require_source().mesh
    ground, faces = on_layer(document.state), document.state.held.of("faces")
    settings = host.values(TopologyValues).remeshing(document.state).auto
    # As many quads as were there, or by the wanted edge length; a number is meant for the whole source.
    wanted = 0
    if settings.edge > 0:
        wanted = max(round(float(face_areas(ground.mesh)[faces].sum()) / settings.edge**2), 4)
    settings = replace(settings, quads=wanted, edge=0.0)
    _change_part(host, "make a part anew", ground,
                 lambda progress: part_redone(ground.mesh, faces, surface_of(source), settings, progress))  # fmt: skip


def _unwind(host: Host) -> None:
    document = host.document
    document.open_jacket()
    source, state = document.require_source().mesh, document.state
    ground, faces = on_layer(state), state.held.of("faces")
    values = host.values(TopologyValues)
    settings = UnwindSettings(0.01 * values.rows, values.sharp, state.mirror).checked()

    def job(progress: Progress) -> tuple[PolyMesh, tuple[str, ...]]:
        mesh, told = unwind(ground.mesh, surface_of(source), settings, faces, progress)
        return mesh, (told,)

    _change_part(host, "unwind the rows", ground, job)


def _has_rows(state: State) -> bool:
    return has_faces(state) and has_source(state)


def _in_part(state: State) -> bool:
    return has_trials(state) and held_faces(state)


COMMANDS = (
    Command("make-trial", "Make a trial", "automatic quads remesh retopology generate", "", has_source, _make, waits=True),
    Command("again-trial", "Make it again", "automatic rerun same settings repeat trial", "", trial_and_source, _again, waits=True),
    Command("take-trial", "Take the trial", "accept use keep automatic", "", has_trials, _take),
    Command("take-inside", "Take it where held", "accept trial part selection inside faces", "", _in_part, _take_inside, waits=True),
    Command("redo-part", "Make the held part anew", "automatic remesh region selection weld faces", "", held_faces, _redo, waits=True),
    Command("unwind-rows", "Unwind the rows", "rings loops spiral helix close rows flow held part", "", _has_rows, _unwind, waits=True),
    Command("drop-trial", "Throw the trial away", "discard reject automatic", "", has_trials, _drop),
    Command("next-trial", "Look at the next trial", "blink compare automatic", "B", several_trials, _next),
    Command("keep-trial", "Keep the trial as a layer", "layer save automatic", "", has_trials, _keep),
)  # fmt: skip
