"""Packing islands on a square sheet: largest first, lowest place first, best scale by bisection."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import inline, kernel
from jacket.core.layout.islands import Islands, density_scales
from jacket.core.layout.masks import Mask, island_mask
from jacket.core.mesh.polymesh import Floats
from jacket.errors import MeshError
from jacket.progress import Progress, silent

TURNS = {"free": 8, "quarter": 4, "none": 1}


@dataclass(frozen=True)
class PackSettings:
    """size: sheet in pixels; margin: pixels between islands and to the edge; turn: "free",
    "quarter" or "none"; effort: how many reordered tries follow the first layout."""

    size: int = 1024
    margin: float = 8.0
    turn: str = "free"
    effort: int = 24


@dataclass(frozen=True, eq=False)
class PackResult:
    """uv (C, 2) on the sheet; the density in pixels a surface unit; share of the sheet used."""

    uv: Floats
    density: float
    use: float


@dataclass(frozen=True, eq=False)
class _Piece:
    """Border segments of an island at one sheet unit a surface unit, about its box's centre."""

    island: int
    segments: Floats
    area: float


@dataclass(frozen=True, eq=False)
class _Layout:
    turns: list[int]
    shifts: Floats
    height: int


def pack(
    islands: Islands, settings: PackSettings = PackSettings(), progress: Progress = silent,
    locked: NDArray[np.signedinteger] | None = None,
) -> PackResult:  # fmt: skip
    """Place every mapped island at one texel density, as large as the sheet allows.

    Islands numbered in `locked` stay where they are. Raises MeshError when nothing is mapped, the
    settings make no sense, or the margin leaves no room.
    """
    _check(settings)
    mapped = np.flatnonzero(islands.mapped & (islands.sheet_area > 0))
    fixed = np.zeros(0, np.intp) if locked is None else np.intersect1d(mapped, locked)
    moving = np.setdiff1d(mapped, fixed)
    if len(moving) == 0:
        raise MeshError("There is no island to pack; flatten the jacket first.")
    scales, angles = density_scales(islands), _resting_angles(islands, moving, settings.turn)
    pieces = [_piece(islands, int(k), float(scales[k]), angles[int(k)]) for k in moving]
    packer = _Packer(pieces, islands, fixed, settings)
    layout, scale = packer.best(progress)
    uv = _placed(islands, pieces, scales, angles, layout, scale, packer)
    done = Islands(islands.mesh, uv, islands.labels, islands.count)
    return PackResult(uv, scale * packer.cell, float(done.sheet_area.sum()))


def _check(settings: PackSettings) -> None:
    if not 16 <= settings.size <= 16384:
        raise MeshError(f"A sheet of {settings.size} pixels is out of range; choose 16 to 16384.")
    if not 0 <= settings.margin <= settings.size / 8:
        raise MeshError(
            f"A margin of {settings.margin:g} pixels does not suit a sheet of {settings.size}; "
            f"choose 0 to {settings.size // 8}."
        )
    if settings.turn not in TURNS:
        raise MeshError(f"Turning '{settings.turn}' is unknown; choose free, quarter or none.")


def _resting_angles(islands: Islands, moving: NDArray[np.signedinteger], turn: str) -> dict[int, float]:
    """The turn in radians that gives each island its smallest box; none unless turning is free."""
    if turn != "free":
        return {int(k): 0.0 for k in moving}
    return {int(k): _box_angle(islands.outline(int(k)).reshape(-1, 2)) for k in moving}


def _box_angle(points: Floats) -> float:
    """Turn that lays the smallest enclosing rectangle along the axes: one side lies on the hull
    (Freeman and Shapira 1975)."""
    from scipy.spatial import ConvexHull, QhullError

    try:
        hull = points[ConvexHull(points).vertices]
    except QhullError:
        return 0.0
    side = np.roll(hull, -1, axis=0) - hull
    angles = np.arctan2(side[:, 1], side[:, 0])
    c, s = np.cos(-angles), np.sin(-angles)
    x = c[:, None] * hull[:, 0] - s[:, None] * hull[:, 1]
    y = s[:, None] * hull[:, 0] + c[:, None] * hull[:, 1]
    return float(-angles[int(np.argmin(np.ptp(x, axis=1) * np.ptp(y, axis=1)))])


