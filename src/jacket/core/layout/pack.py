"""Packing islands on sheets: a first layout at once, a search that makes it tighter, and an exact squeeze at the end."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import partial

import numpy as np
from numpy.typing import NDArray

from jacket.core.beside import Begun, ahead
from jacket.core.layout.clusters import clusters_of, pieces_lying, turnings
from jacket.core.layout.greedy import Greedy, turn_matrix
from jacket.core.layout.parting import Lying, Room
from jacket.core.layout.pieces import Bonds, Layer, Piece, pieces_of
from jacket.core.layout.search import Found, Freedom, Search, Team
from jacket.core.layout.shapes import Shape, stock_of
from jacket.core.layout.squeeze import Outlines, Squeeze, readied
from jacket.core.mesh.polymesh import Floats
from jacket.core.uv.islands import Islands
from jacket.core.uv.sheets import Sheet, checked_sheets
from jacket.errors import MeshError
from jacket.progress import Progress, part, silent

TURNS = {"upright": 0, "free": 0, "quarter": 4, "none": 1}
"""Ways in which islands may turn, and by how many parts of a turn: 0 for any; of the first those with straight sides by quarters."""
ALIGNED = ("upright", "free")
"""Those in which how an island lies before packing does not matter."""
STANDING = 0.93
"""Sides of a sheet that an island with straight sides may be long at rest: layouts become up to so much larger."""
LONG = 1024.0
"""Units along the longest sheet in which packing counts, whatever the sheets' pixels."""
TOGETHER = 3
"""Steps that two searches take before they tell one another; of many shapes each takes long enough by itself."""
ALONE, HANDFUL = 80, 16
"""Rounds in which the two say nothing yet, and up to how many shapes: of few the first good layout decides what comes of all others."""
CLOSE = 60
"""Shapes from which on the search begins with a layout closer than is allowed: of fewer it soon finds a better one itself."""
FINE, COARSE = 5.0, 12.0
"""Units that five halves of a cell of a distance field, and places along borders, lie apart at most: corners are among the places, and the
exact end mends what lies between them."""
MEND_SECONDS, LEAST_SECONDS = 0.004, 0.5
"""Seconds a shape before the end from which on margins are only mended, and for how long the exact end may grow whatever the time."""
LEAST_MARGIN = 0.3
"""Units that the search keeps at least, so that borders never cross; the squeeze then goes as near as is asked."""


@dataclass(frozen=True)
class PackSettings:
    """How to pack.

    turn      "upright": islands with straight sides stand along the sheet, others turn freely; "free", "quarter" or "none"
    mirrored  whether islands may be laid on their face
    spread    whether islands are shared out among the sheets anew, or stay on the sheet they lie on
    steps     rounds of the search; the same input, seed and steps give the same result
    seconds   after which the search ends, whatever is left of the steps
    density   pixels a surface unit to keep, or None for as large as fits
    even      whether all islands get one density, or keep their sizes against one another
    """

    turn: str = "upright"
    mirrored: bool = False
    spread: bool = False
    steps: int = 40
    seconds: float = np.inf
    seed: int = 1
    density: float | None = None
    even: bool = True


@dataclass(frozen=True, eq=False)
class PackResult:
    """uvs: coordinates (C, 2) of each layer; the density in pixels a surface unit; share of each sheet that is used; steps
    of the search that were made."""

    uvs: tuple[Floats, ...]
    density: float
    uses: tuple[float, ...]
    steps: int = 0

    @property
    def uv(self) -> Floats:
        """Coordinates of the first layer."""
        return self.uvs[0]

    @property
    def use(self) -> float:
        """Use of the first sheet that has islands."""
        return next((u for u in self.uses if u > 0), 0.0)


@dataclass(frozen=True, eq=False)
class Glimpse:
    """The best layout so far: its coordinates (C, 2) by layer, use of all sheets, seconds and steps gone."""

    uvs: Callable[[], tuple[Floats, ...]]
    use: float
    seconds: float
    steps: int


Packer = tuple[int, NDArray[np.signedinteger], Greedy]
Watch = Callable[[Glimpse], bool]
"""Sees every better layout; False when it is good enough."""


def pack(
    islands: Islands, settings: PackSettings = PackSettings(), progress: Progress = silent,
    locked: NDArray[np.signedinteger] | None = None,
) -> PackResult:  # fmt: skip
    """Pack one layer; islands numbered in `locked` stay where they are. Raises as `pack_layers` does."""
    bonds = Bonds.none(islands.count)
    if locked is not None:
        bonds.locked[locked] = True
    return pack_layers([Layer(islands, bonds)], settings, progress)


