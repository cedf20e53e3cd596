"""Packing tighter: the scale is raised a little, what now overlaps is moved apart or elsewhere, again and again."""

from __future__ import annotations

from collections.abc import Generator, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from itertools import count

import numpy as np

from jacket.core.layout.parting import Bools, Floats, Ints, Lying, Room, best_tried, settled
from jacket.core.layout.rooms import Covered, places_for
from jacket.core.layout.shapes import Stock

ENOUGH = 0.12
"""Pixels that may miss while searching; the squeeze at the end mends them exactly."""
PATIENCE = 4
"""Sweeps without progress after which an attempt is given up."""
ROUNDS, ROUNDS_EACH = 30, 25
"""Rounds of moving all apart in a sweep, and of settling one shape at a place that is tried."""
PUSH = 2.0
"""How much more than before the pair that misses most counts after a sweep, as a share."""
AGAIN = 0.3
"""Share of attempts that go on from one that failed."""
SMALLER = 0.985
"""How much smaller a layout that does not come apart is tried again."""
SHAKEN = 0.25
"""Share of attempts that begin with a shake rather than with two shapes changing places."""
MOST_SWEEPS = 56
LONE = 24
"""Attempts without progress after which a shape lies as well as it can; of more there are that times their number squared."""
ELSEWHERE, MOST_ELSEWHERE, SHARE = 6, 40, 8
"""Shapes that are put elsewhere in a sweep, at least and at most, and of how many it is one."""
FEW = 40
"""Shapes of which all are moved in every sweep; of more only those in trouble and their neighbours."""
MOST_WEIGHED = 1500
EARLIER = 4
"""Layouts that are remembered beside the best one."""
SLACK = 24.0
"""Pixels that shapes may come closer before pairs are looked for anew."""


@dataclass(frozen=True, eq=False)
class Freedom:
    """What shapes may do: turn freely (0) or by whole parts of a turn (4 for quarters, 1 for not at all), each (N,); be mirrored;
    change to other sheets."""

    turns: Ints
    mirrored: bool = False
    sheets: bool = False


@dataclass(frozen=True, eq=False)
class Found:
    """A layout with nothing too close but for `ENOUGH` as far as places along borders tell, at a scale; and the last ones found before
    it, the latest first, for where exact distances tell otherwise."""

    lying: Lying
    scale: float
    before: tuple[tuple[Lying, float], ...] = ()

    def then(self, lying: Lying, scale: float) -> Found:
        """One that was found after this one."""
        return Found(lying, scale, ((self.lying, self.scale), *self.before)[:EARLIER])


class Team:
    """Several searches side by side from the same layout, each with a seed of its own. They tell one another what they found
    after fixed numbers of steps, so that the result does not depend on which was quicker."""

    def __init__(self, searches: Sequence[Search], together: int = 3, alone: int = 0) -> None:
        """`together` steps are made before each telling, and none is told in the first `alone` rounds of that."""
        self.searches, self.together, self.alone = searches, together, alone

    @property
    def best(self) -> Found:
        """The best of all."""
        return max((s.best for s in self.searches), key=lambda found: found.scale)

    def steps(self) -> Iterator[Found]:
        """The best layout after each step of all, for as long as one of them goes on."""
        runs = [s.steps() for s in self.searches]

        def some(run: Iterator[Found]) -> bool:
            return all(next(run, None) is not None for _ in range(self.together))

        with ThreadPoolExecutor(len(runs)) as pool:
            for made in count(1):
                going = [done.result() for done in [pool.submit(some, run) for run in runs]]
                if not any(going):
                    return
                best = self.best
                for search in self.searches if made > self.alone else ():
                    if search.best.scale < best.scale:
                        search.best = best
                yield best


