"""Commands of the automatic route: trials made, compared, taken whole or in part, and parts made anew."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from jacket.core.derive import surface_of
from jacket.core.mesh.geometry import face_areas
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.auto import AutoSettings, automatic_quads, quads_within_gap
from jacket.core.quads.redo import part_redone, taken_inside
from jacket.document.edits import trials as trials_steps
from jacket.document.edits.layers import keep_as_layer
from jacket.document.state import State, Trial
from jacket.errors import JacketError
from jacket.progress import Progress

if TYPE_CHECKING:
    from jacket.stages.commands import Command, Host


def trial_settings(state: State, values: dict[str, Any]) -> AutoSettings:
    """What a trial is made with: the card's numbers, the mirror, the guides and the painted density."""
    return AutoSettings(
        quads=int(values["quads"]), sharp=float(values["sharp"]), shortest=float(values["shortest"]),
        edge=float(values["edge"]) if values["aim"] == "edge" else 0.0, mirror=state.mirror,
        across=bool(values["across"]), guides=state.guides, paint=state.paint, skin=bool(values["skin"]),
        form=0.01 * float(values["form"]),
    )  # fmt: skip


def _has_trials(state: State) -> bool:
    return bool(state.trials)


def _has_source(state: State) -> bool:
    return state.source is not None


def _held_faces(state: State) -> bool:
    return state.jacket is not None and state.source is not None and len(state.held.of("faces")) > 0


def _make(host: Host) -> None:
    most = float(host.values["gap"]) if host.values["aim"] == "gap" else 0.0
    _run(host, trial_settings(host.document.state, host.values), most)


def _again(host: Host) -> None:
    """The chosen trial made once more with its own settings, over the source as it is now."""
    kept = chosen(host).settings
    _run(host, AutoSettings.from_dict(kept), float(kept.get("gap", 0.0)))


def _run(host: Host, settings: AutoSettings, most: float) -> None:
    source = host.document.require_source()
    surface = surface_of(source.mesh)
    plain = _told(settings.unguided(), 0.0, source.mesh)
    unguided = next((t.mesh for t in host.document.state.trials if t.settings == plain), None)
    start = time.perf_counter()

    def job(progress: Progress) -> Any:
        if most > 0:
            return quads_within_gap(source.mesh, settings, most, progress, surface, host.watch_field)
        return automatic_quads(source.mesh, settings, progress, surface, host.watch_field, unguided)

    def done(result: Any) -> None:
        now = host.document.state.source
        if now is None or now.mesh is not source.mesh:
            raise JacketError("The source is gone meanwhile, so the trial was thrown away.")
        figures = {**result.figures.as_dict(), "field_singularities": result.field_singularities}
        figures["seconds"] = time.perf_counter() - start
        figures["notes"] = list(result.notes)
        trials_steps.add_trial(host.document, result.mesh, _told(settings, most, source.mesh), figures)
        for note in result.notes:
            host.say(note)

    host.work("making a trial", job, done)


def _told(settings: AutoSettings, most: float, source: PolyMesh) -> dict[str, Any]:
    """What a trial remembers; `faces` of the source, so that one over an older source is not compared with."""
    return {**settings.as_dict(), "gap": most, "faces": source.n_faces}


def chosen(host: Host) -> Trial:
    """The trial that is looked at; raises JacketError where there is none."""
    trial = host.document.state.trial
    if trial is None:
        raise JacketError("There is no trial; make one first.")
    return trial


def _take(host: Host) -> None:
    trials_steps.take_trial(host.document, chosen(host).id)


def _drop(host: Host) -> None:
    trials_steps.drop_trial(host.document, chosen(host).id)


def _next(host: Host) -> None:
    ids = [t.id for t in host.document.state.trials]
    trials_steps.choose_trial(host.document, ids[(ids.index(chosen(host).id) + 1) % len(ids)])


def _keep(host: Host) -> None:
    keep_as_layer(host.document, chosen(host))


Change = Callable[[PolyMesh, Any, Progress], tuple[PolyMesh, tuple[str, ...]]]


def _change_part(host: Host, name: str, change: Change) -> None:
    """Replace the held faces of the layer by what a long piece of work makes of them."""
    document = host.document
    mesh, faces = document.open_jacket().mesh, document.state.held.of("faces")

    def done(result: tuple[PolyMesh, tuple[str, ...]]) -> None:
        jacket = document.state.jacket
        if jacket is None or jacket.mesh is not mesh:
            raise JacketError(f"The jacket changed meanwhile, so '{name}' was not applied; do it again.")
        document.edit_jacket(name, result[0])
        for note in result[1]:
            host.say(note)

    host.work(name, lambda progress: change(mesh, faces, progress), done)


def _take_inside(host: Host) -> None:
    trial = chosen(host).mesh
    surface = surface_of(host.document.require_source().mesh)
    _change_part(host, "take the trial where held",
                 lambda mesh, faces, progress: taken_inside(mesh, faces, trial, surface, progress))  # fmt: skip


def _redo(host: Host) -> None:
    surface = surface_of(host.document.require_source().mesh)
    settings = trial_settings(host.document.state, host.values)
    # As many quads as were there, or by the wanted edge length; a number is meant for the whole source.
    wanted = 0
    if settings.edge > 0:
        mesh = host.document.require_jacket().mesh
        wanted = max(round(float(face_areas(mesh)[host.document.state.held.of("faces")].sum()) / settings.edge**2), 4)
    settings = replace(settings, quads=wanted, edge=0.0)
    _change_part(host, "make a part anew",
                 lambda mesh, faces, progress: part_redone(mesh, np.asarray(faces), surface, settings, progress))  # fmt: skip


def trial_commands(make: type[Command]) -> list[Command]:
    """All of them, made as commands of the registry."""
    several = lambda s: len(s.trials) > 1  # noqa: E731
    return [
        make("make-trial", "Make a trial", "automatic quads remesh retopology generate", "", _has_source, _make),
        make("again-trial", "Make it again", "automatic rerun same settings repeat trial", "", lambda s: _has_trials(s) and _has_source(s), _again),
        make("take-trial", "Take the trial", "accept use keep automatic", "", _has_trials, _take),
        make("take-inside", "Take it where held", "accept trial part selection inside faces", "", lambda s: _has_trials(s) and _held_faces(s), _take_inside),
        make("redo-part", "Make the held part anew", "automatic remesh region selection weld faces", "", _held_faces, _redo),
        make("drop-trial", "Throw the trial away", "discard reject automatic", "", _has_trials, _drop),
        make("next-trial", "Look at the next trial", "blink compare automatic", "B", several, _next),
        make("keep-trial", "Keep the trial as a layer", "layer save automatic", "", _has_trials, _keep),
    ]  # fmt: skip
