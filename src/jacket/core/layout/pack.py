"""Packing islands on sheets: largest first, lowest place first, best scale by bisection."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import inline, kernel
from jacket.core.layout.masks import Mask, island_mask
from jacket.core.mesh.polymesh import Floats
from jacket.core.uv.islands import Islands, density_scales
from jacket.core.uv.sheets import APART, Sheet, checked_sheets
from jacket.errors import MeshError
from jacket.progress import Progress, part, silent

TURNS = {"free": 8, "quarter": 4, "none": 1}


@dataclass(frozen=True)
class PackSettings:
    """turn: "free", "quarter" or "none"; effort: how many reordered tries follow the first layout; spread: whether
    islands are shared out among the sheets anew, or stay on the sheet they lie on."""

    turn: str = "free"
    effort: int = 24
    spread: bool = False


@dataclass(frozen=True, eq=False)
class PackResult:
    """uv (C, 2); the density in pixels a surface unit, the least of all sheets; share of each sheet that is used."""

    uv: Floats
    density: float
    uses: tuple[float, ...]

    @property
    def use(self) -> float:
        """Use of the first sheet that has islands."""
        return next((u for u in self.uses if u > 0), 0.0)


@dataclass(frozen=True, eq=False)
class _Piece:
    """Border segments of an island at one pixel a surface unit, about its box's centre."""

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
    """Place every mapped island at one texel density, as large as its sheet allows.

    Islands numbered in `locked` stay where they are. Raises MeshError when nothing is mapped, the
    settings or sheets make no sense, or the margin leaves no room.
    """
    sheets = checked_sheets(islands.sheets)
    if settings.turn not in TURNS:
        raise MeshError(f"Turning '{settings.turn}' is unknown; choose free, quarter or none.")
    mapped = np.flatnonzero(islands.mapped & (islands.pixel_area > 0))
    fixed = np.zeros(0, np.intp) if locked is None else np.intersect1d(mapped, locked)
    moving = np.setdiff1d(mapped, fixed)
    if len(moving) == 0:
        raise MeshError("There is no island to pack; flatten the jacket first.")
    closed = np.setdiff1d(mapped, islands.labels[islands.mesh.face_of_corner[islands.border_corners]])
    if len(closed):
        raise MeshError(
            f"{_pieces(len(closed))} closed and without a border on the sheet; cut with seams, flatten, then pack."
        )
    scales, angles = density_scales(islands), _resting_angles(islands, moving, settings.turn)
    where = _shares(islands, moving, fixed, settings.spread)
    packers = []
    for k, sheet in enumerate(sheets):
        pieces = [_piece(islands, int(i), float(scales[i]), angles[int(i)]) for i in moving[where == k]]
        if pieces:
            packers.append(_Packer(pieces, islands, fixed[islands.sheet_of[fixed] == k], k, sheet, settings))
    found = [p.best(part(progress, n / len(packers), (n + 1) / len(packers))) for n, p in enumerate(packers)]
    found = _at_one_density(packers, found)
    uv = islands.uv.copy()
    for packer, (layout, scale) in zip(packers, found, strict=True):
        _place(uv, islands, packer, scales, angles, layout, scale)
    done = islands.with_uv(uv)
    uses = tuple(done.use(k) for k in range(len(sheets)))
    return PackResult(uv, min(scale * p.cell for p, (_, scale) in zip(packers, found, strict=True)), uses)


def _pieces(count: int) -> str:
    return f"{count} pieces are" if count > 1 else "One piece is"


