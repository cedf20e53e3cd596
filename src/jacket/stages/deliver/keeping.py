"""Maps that go into the project file with the work, and come back with it."""

from __future__ import annotations

import dataclasses
from dataclasses import replace
from pathlib import Path

import numpy as np

from jacket.commands.host import Host
from jacket.core.bake.bake import BakeOptions
from jacket.core.bake.made import Bake
from jacket.document.state import State
from jacket.errors import FormatError, JacketError
from jacket.formats.project.maps import KeptMaps, load_maps
from jacket.jobs.bake import BakeSettings, ground_of, sources_left
from jacket.stages.deliver.baking import is_stale, layers_and_sources
from jacket.stages.deliver.values import DeliverValues


def maps_to_keep(host: Host) -> KeptMaps | None:
    """The maps that are saved with the work: what was baked last, where that is wished for."""
    baked, values = host.baked, host.values(DeliverValues)
    if baked is None or not baked.whole or not baked.sheets or not values.keep_maps:
        return None
    true = not is_stale(baked, host.document.state, values)
    return KeptMaps(baked, dataclasses.asdict(values.baking()) if true else None)


def maps_in(path: Path, state: State) -> tuple[Bake | None, str]:
    """The maps in a project file whose state was loaded, told stale where they were; and a sentence where there are some that
    cannot be read."""
    try:
        kept = load_maps(path)
    except FormatError as error:
        return None, str(error)
    return (None, "") if kept is None else (restored(kept, state), "")


def restored(kept: KeptMaps, state: State) -> Bake:
    """Maps that belong to a state again: true where they were, so that nothing is baked twice."""
    if kept.settings is None:
        return kept.baked
    try:
        settings = _settings(kept.settings)
    except (JacketError, KeyError, TypeError, ValueError):
        return kept.baked
    layers, sources = layers_and_sources(state)
    mapped = [x for x in layers if x.mesh.uv is not None and np.isfinite(x.mesh.uv).any()]
    return replace(kept.baked, ground=ground_of(mapped, sources_left(sources, settings), state.sheets, settings))


def _settings(data: dict[str, object]) -> BakeSettings:
    fields = dict(data)
    options = dict(fields.pop("options"))  # type: ignore[call-overload]
    options["sun"] = tuple(float(v) for v in options["sun"])
    rows = {k: tuple(tuple(v) if isinstance(v, list) else v for v in fields.pop(k)) for k in ("maps", "left_out", "pairs")}  # type: ignore[attr-defined]
    return BakeSettings(**fields, **rows, options=BakeOptions(**options)).checked()  # type: ignore[arg-type]