def _turn_matrix(angle: float) -> Floats:
    c, s = np.cos(angle), np.sin(angle)
    return np.array([[c, -s], [s, c]])


def _piece(islands: Islands, island: int, scale: float, angle: float) -> _Piece:
    segments = islands.outline(island) @ _turn_matrix(angle).T * scale
    low, high = segments.min(axis=(0, 1)), segments.max(axis=(0, 1))
    return _Piece(island, segments - (low + high) / 2, float(islands.surface_area[island]))


class _Packer:
    """A grid of cells over the sheet; scale is in cells a surface unit."""

    def __init__(
        self, pieces: list[_Piece], islands: Islands, fixed: NDArray[np.signedinteger], settings: PackSettings
    ) -> None:
        self.pieces, self.settings = pieces, settings
        many = len(pieces) > 300
        self.grid = min(settings.size, 1024 if many else 512)
        self.cell = settings.size / self.grid
        self.widen = settings.margin / 2 / self.cell
        # Masks are widened by half the margin; the rest keeps the full margin to the edge.
        self.inset = int(np.ceil(self.widen - 1e-9))
        self.room = self.grid - 2 * self.inset
        if self.room < 4:
            raise MeshError("The margin leaves no room on the sheet; lower it or enlarge the sheet.")
        self.start = np.zeros((self.room, self.room), np.bool_)
        for k in fixed:
            self._occupy(islands.outline(int(k)) * self.grid - self.inset)
        self.turns = TURNS[settings.turn]

    def _occupy(self, segments: Floats) -> None:
        mask = island_mask(segments, self.widen)
        x0, y0 = mask.low.astype(int)
        for r in range(mask.height):
            if 0 <= y0 + r < self.room:
                for k in range(mask.row_start[r], mask.row_start[r + 1]):
                    self.start[y0 + r, max(x0 + mask.first[k], 0) : max(x0 + mask.last[k], 0)] = True

    def masks(self, scale: float) -> list[list[Mask]]:
        """Masks of every piece in every turning at a scale."""
        return [
            [
                island_mask(piece.segments @ _turn_matrix(2 * np.pi * t / self.turns).T * scale, self.widen)
                for t in range(self.turns)
            ]
            for piece in self.pieces
        ]

    def best(self, progress: Progress) -> tuple[_Layout, float]:
        """The layout at the largest scale found."""
        area = sum(p.area for p in self.pieces)
        order = np.argsort([-max(np.ptp(p.segments.reshape(-1, 2), axis=0)) * np.sqrt(p.area) for p in self.pieces],
                           kind="stable")  # fmt: skip
        free = float((~self.start).sum())
        high = np.sqrt(free / area)
        low, found = 0.0, None
        scale = 0.8 * high
        for k in range(40):
            layout = self._lay(self.masks(scale), order)
            if layout is not None:
                low, found = scale, layout
            else:
                high = scale
            progress(min(0.05 * k, 0.5), "packing islands")
            if found is not None and high / low < 1.008:
                break
            scale = (low + high) / 2 if found is not None else scale * 0.85
        if found is None:
            raise MeshError("The islands do not fit on the sheet with this margin; lower it or enlarge the sheet.")
        return self._improve(found, low, order, progress)

    def _improve(
        self, found: _Layout, scale: float, order: NDArray[np.signedinteger], progress: Progress
    ) -> tuple[_Layout, float]:
        """Try other orders at a slightly larger scale; each that fits becomes the new best."""
        rng = np.random.default_rng(20)
        best_order = order
        grow = 1.01
        masks = self.masks(scale * grow)
        for k in range(self.settings.effort if len(self.pieces) > 1 else 0):
            progress(0.5 + 0.5 * k / self.settings.effort, "packing islands tighter")
            trial = best_order.copy()
            for _ in range(1 + int(rng.integers(0, 3))):
                i, j = rng.integers(0, len(trial), 2)
                trial[i], trial[j] = trial[j], trial[i]
            layout = self._lay(masks, trial)
            if layout is not None:
                found, scale, best_order = layout, scale * grow, trial
                masks = self.masks(scale * grow)
        return found, scale

    def _lay(self, masks: list[list[Mask]], order: NDArray[np.signedinteger]) -> _Layout | None:
        """Place all pieces in an order, each in the turning whose top comes lowest; None when one
        does not fit."""
        n = len(self.pieces)
        busy = self.start.copy()
        next_busy, run_end = _jump_tables(busy)
        turns, shifts = [0] * n, np.zeros((n, 2))
        height = 0
        for k in order.tolist():
            best: tuple[float, int, int, int] | None = None
            for t, mask in enumerate(masks[k]):
                limit = int(best[0]) if best is not None else self.room
                y, x = _lowest(
                    next_busy, run_end, mask.row_start, mask.first, mask.last, mask.width, mask.height, limit
                )
                if y >= 0 and (best is None or (y + mask.height, x) < (best[0], best[2])):
                    best = (y + mask.height, t, x, y)
            if best is None:
                return None
            _, t, x, y = best
            mask = masks[k][t]
            _fill(busy, next_busy, run_end, mask.row_start, mask.first, mask.last, x, y)
            turns[k] = t
            shifts[k] = np.array([x, y]) - mask.low
            height = max(height, y + mask.height)
        return _Layout(turns, shifts, height)


