"""Baking one sheet: values at the points of the sources, one cast for all maps, gutters and padding, pixels."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.bake.cast import MISSED, Band, Target, cast
from jacket.core.bake.dense import Dense
from jacket.core.bake.maps import MAPS, Baked, id_colours, stored
from jacket.core.bake.points import curvature_at_points, sky_at_points, thickness_at_points
from jacket.core.bake.texels import GUTTER, spread_moves
from jacket.core.jit import kernel
from jacket.core.tone import to_screen
from jacket.progress import Progress, part, silent

Bytes = NDArray[np.uint8]


@dataclass(frozen=True)
class BakeOptions:
    """samples  rays a texel are its square
    rays       over the half sphere of each point, for occlusion, bent normals and thickness
    ground     whether a plane under the lowest point covers the sky;  alone  whether sources cover only themselves
    far        beyond this share of the diagonal nothing covers the sky, 0 for no end
    deep       thickness is measured up to this share of the diagonal
    width      over which curvature is averaged, a share of the diagonal
    radius     of the ball whose curvature is full white, in units; 0 for what suits the source
    sun        (3,) the direction light comes from
    padding    texels that islands are carried on past their border, −1 for the whole sheet
    """

    samples: int = 2
    rays: int = 64
    ground: bool = False
    alone: bool = False
    far: float = 0.0
    deep: float = 0.1
    width: float = 0.004
    radius: float = 0.0
    sun: tuple[float, float, float] = (0.0, 1.0, 0.0)
    padding: int = 16


COLUMNS = {"occlusion": 1, "bent": 3, "thickness": 1, "curvature": 1, "colour": 3}
"""Channels that are carried from points, in their order."""


@dataclass(frozen=True, eq=False)
class Values:
    """Channels (V, K) at the points of a source; `at` says where each begins; `radius` what full white of curvature is."""

    table: NDArray[np.float32]
    at: dict[str, int]
    radius: float = 0.0


Kept = Callable[[tuple[Any, ...], Callable[[], Any]], Any]
"""Gives what is kept under a key, or makes it."""


def made_anew(key: tuple[Any, ...], make: Callable[[], Any]) -> Any:
    """Nothing is kept."""
    return make()


def point_values(
    dense: Dense, kinds: Sequence[str], options: BakeOptions, progress: Progress = silent, kept: Kept = made_anew
) -> Values:
    """What maps of these kinds need at the points of a source; occlusion, thickness and curvature hang on the source and few
    options alone, so they may be `kept`."""
    size, rows, radius = dense.diagonal, dict[str, NDArray[np.float64]](), options.radius
    if {"occlusion", "bent"} & set(kinds):
        o, far = options, options.far * size if options.far > 0 else np.inf
        rows["occlusion"], rows["bent"] = kept(("sky", o.rays, o.ground, o.alone, o.far), lambda: sky_at_points(
            dense, o.rays, o.ground, o.alone, far, part(progress, 0.0, 0.7)))  # fmt: skip
    if "thickness" in kinds:
        rows["thickness"] = kept(("thickness", options.rays, options.deep), lambda: thickness_at_points(
            dense, options.rays, options.deep * size, part(progress, 0.7, 0.95)))  # fmt: skip
    if {"curvature", "ridges", "hollows"} & set(kinds):
        curved = kept(("curvature", options.width), lambda: curvature_at_points(dense, options.width * size))
        if radius <= 0:
            radius = 1.0 / max(float(np.percentile(np.abs(curved), 98)) if len(curved) else 0.0, 1e-12)
        rows["curvature"] = np.clip(curved * radius, -1, 1)
    if "colour" in kinds and not dense.shaded and dense.colours is not None:
        rows["colour"] = dense.colours
    table = [np.asarray(rows[k]).reshape(len(dense.normals), -1) for k in COLUMNS if k in rows]
    at, begin = {}, 0
    for k in COLUMNS:
        if k in rows:
            at[k], begin = begin, begin + COLUMNS[k]
    whole = np.concatenate(table, axis=1) if table else np.zeros((len(dense.normals), 0))
    return Values(np.ascontiguousarray(whole, np.float32), at, radius)


@dataclass(eq=False)
class SheetBake:
    """The maps of a sheet in the making: pixels as they will be kept, (H, W) state of texels and rows done. Filled from
    several threads, each in its own rows."""

    width: int
    height: int
    pixels: dict[str, NDArray[np.uint16] | NDArray[np.float32] | Bytes]
    state: Bytes
    done: int = 0
    lock: threading.Lock = field(default_factory=threading.Lock)

    @staticmethod
    def blank(width: int, height: int, kinds: Sequence[str]) -> SheetBake:
        """Nothing baked yet: the ground of every map."""
        out: dict[str, NDArray[np.uint16] | NDArray[np.float32] | Bytes] = {}
        for k in kinds:
            kind = MAPS[k]
            if k.startswith("id-"):
                out[k] = np.zeros((height, width, 3), np.uint8)
            elif kind.whole:
                out[k] = np.zeros((height, width, kind.channels), np.float32)
            else:
                out[k] = np.broadcast_to(stored(np.array(kind.ground)), (height, width, kind.channels)).copy()
        return SheetBake(width, height, out, np.zeros((height, width), np.uint8))


@dataclass(frozen=True, eq=False)
class Group:
    """Jackets on a sheet that are baked from the same sources, with what is known at their points."""

    target: Target
    dense: Dense
    values: Values


def bake_sheet(
    groups: Sequence[Group], sheet: SheetBake, options: BakeOptions, progress: Progress = silent,
    seen: Callable[[SheetBake], None] = lambda s: None, gutter: float = GUTTER,
) -> dict[str, Baked]:  # fmt: skip
    """Cast all groups and finish the maps that `sheet` has room for. `seen` is told now and then from any thread."""
    colours = {k: _id_colours(groups, k) for k in sheet.pixels if k.startswith("id-")}
    bands = max(len(groups) * -(-sheet.height // 32), 1)
    for group_number, group in enumerate(groups):

        def take(low: int, band: Band, group: Group = group, number: int = group_number) -> None:
            rows = slice(sheet.height - low - len(band.state), sheet.height - low)
            _put(sheet, rows, band, group, {k: table[number] for k, (table, _) in colours.items()}, options)
            with sheet.lock:
                sheet.done += 1
                done = sheet.done
            progress(0.9 * done / bands, "casting rays")
            seen(sheet)

        cast(group.target, group.dense, group.values.table, sheet.width, sheet.height, options.samples, take, gutter)
    progress(0.9, "filling the margins")
    _pad(sheet, options.padding)
    return {k: _finished(sheet, k, colours.get(k, ((), ()))[1]) for k in sheet.pixels}


def _put(sheet: SheetBake, rows: slice, band: Band, group: Group, ids: dict[str, Bytes], options: BakeOptions) -> None:
    """Turn a band into pixels where it covers something."""
    sun = np.asarray(options.sun, float) / max(float(np.linalg.norm(options.sun)), 1e-12)
    at, state = group.values.at, band.state
    for kind, pixels in sheet.pixels.items():
        out = pixels[rows]
        if kind == "normal":
            put_shares(out, state, band.tangent, 0, 0.5, 0.5)
        elif kind == "object":
            put_shares(out, state, band.world, 0, 0.5, 0.5)
        elif kind == "position":
            put_whole(out, state, band.place)
        elif kind == "height":
            put_whole(out, state, band.height[..., None])
        elif kind == "opacity":
            put_shares(out, state, band.share[..., None], 0, 1.0, 0.0)
        elif kind == "light":
            put_shares(out, state, (band.world @ sun).astype(np.float32)[..., None], 0, 0.5, 0.5)
        elif kind in ids:
            on = state[::-1] > 0
            out[on] = ids[kind][band.face[::-1][on]]
        elif kind == "colour":
            shade = band.shade if group.dense.shaded else band.values[..., at["colour"] :] if "colour" in at else None
            if shade is not None:
                put_shares(out, state, to_screen(shade[..., :3].astype(float)).astype(np.float32), 0, 1.0, 0.0)
        elif kind == "bent":
            v = band.values[..., at["bent"] : at["bent"] + 3]
            long = np.maximum(np.linalg.norm(v, axis=-1, keepdims=True), 1e-12)
            put_shares(out, state, (v / long).astype(np.float32), 0, 0.5, 0.5)
        elif kind in ("ridges", "hollows", "curvature"):
            times, plus = {"ridges": (1.0, 0.0), "hollows": (-1.0, 0.0), "curvature": (0.5, 0.5)}[kind]
            put_shares(out, state, band.values, at["curvature"], times, plus)
        else:
            put_shares(out, state, band.values, at[kind], 1.0, 0.0)
    sheet.state[rows][state[::-1] > 0] = state[::-1][state[::-1] > 0]


@kernel
def put_shares(out, state, values, first, times, plus):
    """Shares of 65535 of times · values + plus where a band (the lowest row first) covers something."""
    rows = len(state)
    for j in range(rows):
        for i in range(state.shape[1]):
            if state[j, i] > 0:
                for k in range(out.shape[2]):
                    value = times * values[j, i, first + k] + plus
                    value = 0.0 if value < 0.0 else 1.0 if value > 1.0 else value
                    # A hair above the half: noise of the last digits must not turn plain blue into its neighbour.
                    out[rows - 1 - j, i, k] = np.uint16(min(value * 65535.0 + 0.52, 65535.0))


@kernel
def put_whole(out, state, values):
    """Values as they are where a band covers something."""
    rows = len(state)
    for j in range(rows):
        for i in range(state.shape[1]):
            if state[j, i] > 0:
                for k in range(out.shape[2]):
                    out[rows - 1 - j, i, k] = values[j, i, k]


OWN = frozenset({"normal", "object", "position", "height", "opacity", "light"})
"""Maps in which the jacket's own surface stands in where no ray met the source; in others the next texel does."""