def _shares(
    islands: Islands, moving: NDArray[np.signedinteger], fixed: NDArray[np.signedinteger], spread: bool
) -> NDArray[np.signedinteger]:
    """The sheet for each moving island: where it lies, or the one with the most room left, largest first."""
    sheets = islands.sheets
    where = islands.sheet_of[moving].copy()
    if len(sheets) == 1:
        return np.zeros(len(moving), np.int32)
    room = np.array([s.area for s in sheets])
    share = islands.pixel_area * density_scales(islands) ** 2
    for k in fixed:
        room[max(islands.sheet_of[k], 0)] -= islands.pixel_area[k]
    total = max(float(share[moving].sum()), 1e-300)
    # Areas at a density at which all of them would fill two thirds of all sheets.
    share = share * (0.66 * max(float(room.sum()), 1.0) / total)
    if not spread:
        for i in np.flatnonzero(where >= 0):
            room[where[i]] -= share[moving[i]]
    for i in np.argsort(-share[moving], kind="stable"):
        if spread or where[i] < 0:
            where[i] = int(np.argmax(room))
            room[where[i]] -= share[moving[i]]
    return where


def _at_one_density(packers: list[_Packer], found: list[tuple[_Layout, float]]) -> list[tuple[_Layout, float]]:
    """Layouts of several sheets at the density of the fullest; a sheet whose islands will not lie so keeps its own."""
    least = min(scale * p.cell for p, (_, scale) in zip(packers, found, strict=True))
    out = []
    for packer, (layout, scale) in zip(packers, found, strict=True):
        if scale * packer.cell <= least * (1 + 1e-9):
            out.append((layout, scale))
            continue
        again = packer.at(least / packer.cell)
        out.append((again, least / packer.cell) if again is not None else (layout, scale))
    return out


def _resting_angles(islands: Islands, moving: NDArray[np.signedinteger], turn: str) -> dict[int, float]:
    """The turn in radians that gives each island its smallest box; none unless turning is free."""
    if turn != "free":
        return {int(k): 0.0 for k in moving}
    return {int(k): _box_angle(islands.pixel_outline(int(k)).reshape(-1, 2)) for k in moving}


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
    segments = islands.pixel_outline(island) @ _turn_matrix(angle).T * scale
    low, high = segments.min(axis=(0, 1)), segments.max(axis=(0, 1))
    return _Piece(island, segments - (low + high) / 2, float(islands.surface_area[island]))


class _Packer:
    """A grid of square cells over a sheet; scale is in cells a surface unit."""

    def __init__(
        self, pieces: list[_Piece], islands: Islands, fixed: NDArray[np.signedinteger], index: int, sheet: Sheet,
        settings: PackSettings,
    ) -> None:  # fmt: skip
        self.pieces, self.settings, self.sheet, self.index = pieces, settings, sheet, index
        long = max(sheet.width, sheet.height)
        grid = min(long, 1024 if len(pieces) > 300 else 512)
        self.cell = long / grid
        self.widen = sheet.margin / 2 / self.cell
        # Masks are widened by half the margin; the rest keeps the full margin to the edge.
        self.inset = int(np.ceil(self.widen - 1e-9))
        # A side that is no whole number of cells loses the last part of one.
        self.columns, self.rows = (int(side / self.cell + 1e-9) - 2 * self.inset for side in (sheet.width, sheet.height))
        if min(self.columns, self.rows) < 4:
            raise MeshError(f"The margin leaves no room on {sheet.name}; lower it or enlarge the sheet.")
        self.start = np.zeros((self.rows, self.columns), np.bool_)
        for k in fixed:
            self._occupy((islands.pixel_outline(int(k)) - sheet.origin * APART) / self.cell - self.inset)
        self.turns = TURNS[settings.turn]
        self.order = np.argsort(
            [-max(np.ptp(p.segments.reshape(-1, 2), axis=0)) * np.sqrt(p.area) for p in pieces], kind="stable"
        )

    def _occupy(self, segments: Floats) -> None:
        mask = island_mask(segments, self.widen)
        x0, y0 = mask.low.astype(int)
        for r in range(mask.height):
            if 0 <= y0 + r < self.rows:
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
        free = float((~self.start).sum())
        high = np.sqrt(free / area)
        low, found = 0.0, None
        scale = 0.8 * high
        for k in range(40):
            layout = self._lay(self.masks(scale), self.order)
            if layout is not None:
                low, found = scale, layout
            else:
                high = scale
            progress(min(0.05 * k, 0.5), "packing islands")
            if found is not None and high / low < 1.008:
                break
            scale = (low + high) / 2 if found is not None else scale * 0.85
        if found is None:
            raise MeshError(f"The islands do not fit on {self.sheet.name} with this margin; lower it or enlarge the sheet.")
        return self._improve(found, low, progress)

    def at(self, scale: float) -> _Layout | None:
        """A layout at a given scale, by the order found best; None where there is none."""
        return self._lay(self.masks(scale), self.order)

    def _improve(self, found: _Layout, scale: float, progress: Progress) -> tuple[_Layout, float]:
        """Try other orders at a slightly larger scale; each that fits becomes the new best."""
        rng = np.random.default_rng(20)
        best_order = self.order
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
        self.order = best_order
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
                limit = int(best[0]) if best is not None else self.rows
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