def pack_layers(
    layers: Sequence[Layer], settings: PackSettings = PackSettings(), progress: Progress = silent, watch: Watch | None = None
) -> PackResult:
    """Place every mapped island of some layers that share their sheets, at one density and as large as the sheets allow.

    Raises MeshError when nothing is mapped, settings or sheets make no sense, the margin leaves no room, or the islands do
    not fit at the density that is to be kept.
    """
    sheets = checked_sheets(layers[0].islands.sheets)
    if settings.turn not in TURNS:
        raise MeshError(f"Turning '{settings.turn}' is unknown; choose {', '.join(tuple(TURNS)[:-1])} or none.")
    if settings.density is not None and not (np.isfinite(settings.density) and settings.density > 0):
        raise MeshError("A density to keep has to be more than 0 pixels a unit; type one, or fill the sheet.")
    _refuse_closed(layers)
    even, aligned = settings.even or settings.density is not None, settings.turn in ALIGNED
    pieces = pieces_of(layers, even, aligned, settings.turn == "upright")
    if all(p.fixed for p in pieces):
        raise MeshError("There is no island to pack; flatten the jacket first.")
    table = _Table(layers, sheets, pieces, settings)
    return table.packed(progress, watch)


def _refuse_closed(layers: Sequence[Layer]) -> None:
    closed = 0
    for layer in layers:
        islands = layer.islands
        mapped = np.flatnonzero(islands.mapped & (islands.pixel_area > 0))
        closed += len(np.setdiff1d(mapped, islands.labels[islands.mesh.face_of_corner[islands.border_corners]]))
    if closed:
        what = f"{closed} pieces are" if closed > 1 else "One piece is"
        raise MeshError(f"{what} closed and without a border on the sheet; cut with seams, flatten, then pack.")