def _pad(sheet: SheetBake, steps: int) -> None:
    """Carry islands on past their borders, and fill what no ray met from around it."""
    on = sheet.state > 0
    missed = sheet.state == MISSED
    moves = {True: spread_moves(on, steps)}
    moves[False] = moves[True]
    if missed.any():
        within = missed.copy()
        within.ravel()[moves[True][0]] = True
        moves[False] = spread_moves(on & ~missed, -1, within)
    for kind, pixels in sheet.pixels.items():
        flat, (to, whose) = pixels.reshape(-1, pixels.shape[2]), moves[kind in OWN]
        flat[to] = flat[whose]


@kernel
def _range(pixels, state):
    """Least and largest value where a map is covered; nought twice where nothing is."""
    low, high = np.inf, -np.inf
    for j in range(state.shape[0]):
        for i in range(state.shape[1]):
            if state[j, i] > 0:
                for k in range(pixels.shape[2]):
                    value = pixels[j, i, k]
                    low = value if value < low else low
                    high = value if value > high else high
    return (low, high) if low <= high else (0.0, 0.0)


def _finished(sheet: SheetBake, kind: str, legend: tuple[tuple[str, tuple[int, int, int]], ...]) -> Baked:
    pixels = sheet.pixels[kind]
    if pixels.dtype == np.uint8:
        return Baked(kind, pixels, legend=legend)
    low, high = 0.0, 1.0
    if MAPS[kind].whole:
        low, high = _range(pixels, sheet.state)
        if kind == "height":
            # Even about 0, so that the middle grey of any receiver is the jacket's own surface.
            high = max(abs(low), abs(high))
            low = -high
    return Baked(kind, pixels, low, high, legend)


def _id_colours(groups: Sequence[Group], kind: str) -> tuple[list[Bytes], tuple[tuple[str, tuple[int, int, int]], ...]]:
    """Colours (T + 1, 3) of the triangles of each group's source, the last one for none; and what each colour means, one a
    name over all groups."""
    of = {"id-material": ("material", "materials"), "id-group": ("group", "groups"), "id-part": ("part", "names")}[kind]
    names = list(dict.fromkeys(n for g in groups for n in getattr(g.dense, of[1])))
    table = id_colours(len(names))
    out = []
    for g in groups:
        mine = [names.index(n) for n in getattr(g.dense, of[1])]
        shades = np.concatenate([table[mine], np.zeros((1, 3), np.uint8)])
        numbers = getattr(g.dense, of[0])
        out.append(np.concatenate([shades[numbers], np.zeros((1, 3), np.uint8)]))
    return out, tuple((n, tuple(int(x) for x in c)) for n, c in zip(names, table, strict=True))  # type: ignore[misc]