def _place(
    uv: Floats, islands: Islands, packer: _Packer, scales: Floats, angles: dict[int, float], layout: _Layout, scale: float
) -> None:
    """Write the coordinates (C, 2) of a layout into `uv`."""
    for k, piece in enumerate(packer.pieces):
        here = islands.corner_labels == piece.island
        turn, size = _turn_matrix(angles[piece.island]).T, float(scales[piece.island])
        raw = islands.pixel_outline(piece.island) @ turn * size
        middle = (raw.min(axis=(0, 1)) + raw.max(axis=(0, 1))) / 2
        flat = islands.places[here] @ turn * size - middle
        flat = flat @ _turn_matrix(2 * np.pi * layout.turns[k] / packer.turns).T * scale
        uv[here] = packer.sheet.coordinates((flat + layout.shifts[k] + packer.inset) * packer.cell)


# ---- laying apart ----------------------------------------------------------------------------------------------


def laid_apart(islands: Islands, where: Sheet) -> Floats:
    """UVs (C, 2) with all mapped islands at one density in rows on a sheet, none over another: boxes side by side,
    tallest first, as large as the sheet takes them. Not a packing, but at once and easy to look over."""
    ids = np.flatnonzero(islands.mapped & (islands.pixel_area > 0))
    uv = islands.uv.copy()
    if len(ids) == 0:
        return uv
    scales = density_scales(islands)
    box = islands.pixel_boxes[ids]
    spans = (box[:, 2:] - box[:, :2]) * scales[ids][:, None]
    gap = max(where.margin, 2.0)
    order = np.argsort(-spans[:, 1], kind="stable")
    room = where.size - 2 * gap
    low, high = 0.0, float(np.min(room / np.maximum(spans.max(axis=0), 1e-300)))
    for _ in range(30):
        middle = (low + high) / 2
        low, high = (middle, high) if _rows(spans[order] * middle, room, gap) is not None else (low, middle)
    corners = _rows(spans[order] * low, room, gap)
    if corners is None:
        return uv
    label = islands.corner_labels
    for k, at in zip(order, corners, strict=True):
        here = label == ids[k]
        flat = (islands.places[here] - box[k, :2]) * scales[ids[k]] * low
        uv[here] = where.coordinates(flat + at + gap)
    return uv


def _rows(spans: Floats, room: Floats, gap: float) -> Floats | None:
    """(K, 2) lower left corners of boxes set in rows from the top; None where they do not fit."""
    out = np.zeros_like(spans)
    x, top, tall = 0.0, float(room[1]), 0.0
    for k, (wide, high) in enumerate(spans.tolist()):
        if x > 0 and x + wide > room[0]:
            x, top, tall = 0.0, top - tall - gap, 0.0
        tall = max(tall, high)
        if x + wide > room[0] * (1 + 1e-9) or top - high < -1e-9:
            return None
        out[k] = x, top - high
        x += wide + gap
    return out