@inline
def _jump_row(busy, next_busy, run_end, y):
    width = busy.shape[1]
    next_busy[y, width] = width
    run_end[y, width] = width
    for x in range(width - 1, -1, -1):
        if busy[y, x]:
            next_busy[y, x] = x
            run_end[y, x] = run_end[y, x + 1] if x + 1 < width and busy[y, x + 1] else x + 1
        else:
            next_busy[y, x] = next_busy[y, x + 1]
            run_end[y, x] = x


@kernel
def _jump_tables(busy):
    """For each cell the next busy cell at or after it in its row, and where a busy run ends."""
    height, width = busy.shape
    next_busy = np.empty((height, width + 1), np.int32)
    run_end = np.empty((height, width + 1), np.int32)
    for y in range(height):
        _jump_row(busy, next_busy, run_end, y)
    return next_busy, run_end


@kernel
def _lowest(next_busy, run_end, row_start, first, last, width, height, limit):
    """Lowest then leftmost place (y, x) where a mask is free and its top stays below `limit`."""
    rows, columns = next_busy.shape[0], next_busy.shape[1] - 1
    for y in range(0, min(rows, limit) - height + 1):
        x = 0
        row = 0
        clear = 0
        # Go round the rows from the one that failed last until all are clear in a row.
        while x + width <= columns and clear < height:
            hit = False
            for k in range(row_start[row], row_start[row + 1]):
                c = next_busy[y + row, x + first[k]]
                if c < x + last[k]:
                    x = run_end[y + row, c] - first[k]
                    hit = True
                    break
            if hit:
                clear = 0
                if x + width > columns:
                    break
            else:
                clear += 1
                row = row + 1 if row + 1 < height else 0
        if clear >= height:
            return y, x
    return -1, -1


@kernel
def _fill(busy, next_busy, run_end, row_start, first, last, x, y):
    for r in range(len(row_start) - 1):
        for k in range(row_start[r], row_start[r + 1]):
            for c in range(x + first[k], x + last[k]):
                busy[y + r, c] = True
        _jump_row(busy, next_busy, run_end, y + r)


def _placed(
    islands: Islands, pieces: list[_Piece], scales: Floats, angles: dict[int, float],
    layout: _Layout, scale: float, packer: _Packer,
) -> Floats:  # fmt: skip
    """Sheet coordinates of a layout."""
    uv = islands.uv.copy()
    for k, piece in enumerate(pieces):
        here = islands.corner_labels == piece.island
        raw = islands.outline(piece.island) @ _turn_matrix(angles[piece.island]).T * float(scales[piece.island])
        middle = (raw.min(axis=(0, 1)) + raw.max(axis=(0, 1))) / 2
        flat = uv[here] @ _turn_matrix(angles[piece.island]).T * float(scales[piece.island]) - middle
        flat = flat @ _turn_matrix(2 * np.pi * layout.turns[k] / packer.turns).T * scale
        uv[here] = (flat + layout.shifts[k] + packer.inset) / packer.grid
    return uv