class _Table:
    """Sheets and pieces in units, and where the pieces lie."""

    def __init__(self, layers: Sequence[Layer], sheets: tuple[Sheet, ...], pieces: list[Piece], settings: PackSettings) -> None:
        self.layers, self.sheets, self.settings = layers, sheets, settings
        self.unit = max(max(s.width, s.height) for s in sheets) / LONG
        sizes = np.array([s.size for s in sheets]) / self.unit
        margin, edge = (np.array([getattr(s, name) for s in sheets]) / self.unit for name in ("gap", "rim"))
        self.room = Room(sizes, margin, edge)
        self.start = time.monotonic()
        free = max(float(sizes.prod(axis=1).sum()) - sum(p.area for p in pieces if p.fixed) / self.unit**2, 1.0)
        # Pieces rest at a size at which they would fill seven tenths of what is free.
        self.rest = float(np.sqrt(0.7 * free / sum(p.area for p in pieces if not p.fixed)))
        self.pieces = [self._at_rest(p) for p in pieces]
        self.fixed = np.array([p.fixed for p in pieces])
        self.clusters = clusters_of(self.pieces, float(margin.max()), TURNS[settings.turn] or 8)
        self.still = np.array([c.fixed for c in self.clusters])
        self.most = settings.density / self.unit / self.rest if settings.density is not None else np.inf

    def _at_rest(self, piece: Piece) -> Piece:
        out = piece.at_size(1 / self.unit if piece.fixed else self.rest)
        # What is longer than a sheet lies across its corners, however straight: standing it would hold all others back.
        long = float(np.ptp(out.segments.reshape(-1, 2), axis=0).max()) > STANDING * float(self.room.sizes.max())
        return replace(out, upright=False) if long else out

    # ---- steps ---------------------------------------------------------------------------------------------------------

    def packed(self, progress: Progress, watch: Watch | None) -> PackResult:
        """The whole way."""
        ahead(readied)
        lying, scale = self._first(part(progress, 0.0, 0.1))
        squeeze = self._squeeze()
        steps = 0
        if self.settings.steps > 0:
            found, steps = self._searched(lying, scale, part(progress, 0.1, 0.9), watch)
            lying, scale = self._exact(squeeze, found, (lying, scale), part(progress, 0.9, 1.0))
        else:
            lying = self._alone(lying, scale)
        self._refuse_small(scale)
        uvs = self.uvs(lying, scale)
        uses = tuple(
            sum(layer.islands.with_uv(uv).use(k) for layer, uv in zip(self.layers, uvs, strict=True))
            for k in range(len(self.sheets))
        )
        return PackResult(uvs, self._density(uvs, scale), uses, steps)

    def _density(self, uvs: tuple[Floats, ...], scale: float) -> float:
        """Pixels a surface unit of islands of plain weight; where sizes are kept, over all islands together."""
        if self.settings.even or self.settings.density is not None:
            return scale * self.rest * self.unit
        pixels = sum(float(x.islands.with_uv(uv).pixel_area.sum()) for x, uv in zip(self.layers, uvs, strict=True))
        surface = sum(float(x.islands.surface_area[x.islands.mapped].sum()) for x in self.layers)
        return float(np.sqrt(pixels / max(surface, 1e-300)))

    def _refuse_small(self, scale: float) -> None:
        if scale < self.most * (1 - 1e-9) and np.isfinite(self.most):
            fits = scale * self.rest * self.unit
            raise MeshError(
                f"At {self.settings.density:.4g} pixels a unit the islands do not fit, at {fits:.4g} they do; "
                "lower the density or add sheets."
            )

    def _squeeze(self) -> Squeeze:
        outlines = Outlines.of([p.segments for p in self.pieces])
        turning = np.array([self.settings.turn in ALIGNED and not p.upright for p in self.pieces])
        return Squeeze(outlines, self.room, self.fixed, turning)

    def _first(self, progress: Progress) -> tuple[Lying, float]:
        """A valid layout at once."""
        where = self._shares()
        packers = self._packers(where)
        for k, _, packer in packers:
            if not packer.roomy:
                raise MeshError(f"The margin leaves no room on {self.sheets[k].name}; lower it or enlarge the sheet.")
        found = self._laid(where, packers, progress)
        if isinstance(found, int):
            raise MeshError(f"The islands do not fit on {self.sheets[found].name} with this margin; lower it or enlarge the sheet.")
        return found

    def _look_ahead(self, searches: Sequence[Search], seeds: Sequence[int], first: Lying, scale: float, progress: Progress) -> None:
        """Give each search a layout like the first one, in an order of its own and closer than is allowed: it is to part it."""
        begun: Begun[int, tuple[Lying, float] | int] = Begun()
        try:
            for seed in seeds:
                begun.begin(seed, partial(self._denser, seed, first))
            for one, seed in zip(searches, seeds, strict=True):
                found = begun.result(seed, progress)
                if not isinstance(found, int) and found[1] > scale:
                    one.ahead = found
        finally:
            begun.close()

    def _denser(self, seed: int, first: Lying, progress: Progress) -> tuple[Lying, float] | int:
        packers = self._packers(first.sheet, np.random.default_rng(seed))
        return self._laid(first.sheet, packers, part(progress, 0.0, 0.0))

    def _packers(self, where: NDArray[np.signedinteger], close: np.random.Generator | None = None) -> list[Packer]:
        """Of each sheet on which something is to be laid: its number, which clusters, and what lays them; close ones in an order that is
        drawn."""
        out: list[Packer] = []
        for k in range(len(self.sheets)):
            here = np.flatnonzero((where == k) & ~self.still)
            if len(here):
                stay = [c.segments for c in self.clusters if c.fixed and c.sheet == k]
                area = np.array([self.clusters[i].area for i in here])
                order = None if close is None else np.argsort(-area * close.uniform(0.8, 1.25, len(here)))
                turns = turnings([self.clusters[i].upright for i in here], TURNS[self.settings.turn] or 8)
                out.append((k, here, Greedy(
                    [self.clusters[i].segments for i in here], area, self.room.sizes[k], float(self.room.margin[k]), float(self.room.edge[k]),
                    turns, stay, close is not None, order)))  # fmt: skip
        return out

    def _laid(self, where: NDArray[np.signedinteger], packers: list[Packer], progress: Progress) -> tuple[Lying, float] | int:
        """A layout at the largest scale at which it is found; the number of the sheet on which there is none."""
        best = []
        for n, (k, _, packer) in enumerate(packers):
            lay = packer.at(self.most) if np.isfinite(self.most) else None
            lay = lay or packer.best(progress=part(progress, n / len(packers), (n + 1) / len(packers)))
            if lay is None:
                return k
            best.append(lay)
        scale = min(min(lay.scale for lay in best), self.most)
        middle, turn = np.zeros((len(where), 2)), np.zeros(len(where))
        for (_, here, packer), lay in zip(packers, best, strict=True):
            # Where the fullest sheet's density fits in the same order it is laid anew, else only shrunk.
            again = lay if lay.scale == scale else packer.at(scale) or lay
            middle[here], turn[here] = again.middle, again.turn
        return Lying(middle, turn, np.ones(len(turn)), where.astype(np.int64)), scale

    def _shares(self) -> NDArray[np.signedinteger]:
        """The sheet for each cluster: where it lies, or the one with the most room left, largest first."""
        where = np.array([c.sheet for c in self.clusters])
        if len(self.sheets) == 1:
            return np.zeros(len(where), np.int64)
        room = self.room.sizes.prod(axis=1).copy()
        area = np.array([c.area for c in self.clusters])
        stays = self.still | (~np.bool_(self.settings.spread) & (where >= 0))
        for i in np.flatnonzero(stays & (where >= 0)):
            room[where[i]] -= area[i]
        for i in np.argsort(-area, kind="stable"):
            if not stays[i]:
                where[i] = int(np.argmax(room))
                room[where[i]] -= area[i]
        return np.maximum(where, 0)

    def _searched(self, lying: Lying, scale: float, progress: Progress, watch: Watch | None) -> tuple[Found, int]:
        room = Room(self.room.sizes, np.maximum(self.room.margin, LEAST_MARGIN), np.maximum(self.room.edge, LEAST_MARGIN))
        sizes = np.sqrt([c.area for c in self.clusters if not c.fixed])
        cell = float(np.clip(0.12 * np.median(sizes), 2.0, FINE)) / 2.5
        spacing = float(np.clip(0.12 * np.median(sizes), 2.0, COARSE))
        reach = float(room.margin.max()) + 6.0
        spacings = [float(np.clip(0.12 * np.sqrt(c.area), 1.5, spacing)) for c in self.clusters]
        shapes = [Shape.of(c.segments, c.area, step, min(step / 2.5, cell), reach) for c, step in zip(self.clusters, spacings, strict=True)]
        turns = np.array([4 if c.upright else TURNS[self.settings.turn] for c in self.clusters])
        freedom = Freedom(turns, self.settings.mirrored, self.settings.spread and len(self.sheets) > 1)
        stock = stock_of(shapes)
        seeds = (self.settings.seed, self.settings.seed + 1_000_003)
        searches = [Search(stock, room, freedom, lying.copied(), scale, self.still, seed, self.most) for seed in seeds]
        # Where the first layout took half of the time there is none for another.
        if len(shapes) > CLOSE and time.monotonic() - self.start < 0.5 * self.settings.seconds:
            self._look_ahead(searches, seeds, lying, scale, progress)
        search = Team(searches, TOGETHER if len(shapes) <= 100 else 1, ALONE if len(shapes) <= HANDFUL else 0)
        told, made = 0.0, 0
        # The exact end takes its part of the time as well.
        until = self.settings.seconds - min(0.007 * len(self.pieces), 0.3 * self.settings.seconds)
        for found in search.steps():
            made += 1
            gone = time.monotonic() - self.start
            share = made / self.settings.steps if np.isinf(self.settings.seconds) else max(
                gone / self.settings.seconds, made / self.settings.steps)  # fmt: skip
            progress(share, f"packing islands tighter, {100 * self._use(found.scale):.1f} % used")
            if watch is not None and found.scale > told:
                told = found.scale
                uvs = partial(self._uvs_of, found)
                glimpse = Glimpse(uvs, self._use(found.scale), gone, made)
                if not watch(glimpse):
                    break
            if made >= self.settings.steps or gone > until or found.scale >= self.most:
                break
        return search.best, made

    def _use(self, scale: float) -> float:
        area = sum(p.area * (1.0 if p.fixed else scale**2) for p in self.pieces)
        return float(area / self.room.sizes.prod(axis=1).sum())

    def _uvs_of(self, found: Found) -> tuple[Floats, ...]:
        return self.uvs(self._alone(found.lying, found.scale), found.scale)

    def _alone(self, lying: Lying, scale: float) -> Lying:
        return pieces_lying(self.clusters, lying, scale, len(self.pieces))

    def _exact(self, squeeze: Squeeze, found: Found, first: tuple[Lying, float], progress: Progress) -> tuple[Lying, float]:
        """A found layout with every margin kept to the last digit; one found before where that fails, in the end the first one."""
        until = max(self.start + self.settings.seconds - MEND_SECONDS * len(self.pieces), time.monotonic() + LEAST_SECONDS)
        best = found.lying, found.scale
        # Where a thin point was missed and lies in another shape, a little smaller it comes free again; a shape in the hole of another
        # is freed by none of that, as the hole shrinks as well.
        for lying, scale in (best, (best[0], 0.985 * best[1]), *found.before, (best[0], 0.96 * best[1]), first):
            if scale < first[1]:
                continue
            done = squeeze.enlarged(self._alone(lying, scale), scale, most=self.most, progress=progress, until=until)
            if done is not None and done[1] >= first[1] and not squeeze.crossing(*done):
                return done
        return self._alone(*first), first[1]

    # ---- back to coordinates -------------------------------------------------------------------------------------------

    def uvs(self, lying: Lying, scale: float) -> tuple[Floats, ...]:
        """(C, 2) coordinates of each layer."""
        out = [layer.islands.uv.copy() for layer in self.layers]
        for k, piece in enumerate(self.pieces):
            if piece.fixed:
                continue
            islands = self.layers[piece.layer].islands
            sheet = self.sheets[int(lying.sheet[k])]
            matrix = turn_matrix(float(lying.turn[k])) @ np.diag([lying.flip[k], 1.0]) * scale
            here = np.isin(islands.corner_labels, piece.islands)
            at = (islands.places[here] @ piece.matrix.T + piece.shift) @ matrix.T + lying.middle[k]
            out[piece.layer][here] = sheet.coordinates(at * self.unit)
        return tuple(out)

