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
from jacket.core.bake.texels import covered_texels, texel_places
from jacket.core.derive import light_of, surface_of
from jacket.core.mesh.diagonals import short_diagonals
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.source.rebuild import put_together
from jacket.core.store import STORE
from jacket.core.uv.sheets import ONE_SHEET, Sheet, Sheets
from jacket.errors import MeshError
from jacket.progress import Progress, part, silent

MOST_SIZE = 8192
TWICE = 0.01
"""Share of islands over others from which on that is said; less is pixels at outlines."""
HEAVY, LIGHT = 250_000, 60_000
"""Triangles from which on a tree takes long, and about how many points the copy has that is looked at meanwhile."""
FIRST_SIZE = 256
"""Size at which maps are seen first, long before they are done."""


WAYS = {"above": (0.0, 1.0, 0.0), "below": (0.0, -1.0, 0.0), "front": (0.0, 0.0, 1.0), "back": (0.0, 0.0, -1.0),
        "left": (-1.0, 0.0, 0.0), "right": (1.0, 0.0, 0.0)}  # fmt: skip
"""Where light may come from, by words: Y up, +Z towards who looks (common practice)."""


def pairs_in(text: str) -> tuple[tuple[str, str], ...]:
    """Pairs of names out of "layer=source, layer=source". Raises MeshError where a part of it is none."""
    out = []
    for word in (w.strip() for w in text.split(",") if w.strip()):
        layer, mark, source = (w.strip() for w in word.partition("="))
        if not (layer and mark and source):
            raise MeshError(f"'{word[:60]}' is no pair; write layer=source.")
        out.append((layer, source))
    return tuple(out)


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
    left_out names of sources, and of groups of sources, that nothing is baked from
    pairs    layers and the one source that each of them is baked from; other layers are baked as ever
    """

    maps: tuple[str, ...] = ("normal", "occlusion")
    size: int = 0
    reach: float = 0.0
    back: float = 0.0
    by_name: bool = False
    left_out: tuple[str, ...] = ()
    options: BakeOptions = field(default_factory=BakeOptions)
    pairs: tuple[tuple[str, str], ...] = ()

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
    heavy = seen is not unseen and any(not _is_ready(those) for _, those in groups)
    if heavy:
        # The tree of a large scan takes seconds: what is seen first comes from a light copy.
        _look_first(groups, [dense_of(_lighter(those)) for _, those in groups], sheets, settings, reach, seen)
    dense = [dense_of(those) for _, those in groups]
    if not heavy:
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
    return Bake(tuple(done), reach, tuple(_notes(done, layers)), time.perf_counter() - start, ground)


def _usable(
    layers: Sequence[BakeLayer], sources: Sequence[BakeLayer], settings: BakeSettings
) -> tuple[list[BakeLayer], list[BakeLayer]]:
    faces = [x for x in layers if x.mesh.n_faces]
    if not faces:
        raise MeshError("There are no faces to bake onto; show a layer that has some.")
    mapped = [x for x in faces if x.mesh.uv is not None and np.isfinite(x.mesh.uv).any()]
    if not mapped:
        raise MeshError(f"{faces[0].name} has no UVs to bake onto; flatten and pack it first.")
    rest = sources_left(sources, settings)
    if not rest:
        raise MeshError("There is no source to bake from; open the dense mesh first, or leave fewer sources out.")
    for _, source in settings.pairs:
        if not any(s.name == source for s in rest):
            raise MeshError(f"There is no source called {source} to bake from; the pairs name {', '.join(s for _, s in settings.pairs)}.")
    return mapped, rest


def sources_left(sources: Sequence[BakeLayer], settings: BakeSettings) -> list[BakeLayer]:
    """The sources that are baked from, without what is left out of them."""
    rows = [without_groups(s, settings.left_out) for s in sources if s.mesh.n_faces and s.name not in settings.left_out]
    return [s for s in rows if s.mesh.n_faces]


def without_groups(source: BakeLayer, names: Sequence[str]) -> BakeLayer:
    """A source without the faces of groups that are left out; itself where it has none of them."""
    group, gone = source.mesh.face_data.get("group"), [k for k, g in enumerate(source.mesh.groups) if g in names]
    if group is None or not gone:
        return source

    def make() -> PolyMesh:
        return put_together(source.mesh, np.flatnonzero(~np.isin(group, gone)))

    # Kept, so that what is derived of it is too.
    return BakeLayer(source.name, STORE.get(tuple(_aspects(source)), ("without groups", tuple(gone)), make))


def dense_of(sources: Sequence[BakeLayer]) -> Dense:
    """Sources as one, kept for the next bake: the tree of a large scan takes seconds."""
    rows = [(s.name, s.mesh.detached()) for s in sources]
    found: Dense = _kept(sources, _dense_key(sources), lambda: Dense.of(rows))
    return found


def _dense_key(sources: Sequence[BakeLayer]) -> tuple[Any, ...]:
    return ("dense", tuple(s.mesh.materials for s in sources))


def _is_ready(sources: Sequence[BakeLayer]) -> bool:
    """Whether rays can be cast at sources within a moment: they are few, or their tree is kept."""
    grounds, names = tuple(a for s in sources for a in _aspects(s)), tuple(s.name for s in sources)
    return sum(s.mesh.n_faces for s in sources) < HEAVY or STORE.peek(grounds, (*_dense_key(sources), names)) is not None


def _lighter(sources: Sequence[BakeLayer]) -> list[BakeLayer]:
    """Light copies of sources, without their pictures."""
    return [BakeLayer(s.name, light_of(s.mesh, LIGHT)[0]) for s in sources]


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
    paired = dict(settings.pairs)
    out = [([x], [s for s in sources if s.name == paired[x.name]]) for x in layers if x.name in paired]
    others = [x for x in layers if x.name not in paired]
    if not settings.by_name:
        return [*out, (others, list(sources))] if others else out
    for layer in others:
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


def covered_twice(layers: Sequence[BakeLayer], sheet: Sheet, size: int = 1024) -> float:
    """Share of what islands cover of a sheet that several of them cover: their areas against the pixels they fill."""
    shape = np.array([sheet.width, sheet.height], float) * size / max(sheet.width, sheet.height)
    at = np.concatenate([texel_places(x.mesh, tri, sheet.origin, shape) for x in layers if len(tri := _triangles(x.mesh, sheet))])
    one, two = at[:, 1] - at[:, 0], at[:, 2] - at[:, 0]
    area = float(np.abs(one[:, 0] * two[:, 1] - one[:, 1] * two[:, 0]).sum()) / 2
    filled = int((covered_texels(at, np.zeros((0, 2), np.int32), int(shape[0]), int(shape[1]), 0.0) >= 0).sum())
    return max(area - filled, 0.0) / max(area, 1e-12)


def _notes(done: Sequence[SheetMaps], layers: Sequence[BakeLayer]) -> list[str]:
    """What is worth knowing of a bake, in sentences."""
    out = []
    for s in done:
        twice = covered_twice(layers, s.sheet)
        if twice > TWICE:
            out.append(f"{100 * twice:.0f} % of the islands of {s.sheet.name} lie over others, and there one of them has the map; pack them apart, "
                       "or offset twins by a whole sheet.")  # fmt: skip
        if s.missed > 0.001:
            out.append(f"{100 * s.missed:.1f} % of {s.sheet.name} met no source; let the cage reach further there.")
        if s.behind > 0.001:
            out.append(f"{100 * s.behind:.1f} % of {s.sheet.name} met only faces that look away; turn the source's faces, or shorten the cage.")
    return out
