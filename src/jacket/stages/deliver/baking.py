"""Baking in the window: what is baked from what, watched while it fills, and whether it is still true."""

from __future__ import annotations

import time
from dataclasses import replace
from typing import Any

import numpy as np

from jacket.commands.host import Host
from jacket.core.bake.bake import SheetBake
from jacket.core.bake.cage import REACH, STRAIGHT
from jacket.core.bake.made import Bake, SheetMaps
from jacket.core.bake.maps import MAPS, Baked
from jacket.core.mesh.choosing import as_kind
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.sheets import Sheet
from jacket.document.state import State
from jacket.document.task import Ground, Task, on_sources
from jacket.errors import JacketError
from jacket.jobs.bake import BakeLayer, bake, ground_of, sources_left
from jacket.progress import Progress
from jacket.stages.deliver.values import DeliverValues

SEEN = 512
"""Pixels at most of maps that are shown while they fill."""
EVERY = 0.7
"""Seconds between two looks at maps that fill."""


def layers_and_sources(state: State) -> tuple[list[BakeLayer], list[BakeLayer]]:
    """The layers that are baked onto, and what they are baked from: visible sources, or all where none is, and dense layers."""
    layers = [BakeLayer(j.name, j.mesh) for j in state.baked_onto]
    dense = [BakeLayer(j.name, j.mesh) for j in state.jackets if j.visible and j.dense and j.mesh.n_faces]
    sources = [s for s in state.sources if s.visible] or list(state.sources)
    return layers, [*(BakeLayer(s.name, s.mesh) for s in sources), *dense]


def bakeable(state: State) -> bool:
    """Some visible layer has UVs, and there is a source."""
    layers, sources = layers_and_sources(state)
    return bool(sources) and any(x.mesh.uv is not None and bool(np.isfinite(x.mesh.uv).any()) for x in layers)


def is_stale(baked: Bake | None, state: State, values: DeliverValues) -> bool:
    """Whether maps were made of something that has changed since."""
    if baked is None or not baked.whole:
        return False
    layers, sources = layers_and_sources(state)
    mapped = [x for x in layers if x.mesh.uv is not None and np.isfinite(x.mesh.uv).any()]
    try:
        settings = values.baking()
    except JacketError:
        settings = replace(DeliverValues(), **{k: getattr(values, k) for k in ("map_size", "samples")}).baking()
    return baked.ground != ground_of(mapped, sources_left(sources, settings), state.sheets, settings)


def bake_maps(host: Host) -> None:
    """Bake the chosen maps beside the window."""
    task = bake_task(host)
    host.show(replace(host.display, lit=True))
    host.start(task)


def bake_task(host: Host, maps: tuple[str, ...] = ()) -> Task:
    """Baking as a task; `maps` in place of the chosen ones. Raises JacketError where settings make no sense."""
    state, settings = host.document.state, host.values(DeliverValues).baking()
    settings = replace(settings, maps=maps).checked() if maps else settings
    layers, sources = layers_and_sources(state)
    grounds = (*(Ground("layer", j.id, j.mesh) for j in state.jackets), *on_sources(state))
    before, last = (host.baked if host.baked is not None and host.baked.whole else None), [0.0]
    begun: dict[int, SheetMaps] = {}

    def seen(sheet: Sheet, work: SheetBake) -> None:
        if time.perf_counter() - last[0] > EVERY:
            last[0] = time.perf_counter()
            begun[sheet.tile] = glimpsed(sheet, work)
            host.watch_baking(Bake(tuple(begun.values()), whole=False))

    def job(progress: Progress) -> Bake:
        return bake(layers, sources, state.sheets, settings, progress, seen, before)

    def merge(done: Bake) -> None:
        if not any(g.holds(host.document.state) for g in grounds):
            host.keep_baked(None)
            host.say("Another project was opened meanwhile, so the maps were dropped.")
            return
        host.keep_baked(done)
        what = f"{len(done.sheets)} sheets" if len(done.sheets) > 1 else done.sheets[0].sheet.name if done.sheets else "nothing"
        tail = f" {done.notes[0]}" if done.notes else ""
        host.say(f"Baked {len(settings.maps)} maps of {what} in {done.seconds:.1f} s.{tail}")

    return Task("bake the maps", job, merge)


def glimpsed(sheet: Sheet, work: SheetBake) -> SheetMaps:
    """Maps as far as they are, small enough to be shown often."""
    step = max(-(-max(work.width, work.height) // SEEN), 1)
    maps = {}
    for kind, pixels in work.pixels.items():
        some = pixels[::step, ::step].copy()
        low, high = (float(some.min()), float(some.max())) if MAPS[kind].whole and some.size else (0.0, 1.0)
        maps[kind] = Baked(kind, some, low, high)
    return SheetMaps(sheet, maps, work.state[::step, ::step].copy())


# ---- the cage, painted on what is held -----------------------------------------------------------------------------------


def held_points(state: State, wanted: str = "the cage is to be another one") -> tuple[PolyMesh, Any]:
    """The active layer and flags (V,) of its held points. Raises JacketError where nothing is held, with what is `wanted` there."""
    jacket = state.jacket
    if jacket is None or not state.held.parts:
        raise JacketError(f"Hold the faces where {wanted} first.")
    mesh = jacket.mesh
    flags = np.zeros(mesh.n_points, bool)
    for part in state.held.parts:
        flags[as_kind(mesh, part.kind, part.ids, "points")] = True
    return mesh, flags


def change_cage(host: Host, name: str, times: float) -> None:
    """Let the cage reach so many times as far at what is held."""
    mesh, flags = held_points(host.document.state)
    values = np.array(mesh.point_data.get(REACH, np.ones(mesh.n_points)), np.float64)
    values[flags] = np.clip(values[flags] * times, 0.05, 20.0)
    _put(host, name, mesh, REACH, values)


def straighten_rays(host: Host, name: str, share: float) -> None:
    """Let rays follow the faces at what is held, or the averaged normals again."""
    mesh, flags = held_points(host.document.state)
    values = np.array(mesh.point_data.get(STRAIGHT, np.zeros(mesh.n_points)), np.float64)
    values[flags] = share
    _put(host, name, mesh, STRAIGHT, values)


def _put(host: Host, name: str, mesh: PolyMesh, channel: str, values: Any) -> None:
    host.document.edit_jacket(name, mesh.with_(point_data={**mesh.point_data, channel: values}))


def plain_cage(host: Host) -> None:
    """Forget what was painted of the cage."""
    jacket = host.document.state.jacket
    if jacket is not None:
        rest = {k: v for k, v in jacket.mesh.point_data.items() if k not in (REACH, STRAIGHT)}
        host.document.edit_jacket("plain cage", jacket.mesh.with_(point_data=rest))
