"""Baking maps of layers from sources, sheet by sheet; what did not change since the last time is not baked again."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.bake.bake import BakeOptions, Group, SheetBake, Values, bake_sheet, point_values
from jacket.core.bake.cage import found_reach, joined_targets, on_sheet, target_of
from jacket.core.bake.dense import Dense
from jacket.core.bake.made import Bake, SheetMaps
from jacket.core.bake.maps import MAPS
from jacket.core.derive import surface_of
from jacket.core.mesh.diagonals import short_diagonals
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.store import STORE
from jacket.core.uv.sheets import ONE_SHEET, Sheet, Sheets
from jacket.errors import MeshError
from jacket.progress import Progress, part, silent

MOST_SIZE = 8192
FIRST_SIZE = 256
"""Size at which maps are seen first, long before they are done."""


@dataclass(frozen=True, eq=False)
class BakeLayer:
    """A jacket or a source by its name."""

    name: str
    mesh: PolyMesh


@dataclass(frozen=True)
class BakeSettings:
    """maps     by their names (core/bake/maps.py)
    size     pixels of the longer side of every sheet, 0 for its own size
    reach    how far rays go outwards, in % of the jacket's diagonal, 0 for what the gap says;  back inwards, 0 for as far
    by_name  each layer only from sources of its own name, up to a tail such as _low and _high
    left_out names of sources that nothing is baked from
    """

    maps: tuple[str, ...] = ("normal", "occlusion")
    size: int = 0
    reach: float = 0.0
    back: float = 0.0
    by_name: bool = False
    left_out: tuple[str, ...] = ()
    options: BakeOptions = field(default_factory=BakeOptions)

    def checked(self) -> BakeSettings:
        """The settings themselves; raises MeshError with a sentence where one makes no sense."""
        for name in self.maps:
            if name not in MAPS:
                raise MeshError(f"There is no map called {name[:40]}; choose from {', '.join(MAPS)}.")
        if not self.maps:
            raise MeshError("No map is chosen; choose at least one to bake.")
        if self.size and not 16 <= self.size <= MOST_SIZE:
            raise MeshError(f"Maps of {self.size} pixels are out of range; choose 16 to {MOST_SIZE:,}, or 0 for the sheet's own size.")
        if not (0 <= self.reach <= 100 and 0 <= self.back <= 100):
            raise MeshError("A cage reaches 0 to 100 % of the jacket's diagonal; choose another distance.")
        o = self.options
        if o.samples not in (1, 2, 3, 4):
            raise MeshError(f"{o.samples} × {o.samples} samples are out of range; choose 1 to 4 a side.")
        if not 1 <= o.rays <= 4096:
            raise MeshError(f"{o.rays} rays a point are out of range; choose 1 to 4,096.")
        if not -1 <= o.padding <= MOST_SIZE:
            raise MeshError(f"A padding of {o.padding} texels makes no sense; choose 0 or more, or -1 for the whole sheet.")
        return self


Seen = Callable[[Sheet, SheetBake], None]


def unseen(sheet: Sheet, work: SheetBake) -> None:
    """Nobody looks on."""


def bake(
    layers: Sequence[BakeLayer], sources: Sequence[BakeLayer], sheets: Sheets = ONE_SHEET, settings: BakeSettings = BakeSettings(),
    progress: Progress = silent, seen: Seen = unseen, before: Bake | None = None,
) -> Bake:  # fmt: skip
    """Bake maps of layers from sources. `seen` is told of every sheet as it fills, from any thread; maps of `before` that
    would come out the same are taken over. Raises MeshError where there is nothing to bake, or nothing to bake from."""
    start = time.perf_counter()
    settings.checked()
    layers, sources = _usable(layers, sources, settings)
    ground = ground_of(layers, sources, sheets, settings)
    old = before if before is not None and before.ground == ground else None
    wanted = [k for k in settings.maps if old is None or any(k not in s.maps for s in old.sheets)]
    if old is not None and not wanted:
        return replace(old, sheets=tuple(_only(s, settings.maps) for s in old.sheets))
    progress(0.0, "measuring the gap")
    groups = _grouped(layers, sources, settings)
    reach = {x.name: _reach(x.mesh, those, settings) for mine, those in groups for x in mine}
    progress(0.02, "preparing the source")
    dense = [dense_of(those) for _, those in groups]
    _look_first(groups, dense, sheets, settings, reach, seen)
    values = [point_values(d, wanted, settings.options, part(progress, 0.05, 0.35), partial(_kept, those))
              for d, (_, those) in zip(dense, groups, strict=True)]  # fmt: skip
    done, rows = [], [s for s in sheets if any(len(_triangles(x.mesh, s)) for x in layers)]
    for k, sheet in enumerate(rows):
        width, height = _size(sheet, settings.size)
        work = SheetBake.blank(width, height, wanted)
        made = [Group(joined_targets([_target(x, sheet, (width, height), reach[x.name], settings) for x in those]), d, v)
                for (those, _), d, v in zip(groups, dense, values, strict=True)]  # fmt: skip
        inner = part(progress, 0.35 + 0.65 * k / len(rows), 0.35 + 0.65 * (k + 1) / len(rows))
        maps = bake_sheet(made, work, settings.options, inner, lambda w, s=sheet: seen(s, w))  # type: ignore[misc]
        if old is not None:
            maps = {**maps, **{n: b for n, b in old.sheets[k].maps.items() if n in settings.maps}}
        done.append(SheetMaps(sheet, {n: maps[n] for n in settings.maps}, work.state))
    return Bake(tuple(done), reach, tuple(_notes(done)), time.perf_counter() - start, ground)


def _usable(
    layers: Sequence[BakeLayer], sources: Sequence[BakeLayer], settings: BakeSettings
) -> tuple[list[BakeLayer], list[BakeLayer]]:
    faces = [x for x in layers if x.mesh.n_faces]
    if not faces:
        raise MeshError("There are no faces to bake onto; show a layer that has some.")
    mapped = [x for x in faces if x.mesh.uv is not None and np.isfinite(x.mesh.uv).any()]
    if not mapped:
        raise MeshError(f"{faces[0].name} has no UVs to bake onto; flatten and pack it first.")
    rest = [s for s in sources if s.mesh.n_faces and s.name not in settings.left_out]
    if not rest:
        raise MeshError("There is no source to bake from; open the dense mesh first, or leave fewer sources out.")
    return mapped, rest


def dense_of(sources: Sequence[BakeLayer]) -> Dense:
    """Sources as one, kept for the next bake: the tree of a large scan takes seconds."""
    rows = [(s.name, s.mesh.detached()) for s in sources]
    found: Dense = _kept(sources, ("dense", tuple(s.mesh.materials for s in sources)), lambda: Dense.of(rows))
    return found


def _kept(sources: Sequence[BakeLayer], key: tuple[Any, ...], make: Callable[[], Any]) -> Any:
    """What is kept of sources under a key, for as long as nothing of them changes."""
    return STORE.get(tuple(a for s in sources for a in _aspects(s)), (*key, tuple(s.name for s in sources)), make)


def _aspects(source: BakeLayer) -> list[Any]:
    """All of a source that maps follow from."""
    return [source.mesh.aspect(a) for a in ("points", "faces", "uv", "point_data", "face_data", "marks")]


def ground_of(layers: Sequence[BakeLayer], sources: Sequence[BakeLayer], sheets: Sheets, settings: BakeSettings) -> tuple[Any, ...]:
    """What maps follow from, the choice of maps excepted: maps from equal grounds come out the same."""
    rows = [(x.name, *(x.mesh.aspect(a) for a in ("points", "faces", "uv", "marks", "point_data"))) for x in layers]
    dense = [(x.name, x.mesh.materials, *_aspects(x)) for x in sources]
    return (*rows, *dense, tuple((s.tile, s.width, s.height) for s in sheets), replace(settings, maps=("normal",)))


def _only(sheet: SheetMaps, kinds: Sequence[str]) -> SheetMaps:
    return replace(sheet, maps={k: sheet.maps[k] for k in kinds})


def _size(sheet: Sheet, size: int) -> tuple[int, int]:
    """Pixels of the maps of a sheet: its own shape, the longer side as wanted."""
    if not size:
        if max(sheet.width, sheet.height) > MOST_SIZE:
            raise MeshError(f"{sheet.name} is {max(sheet.width, sheet.height):,} pixels, more than can be baked; choose a size up to {MOST_SIZE:,}.")
        return sheet.width, sheet.height
    times = size / max(sheet.width, sheet.height)
    return max(round(sheet.width * times), 1), max(round(sheet.height * times), 1)


def _triangles(mesh: PolyMesh, sheet: Sheet) -> NDArray[Any]:
    return on_sheet(mesh, short_diagonals(mesh), sheet)


def _target(layer: BakeLayer, sheet: Sheet, size: tuple[int, int], reach: float, settings: BakeSettings) -> Any:
    return target_of(layer.mesh, sheet, size, reach, 0.01 * settings.back * layer.mesh.diagonal)


def _reach(mesh: PolyMesh, sources: Sequence[BakeLayer], settings: BakeSettings) -> float:
    if settings.reach > 0:
        return 0.01 * settings.reach * mesh.diagonal
    return found_reach(mesh, *(surface_of(s.mesh) for s in sources))


def stem_of(name: str) -> str:
    """A name without the tail that says how dense it is (common practice: _low, _high and their kin)."""
    low = name.strip().lower()
    for tail in ("low", "high", "lp", "hp", "dense", "light", "source", "jacket"):
        for mark in ("_", "-", " ", "."):
            if low.endswith(mark + tail):
                return low[: -len(mark + tail)]
    return low


def _grouped(
    layers: Sequence[BakeLayer], sources: Sequence[BakeLayer], settings: BakeSettings
) -> list[tuple[list[BakeLayer], list[BakeLayer]]]:
    """Layers that are baked from the same sources, and these."""
    if not settings.by_name:
        return [(list(layers), list(sources))]
    out = []
    for layer in layers:
        mine = [s for s in sources if stem_of(s.name) == stem_of(layer.name)]
        if not mine:
            raise MeshError(f"No source is named like {layer.name}; rename one to {stem_of(layer.name)}_high, or bake from all sources.")
        out.append(([layer], mine))
    return out


def _look_first(groups: Any, dense: list[Dense], sheets: Sheets, settings: BakeSettings, reach: Mapping[str, float], seen: Seen) -> None:
    """Cast the normals small and once, to be seen while the rest is prepared."""
    if seen is unseen or "normal" not in settings.maps:
        return
    quick = replace(settings.options, samples=1)
    for sheet in sheets:
        width, height = _size(sheet, min(FIRST_SIZE, settings.size or FIRST_SIZE))
        made = [Group(joined_targets([_target(x, sheet, (width, height), reach[x.name], settings) for x in those]), d,
                      Values(np.zeros((len(d.normals), 0), np.float32), {}))
                for (those, _), d in zip(groups, dense, strict=True)]  # fmt: skip
        if not any(len(g.target.at) for g in made):
            continue
        work = SheetBake.blank(width, height, ("normal",))
        bake_sheet(made, work, quick)
        seen(sheet, work)


def _notes(done: Sequence[SheetMaps]) -> list[str]:
    """What is worth knowing of a bake, in sentences."""
    out = []
    for s in done:
        if s.missed > 0.001:
            out.append(f"{100 * s.missed:.1f} % of {s.sheet.name} met no source; let the cage reach further there.")
        if s.behind > 0.001:
            out.append(f"{100 * s.behind:.1f} % of {s.sheet.name} met only faces that look away; turn the source's faces, or shorten the cage.")
    return out