class Search:
    """Looks for layouts at ever larger scales; what it finds depends on the seed and the number of steps only."""

    def __init__(
        self, stock: Stock, room: Room, freedom: Freedom, lying: Lying, scale: float, fixed: Bools, seed: int = 1,
        most: float = np.inf,
    ) -> None:  # fmt: skip
        self.stock, self.room, self.freedom, self.fixed, self.most = stock, room, freedom, fixed, most
        self.random = np.random.default_rng(seed)
        self.best = Found(lying, scale)
        self.ahead = lying, scale
        """A layout at a larger scale that is not allowed yet, and what is to become of it first."""
        self.count = len(fixed)
        self.moving = np.flatnonzero(~fixed)
        # Of very many all count the same: none is kept.
        self.weight = np.ones((self.count, self.count)) if self.count <= MOST_WEIGHED else np.zeros((0, 0))
        self.covered = Covered(stock, room, float(room.sizes.max()) / 170)
        self.bulk = stock.radius**2
        self.turning = freedom.turns == 0

    # ---- what is known of a layout -----------------------------------------------------------------------------------

    def sizes(self, scale: float) -> Floats:
        """(N,) sizes of the shapes at a scale: fixed ones keep theirs."""
        return np.where(self.fixed, 1.0, scale)

    def settle(
        self, lying: Lying, scale: float, active: Bools, rounds: int = 60
    ) -> tuple[float, float, Ints, Floats, Floats]:
        """Move active shapes apart, writing into `lying`; energy, deepest miss, pairs, what each misses, and walls."""
        return settled(active, self.weight, self.turning, self.sizes(scale), lying, self.stock, self.room, rounds, ENOUGH, SLACK)

    def free(self, lying: Lying, scale: float) -> bool:
        """Whether nothing lies too close anywhere."""
        return self.settle(lying, scale, ~self.fixed, 0)[1] <= ENOUGH

    # ---- steps -------------------------------------------------------------------------------------------------------

    def steps(self) -> Iterator[Found]:
        """The best layout after each step, for ever; of up to three shapes until many attempts have brought nothing."""
        yield from self._part_ahead()
        yield from self._grow()
        grow, misses = 0.006, 0
        most_misses = LONE * len(self.moving) ** 2 if len(self.moving) <= 3 else np.inf
        pool: list[tuple[float, Lying]] = []
        while True:
            if self.best.scale >= self.most or misses >= most_misses:
                return
            scale = min(self.best.scale * (1 + grow), self.most)
            start = self._spread(self.best.lying, scale / self.best.scale)
            if misses:
                if pool and self.random.random() < AGAIN:
                    start = pool[int(self.random.integers(len(pool)))][1].copied()
                self._disturb(start, scale)
            energy, done = yield from self._part(start, scale)
            if done and scale > self.best.scale:
                self.best = self.best.then(start, scale)
                pool.clear()
                misses, grow = 0, min(grow * 1.5, 0.02)
            else:
                misses += 1
                grow = max(grow * 0.75, 0.0015)
                pool = sorted([*pool, (energy, start)], key=lambda row: row[0])[:3]
            yield self.best

    def _part_ahead(self) -> Iterator[Found]:
        """The layout ahead moved apart, a little smaller as long as that does not succeed."""
        lying, scale = self.ahead
        begun = scale
        while scale > self.best.scale:
            trial = self._spread(lying, scale / begun)
            _, worst, *_ = self.settle(trial, scale, ~self.fixed, 300)
            if worst <= ENOUGH and self.free(trial, scale):
                self.best = self.best.then(trial, scale)
            yield self.best
            scale *= SMALLER

    def _grow(self) -> Iterator[Found]:
        """As large as the first layout lets itself be pushed."""
        grow = 0.05 if self.count <= FEW else 0.02
        everything = ~self.fixed
        while grow > 0.002:
            scale = min(self.best.scale * (1 + grow), self.most)
            trial = self._spread(self.best.lying, scale / self.best.scale)
            _, worst, *_ = self.settle(trial, scale, everything, 120 if self.count <= FEW else 300)
            if worst <= ENOUGH and self.free(trial, scale):
                self.best = self.best.then(trial, scale)
            else:
                grow *= 0.5
            yield self.best

    def _spread(self, lying: Lying, factor: float) -> Lying:
        half = self.room.sizes[lying.sheet] / 2
        middle = np.where(self.fixed[:, None], lying.middle, half + (lying.middle - half) * factor)
        return Lying(middle, lying.turn.copy(), lying.flip.copy(), lying.sheet.copy())

    def _disturb(self, lying: Lying, scale: float) -> None:
        """Swap two large shapes, or put one elsewhere, so that the search looks in another corner."""
        ids = self.moving
        if len(ids) < 2:
            lying.turn[ids] += self.random.uniform(0, 2 * np.pi, len(ids)) * self.turning[ids]
            return
        if self.random.random() < SHAKEN:
            # Everything a little elsewhere: of equal shapes two that change places are as before.
            size = self.stock.radius[ids] * scale
            strength = self.random.uniform(0.2, 1.4 if self.count <= 16 else 0.5)
            lying.middle[ids] += self.random.normal(0, strength, (len(ids), 2)) * size[:, None]
            return
        share = self.bulk[ids] / self.bulk[ids].sum()
        a = int(self.random.choice(ids, p=share))
        # A partner of about its size, so that both may find room.
        near = np.exp(-(np.log(self.bulk[ids] / self.bulk[a]) ** 2)) * (ids != a)
        b = int(self.random.choice(ids, p=near / near.sum()))
        lying.middle[[a, b]] = lying.middle[[b, a]]
        if self.freedom.sheets:
            lying.sheet[[a, b]] = lying.sheet[[b, a]]
        for k in (a, b):
            self._relocate(k, lying, scale, near=True)

    def _part(self, lying: Lying, scale: float) -> Generator[Found, None, tuple[float, bool]]:
        """Move apart what overlaps; every sweep that does not get there puts the worst elsewhere and lets its pairs count
        more. Returns the energy and whether nothing overlaps any more; yields the best so far after each sweep."""
        self.weight[:] = 1.0
        active = ~self.fixed
        least, stuck = np.inf, 0
        for _ in range(MOST_SWEEPS):
            energy, worst, pairs, share, walls = self.settle(lying, scale, active, ROUNDS)
            if worst <= ENOUGH and self.free(lying, scale):
                return energy, True
            plain = float(share.sum() + walls.sum())
            stuck = 0 if plain < 0.98 * least else stuck + 1
            least = min(least, plain)
            if stuck > PATIENCE:
                break
            self._insist(pairs, share)
            trouble = walls.copy()
            np.add.at(trouble, pairs[:, 0], share)
            np.add.at(trouble, pairs[:, 1], share)
            trouble[self.fixed] = 0
            worst_first = [int(k) for k in np.argsort(-trouble) if trouble[k] > 0.02 * trouble.max()]
            chosen = worst_first[: max(4, len(worst_first) // 3)]
            chosen = self.random.permutation(chosen)[: min(max(ELSEWHERE, self.count // SHARE), MOST_ELSEWHERE)].tolist()
            for k in chosen:
                self._relocate(k, lying, scale)
            active = self._near(trouble > 0, pairs)
            active[chosen] = True
            yield self.best
        return least, False

    def _near(self, which: Bools, pairs: Ints) -> Bools:
        """Those shapes and the ones beside them; all where there are few, since then everything hangs together."""
        if self.count <= FEW:
            return ~self.fixed
        out = which.copy()
        out[pairs[which[pairs[:, 0]], 1]] = True
        out[pairs[which[pairs[:, 1]], 0]] = True
        return out & ~self.fixed

    def _insist(self, pairs: Ints, share: Floats) -> None:
        if len(self.weight) == 0 or len(share) == 0:
            return
        factor = 1 + PUSH * share / max(float(share.max()), 1e-300)
        self.weight[pairs[:, 0], pairs[:, 1]] *= factor
        self.weight[pairs[:, 1], pairs[:, 0]] = self.weight[pairs[:, 0], pairs[:, 1]]

    def _relocate(self, k: int, lying: Lying, scale: float, near: bool = False) -> None:
        """Put a shape where it costs least, if that is less than where it is."""
        sizes = self.sizes(scale)
        weights = self.weight[k] if len(self.weight) else np.ones(self.count)
        turns, flips = self._ways(k, lying)
        sheets = np.arange(len(self.room.sizes)) if self.freedom.sheets else lying.sheet[[k]]
        found = places_for(k, weights, sizes, lying, self.covered, sheets, turns, flips, self.random, not near)
        if len(found):
            best_tried(k, found, self.weight, self.turning, sizes, lying, self.stock, self.room, ROUNDS_EACH, ENOUGH, SLACK)

    def _ways(self, k: int, lying: Lying) -> tuple[Floats, Floats]:
        """Turns and flips to try."""
        parts = int(self.freedom.turns[k])
        if parts == 0:
            turns = lying.turn[k] + np.arange(16) * (np.pi / 8)
            turns[1:] += self.random.uniform(-np.pi / 16, np.pi / 16)
        else:
            turns = lying.turn[k] + np.arange(parts) * (2 * np.pi / parts)
        flips = np.full(len(turns), lying.flip[k])
        if self.freedom.mirrored:
            return np.concatenate([turns, turns]), np.concatenate([flips, -flips])
        return turns, flips
