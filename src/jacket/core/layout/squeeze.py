"""The last pixels: shapes shifted and turned a little, all at once, so that the scale becomes as large as it will.

Every border point near another shape gives a distance that must stay at the margin. Linearised, they are the rows of a
linear program whose aim is the scale, solved over and over in a shrinking region (compaction by linear programming, Li and
Milenkovic 1995; here on exact distances between points and edges).
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix

from jacket.core.beside import left_at_once
from jacket.core.jit import inline, kernel
from jacket.core.layout.parting import Bools, Floats, Ints, Lying, Room
from jacket.core.mesh.unique import unique_rows
from jacket.progress import Progress, silent

SURPLUS = 3e-5
"""Pixels above the margin that are aimed at, so that rounding never takes it below."""
LEAST_STEP = 0.003
CROWDED = 150.0
"""Pixels that shapes may go in the first step, all taken together."""
STEP_MENDS = 0.8
"""Of the way that a shape goes in one step at most, how much of a lack is to be mended in it."""
WAY_OUT = 8.0
"""How many times as long as what lacks a step has to be: out of a notch the way is longer."""
YIELDING = 1000.0
"""What a pixel that goes on lacking costs, in hundredths of the scale."""
MENDING, LAST = 12, 0.05
"""Rounds at the end that only mend, and the lack in pixels from which on they ask for a little more than the margin."""
BUCKET = 5.0
"""Pixels of border that share one row of the program."""


@dataclass(frozen=True, eq=False)
class Outlines:
    """Exact borders of shapes at rest: segments (S, 2, 2) of shape k from start[k] to start[k + 1], loops in order, and
    before (S,) the segment that ends where each begins."""

    segments: Floats
    start: Ints
    before: Ints

    @staticmethod
    def of(segments: list[Floats]) -> Outlines:
        """From the chained segments of each shape."""
        start = np.concatenate([[0], np.cumsum([len(s) for s in segments])]).astype(np.int64)
        whole = np.concatenate(segments)
        before = np.arange(-1, len(whole) - 1)
        for k, own in enumerate(segments):
            first = int(start[k])
            loop = first
            for s in range(1, len(own) + 1):
                if s == len(own) or (own[s, 0] != own[s - 1, 1]).any():
                    before[loop] = first + s - 1
                    loop = first + s
        return Outlines(whole, start, before)

    def laid(self, lying: Lying, scale: Floats) -> Floats:
        """(S, 2, 2) segments in pixels of their sheets."""
        return _laid(self.segments, self.start, lying, scale)


@kernel
def _laid(segments, start, lying, scale):
    out = np.empty_like(segments)
    for k in range(len(scale)):
        c, s = np.cos(lying.turn[k]), np.sin(lying.turn[k])
        for e in range(start[k], start[k + 1]):
            for end in range(2):
                x, y = segments[e, end, 0] * lying.flip[k] * scale[k], segments[e, end, 1] * scale[k]
                out[e, end, 0] = lying.middle[k, 0] + c * x - s * y
                out[e, end, 1] = lying.middle[k, 1] + s * x + c * y
    return out


@inline
def _bin(x, cell, count):
    return min(max(int(x / cell), 0), count - 1)


@kernel
def _hash(laid, start, sheet, chosen, columns, rows, cell):
    """Segments of one sheet by the cells their boxes touch: first (cells + 1,), ids."""
    count = np.zeros(columns * rows + 1, np.int64)
    ids = np.empty(0, np.int64)
    for fill in range(2):
        for k in range(len(start) - 1):
            if sheet[k] != chosen:
                continue
            for e in range(start[k], start[k + 1]):
                x0, x1 = min(laid[e, 0, 0], laid[e, 1, 0]), max(laid[e, 0, 0], laid[e, 1, 0])
                y0, y1 = min(laid[e, 0, 1], laid[e, 1, 1]), max(laid[e, 0, 1], laid[e, 1, 1])
                for row in range(_bin(y0, cell, rows), _bin(y1, cell, rows) + 1):
                    for column in range(_bin(x0, cell, columns), _bin(x1, cell, columns) + 1):
                        c = row * columns + column
                        if fill == 0:
                            count[c + 1] += 1
                        else:
                            ids[count[c]] = e
                            count[c] += 1
        if fill == 0:
            for c in range(columns * rows):
                count[c + 1] += count[c]
            ids = np.empty(count[columns * rows], np.int64)
            # The last cell's end is kept while starts move along.
    for c in range(columns * rows, 0, -1):
        count[c] = count[c - 1]
    count[0] = 0
    return count, ids


@kernel
def contacts(laid, before, owner, inward, sheet, chosen, first, ids, columns, rows, cell, reach):
    """Border points of one sheet within `reach` of another shape's border: point's segment, other shape, distance, below 0
    where the point lies inside, unit way outwards, and the place touched. (N,), (N,), (N,), (N, 2), (N, 2).

    inward  (shapes,) 1 where a shape lies to the left of its segments, −1 where it lies to their right
    """
    size, n = 1024, 0
    who, other, far = np.empty(size, np.int64), np.empty(size, np.int64), np.empty(size)
    way, touched = np.empty((size, 2)), np.empty((size, 2))
    for e in range(len(laid)):
        i = owner[e]
        if sheet[i] != chosen:
            continue
        px, py = laid[e, 0, 0], laid[e, 0, 1]
        begun = n
        r0, r1 = _bin(py - reach, cell, rows), _bin(py + reach, cell, rows)
        c0, c1 = _bin(px - reach, cell, columns), _bin(px + reach, cell, columns)
        for row in range(r0, r1 + 1):
            for column in range(c0, c1 + 1):
                for k in range(first[row * columns + column], first[row * columns + column + 1]):
                    f = ids[k]
                    if owner[f] == i:
                        continue
                    ax, ay, bx, by = laid[f, 0, 0], laid[f, 0, 1], laid[f, 1, 0], laid[f, 1, 1]
                    dx, dy = bx - ax, by - ay
                    length2 = dx * dx + dy * dy
                    t = ((px - ax) * dx + (py - ay) * dy) / length2 if length2 > 0.0 else 0.0
                    if t >= 1.0:
                        continue
                    side = inward[owner[f]]
                    inside = side * (dx * (py - ay) - dy * (px - ax)) > 0.0
                    if t <= 0.0:
                        # A corner counts only where the edge before it ends nearest as well.
                        g = before[f]
                        ux, uy = laid[g, 1, 0] - laid[g, 0, 0], laid[g, 1, 1] - laid[g, 0, 1]
                        if (px - laid[g, 1, 0]) * ux + (py - laid[g, 1, 1]) * uy < 0.0:
                            continue
                        t = 0.0
                        before_inside = side * (ux * (py - ay) - uy * (px - ax)) > 0.0
                        # Round a corner that juts out both edges have to agree on inside, in a notch one is enough.
                        if side * (ux * dy - uy * dx) > 0.0:
                            inside = inside and before_inside
                        else:
                            inside = inside or before_inside
                    qx, qy = ax + t * dx, ay + t * dy
                    # Each segment stands in several cells; the one of the touched place tells.
                    if _bin(qy, cell, rows) != row or _bin(qx, cell, columns) != column:
                        continue
                    wx, wy = px - qx, py - qy
                    d = np.hypot(wx, wy)
                    if d > reach:
                        continue
                    if d > 1e-9:
                        wx, wy = wx / d, wy / d
                    else:
                        length = max(np.sqrt(length2), 1e-300)
                        wx, wy = side * dy / length, -side * dx / length
                        inside = False
                    if n == size:
                        who, other, far = _longer(who), _longer(other), _longer_floats(far)
                        way, touched = _longer_pairs(way), _longer_pairs(touched)
                        size *= 2
                    if inside:
                        d, wx, wy = -d, -wx, -wy
                    who[n], other[n], far[n] = e, owner[f], d
                    way[n, 0], way[n, 1], touched[n, 0], touched[n, 1] = wx, wy, qx, qy
                    n += 1
        _outside_again(other, far, way, begun, n)
    return who[:n].copy(), other[:n].copy(), far[:n].copy(), way[:n].copy(), touched[:n].copy()


@inline
def _outside_again(other, far, way, begun, n):
    """Of contacts of one point: the nearest border of a shape tells whether the point is inside; where it is not, borders seen
    from within are the far sides of something thin."""
    for k in range(begun, n):
        if far[k] >= 0.0:
            continue
        for m in range(begun, n):
            if other[m] == other[k] and far[m] >= 0.0 and far[m] < -far[k]:
                far[k], way[k, 0], way[k, 1] = -far[k], -way[k, 0], -way[k, 1]
                break


@inline
def _longer(a):
    out = np.empty(2 * len(a), np.int64)
    out[: len(a)] = a
    return out


@inline
def _longer_floats(a):
    out = np.empty(2 * len(a))
    out[: len(a)] = a
    return out


@inline
def _longer_pairs(a):
    out = np.empty((2 * len(a), 2))
    out[: len(a)] = a
    return out


def readied() -> None:
    """Load what takes its time to load, before it is wanted."""
    import scipy.optimize  # noqa: F401


@dataclass(frozen=True, eq=False)
class Touching:
    """Contacts (N,) of a layout: shapes a and b (−1 for the sheet's edge), distance, what it lacks of its margin, unit way
    (N, 2) from b to a, and the place (N, 2) on a and on b."""

    a: Ints
    b: Ints
    along: Floats
    lack: Floats
    way: Floats
    on_a: Floats
    on_b: Floats

    @property
    def worst(self) -> float:
        """The greatest lack, below 0 where everything keeps its margin and more."""
        return float(self.lack.max()) if len(self.lack) else -np.inf


class Squeeze:
    """Exact distances of shapes on sheets, and the program that enlarges them."""

    def __init__(self, outlines: Outlines, room: Room, fixed: Bools, turning: Bools) -> None:
        self.outlines, self.room, self.fixed, self.turning = outlines, room, fixed, turning
        self.owner = np.repeat(np.arange(len(fixed)), np.diff(outlines.start))
        rest = outlines.segments[:, 0]
        step = np.linalg.norm(outlines.segments[:, 1] - rest, axis=1)
        self.along = np.cumsum(step)
        rest_end = outlines.segments[:, 1]
        twice = rest[:, 0] * rest_end[:, 1] - rest[:, 1] * rest_end[:, 0]
        self.inward = np.where(np.add.reduceat(twice, outlines.start[:-1]) >= 0, 1.0, -1.0)
        self.radius = np.maximum.reduceat(np.hypot(rest[:, 0], rest[:, 1]), outlines.start[:-1])

    def touching(self, lying: Lying, scale: float, reach: float) -> Touching:
        """All contacts with less than `reach` pixels above their margin."""
        sizes = np.where(self.fixed, 1.0, scale)
        laid = self.outlines.laid(lying, sizes)
        rows: list[tuple[NDArray, ...]] = []
        for k in range(len(self.room.sizes)):
            rows.append(self._between(laid, lying, k, reach))
            rows += self._walls(laid, lying, k, reach)
        return Touching(*(np.concatenate(column) for column in zip(*rows, strict=True)))

    def crossing(self, lying: Lying, scale: float) -> bool:
        """Whether any two shapes cross, as shapely tells."""
        import shapely

        laid = self.outlines.laid(lying, np.where(self.fixed, 1.0, scale))
        lines = [shapely.multilinestrings(shapely.linestrings(laid[a:b])) for a, b in zip(
            self.outlines.start[:-1], self.outlines.start[1:], strict=True)]  # fmt: skip
        one, other = shapely.STRtree(lines).query(lines, predicate="intersects")
        return bool(((one < other) & (lying.sheet[one] == lying.sheet[other]) & ~(self.fixed[one] & self.fixed[other])).any())

    def _between(self, laid: Floats, lying: Lying, sheet: int, reach: float) -> tuple[NDArray, ...]:
        margin = float(self.room.margin[sheet])
        cell = max(margin + reach, float(self.room.sizes[sheet].max()) / 256)
        columns, rows = (int(np.ceil(side / cell)) for side in self.room.sizes[sheet])
        out = self.outlines
        first, ids = _hash(laid, out.start, lying.sheet, sheet, columns, rows, cell)
        who, other, far, way, touched = contacts(
            laid, out.before, self.owner, self.inward * lying.flip, lying.sheet, sheet, first, ids, columns, rows, cell,
            margin + reach,
        )
        a = self.owner[who]
        loose = ~(self.fixed[a] & self.fixed[other])
        columns_ = (a, other, self.along[who], margin + SURPLUS - far, way, laid[who, 0], touched)
        return tuple(c[loose] for c in columns_)

    def _walls(self, laid: Floats, lying: Lying, sheet: int, reach: float) -> list[tuple[NDArray, ...]]:
        edge = float(self.room.edge[sheet])
        here = np.flatnonzero((lying.sheet[self.owner] == sheet) & ~self.fixed[self.owner])
        points = laid[here, 0]
        out: list[tuple[NDArray, ...]] = []
        for axis in range(2):
            for sign in (1.0, -1.0):
                gap = points[:, axis] if sign > 0 else self.room.sizes[sheet, axis] - points[:, axis]
                near = np.flatnonzero(gap < edge + reach)
                way = np.zeros((len(near), 2))
                way[:, axis] = sign
                at = points[near]
                out.append((self.owner[here[near]], np.full(len(near), -1), self.along[here[near]],
                            edge + SURPLUS - gap[near], way, at, at))  # fmt: skip
        return out

    def enlarged(
        self, lying: Lying, scale: float, trust: float = 4.0, rounds: int = 30, progress: Progress = silent,
        most: float = np.inf, until: float = np.inf,
    ) -> tuple[Lying, float] | None:  # fmt: skip
        """The layout at the largest scale near it, at most `most`, with every margin kept; from one that lacks little. None
        where margins cannot be had. At the time `until` of the monotonic clock it grows no further, and only mends."""
        now, size = lying.copied(), scale
        # Of many shapes few have room for long steps, and short ones have fewer neighbours to look at.
        trust = min(trust, CROWDED / max(len(self.fixed), 1))
        touch = self.touching(now, size, 3 * trust)
        held: tuple[Lying, float] | None = None
        yielding = False
        for k in range(rounds + MENDING):
            late = k >= rounds or time.monotonic() > until
            if late and held is not None:
                break
            if late:
                trust = min(trust, max(WAY_OUT * touch.worst, LEAST_STEP))
            best = self._program(touch, now, size, trust, size if late else most, yielding, late)
            step = left_at_once(best, partial(progress, min(k / rounds, 1.0), "squeezing the islands"))
            if step is None and yielding:
                break
            if step is None:
                yielding = True
                continue
            trial, grown = step
            new = self.touching(trial, grown, max(3 * trust, 0.5))
            if new.worst > max(0.3 * trust, 1.2 * touch.worst):
                trust *= 0.4
                touch = self.touching(now, size, max(3 * trust, 0.5))
                if trust < (LEAST_STEP if held is not None else 0.03 * LEAST_STEP):
                    break
                continue
            gain = grown / size - 1
            now, size, touch = trial, grown, new
            if touch.worst <= SURPLUS and (held is None or size > held[1]):
                held = now, size
            if touch.worst <= SURPLUS and gain < 2e-5:
                break
            # What lines leave out falls with the square of the step: the last ones are tiny.
            shorter = trust * (1.0 if gain > 3e-3 else 0.7 if gain > 1e-3 else 0.4)
            trust = max(shorter, min(trust, WAY_OUT * touch.worst), LEAST_STEP)
        return held

    def _program(
        self, touch: Touching, lying: Lying, scale: float, trust: float, most: float, yielding: bool, mending: bool
    ) -> Callable[[], tuple[Lying, float] | None]:  # fmt: skip
        """What finds the best step that keeps all margins; with `yielding` pairs that lack something may go on lacking it, at a price,
        and when `mending` more than the margin is asked for, by what lines leave out."""
        # Only packing needs it, and it takes its time to load.
        from scipy.optimize import linprog

        n = len(self.fixed)
        # The smaller the step the nearer two points of border have to be to stand for one another.
        keep = _thinned(touch, min(BUCKET, max(4 * trust, 0.2)))
        a, b, way = touch.a[keep], touch.b[keep], touch.way[keep]
        rows = np.arange(len(keep))
        entries: list[tuple[NDArray, NDArray, NDArray]] = []
        growth = np.zeros(len(keep))
        for shape, at, sign in ((a, touch.on_a[keep], 1.0), (b, touch.on_b[keep], -1.0)):
            loose = (shape >= 0) & ~self.fixed[np.maximum(shape, 0)]
            k, row = shape[loose], rows[loose]
            arm = at[loose] - lying.middle[k]
            w = way[loose] * sign
            entries += [(row, 3 * k, w[:, 0]), (row, 3 * k + 1, w[:, 1])]
            rim = np.maximum(self.radius[k] * scale, 1e-9)
            entries.append((row, 3 * k + 2, (w[:, 1] * arm[:, 0] - w[:, 0] * arm[:, 1]) / rim))
            growth[row] += (w * arm).sum(axis=1)
        # Growth is counted in pixels of a hundred-pixel shape, so that all unknowns are of one size.
        entries.append((rows, np.full(len(rows), 3 * n), growth / 100))
        # What lacks more than one step can mend is asked for as far as it goes; what still cannot be had costs much.
        lack = np.minimum(touch.lack[keep] + (max(touch.worst, SURPLUS) if mending and touch.worst < LAST else 0.0), STEP_MENDS * trust)
        short = np.flatnonzero(lack > SURPLUS) if yielding else np.zeros(0, np.int64)
        yields = unique_rows(np.column_stack([a[short], b[short]]))[1]
        extra = int(yields.max()) + 1 if len(short) else 0
        entries.append((short, 3 * n + 1 + yields, np.ones(len(short))))
        matrix = coo_matrix(
            (-np.concatenate([e[2] for e in entries]),
             (np.concatenate([e[0] for e in entries]), np.concatenate([e[1] for e in entries]))),
            shape=(len(keep), 3 * n + 1 + extra),
        ).tocsr()  # fmt: skip
        bound = np.repeat(np.where(self.fixed, 0.0, trust), 3)
        bound[2::3] *= self.turning
        top = min(5.0, 100 * (most / scale - 1))
        limits = [*zip(-bound, bound, strict=True), (min(-5.0, top), top), *[(0.0, None)] * extra]
        aim = np.concatenate([np.zeros(3 * n), [-1.0], np.full(extra, YIELDING)])

        def solve() -> tuple[Lying, float] | None:
            done = linprog(aim, A_ub=matrix, b_ub=-lack, bounds=limits, method="highs")
            if done.x is None:
                return None
            move = done.x[: 3 * n].reshape(n, 3)
            new = lying.copied()
            new.middle[:] += move[:, :2]
            new.turn[:] += move[:, 2] / np.maximum(self.radius * scale, 1e-9)
            return new, scale * (1 + done.x[3 * n] / 100)

        return solve


def _thinned(touch: Touching, stretch: float) -> Ints:
    """The nearest contact of each stretch of border against each other shape."""
    bucket = np.floor(touch.along / stretch).astype(np.int64)
    # At the edge the sides are told apart by the way they push.
    side = np.where(touch.b < 0, -1 - np.round(touch.way[:, 0] + 2 * touch.way[:, 1]).astype(np.int64) - 2, touch.b)
    # Several ways against one shape in one stretch: a point in a corner of the other is held from both sides.
    turn = np.round(np.arctan2(touch.way[:, 1], touch.way[:, 0]) / (np.pi / 6)).astype(np.int64)
    order = np.lexsort((-touch.lack, turn, bucket, side, touch.a))
    key = np.stack([touch.a, side, bucket, turn], axis=1)[order]
    first = np.ones(len(order), bool)
    first[1:] = (key[1:] != key[:-1]).any(axis=1)
    return order[first]
