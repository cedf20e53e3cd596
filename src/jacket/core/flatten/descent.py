"""Least symmetric Dirichlet energy without flips, by projected Newton steps.

Energy and line search: Smith and Schaefer, "Bijective parameterization with free boundaries"
(2015). Analytic eigenvalues of the Hessian: Smith, de Goes and Kim, "Analytic eigensystems for
isotropic distortion energies" (2019). The reweighted steps that tame bad starts: Rabinovich,
Poranne, Panozzo and Sorkine-Hornung, "Scalable locally injective mappings" (2017).
"""

from __future__ import annotations

import math
import time
from dataclasses import dataclass
from functools import cache

import numpy as np
from scipy import sparse

from jacket.core.beside import both
from jacket.core.flatten.energies import (
    derivatives,
    derivatives_between,
    largest_step,
    mean_energy,
    mean_energy_between,
    put_forward,
    shapes_between,
    taken_back,
)
from jacket.core.flatten.pattern import pattern_of
from jacket.core.flatten.starts import signed_areas
from jacket.core.mesh.polymesh import Bools, Floats, Ints
from jacket.core.solve.cholesky import Factor, whole
from jacket.core.uv.chart import Chart

FULL_STEPS = 60
TOLERANCE = 2e-5


@dataclass(frozen=True, eq=False)
class Held:
    """What keeps points of a chart from moving freely.

    fixed    (V,) points that do not move at all
    pull     (V,) how strongly points are drawn to their places, against the stretch of the whole island; None for none
    places   (V, 2) where they are drawn to
    alike    (2V,) for each coordinate (u0, v0, u1, …) a number; those of one number move by as much, −1 stands; None for
             coordinates that move each by itself
    """

    fixed: Bools
    pull: Floats | None = None
    places: Floats | None = None
    alike: Ints | None = None


class Descent:
    """A running minimisation of one chart: `uv` (V, 2) is flip-free after every step.

    held       what is fixed and drawn
    balance    from 0, where only angles count, over ½, the symmetric Dirichlet energy, to 1, where only areas do: the energy is
               the distortion of angles to the power of 2 (1 − balance) times that of areas to the power of 2 balance
    """

    def __init__(self, chart: Chart, uv: Floats, held: Held | None = None, balance: float = 0.5) -> None:
        self.chart, self.held = chart, held
        self.angles, self.areas = 2 * (1 - balance), 2 * balance
        self.uv = np.ascontiguousarray(uv, np.float64).copy()
        self.pattern = pattern_of(chart)
        self.tri, self.inverse, self.area = self.pattern.tri, self.pattern.inverse, self.pattern.area
        # Written anew in every step: fresh memory costs as much as the sums.
        self._parts = np.empty((len(self.tri), 6, 6))
        self.energy = self.value(self.uv)
        self.factor: Factor | None = None
        self._to = _reduction(held) if held is not None and held.alike is not None else None
        self._still = np.flatnonzero(np.repeat(held.fixed, 2)) if held is not None and self._to is None else None
        self._calm = False
        self._past: list[tuple[Floats, Floats, float]] = []
        self._last: tuple[Floats, Floats] | None = None

    def value(self, uv: Floats | None = None) -> float:
        """Energy of places, the present ones unless given, and of what draws them."""
        uv = self.uv if uv is None else uv
        if self.angles == self.areas:
            energy = float(mean_energy(uv, self.tri, self.inverse, self.area))
        else:
            energy = float(mean_energy_between(uv, self.tri, self.inverse, self.area, self.angles, self.areas))
        if self.held is not None and self.held.pull is not None and self.held.places is not None:
            energy += float((self.held.pull[:, None] * (uv - self.held.places) ** 2).sum()) / max(self.chart.area, 1e-300)
        return energy

    def prepare(self) -> None:
        """Plan and factor as things lie, on another thread if need be: a later stale step then has its factorisation. Nothing else of
        this may be asked for meanwhile but what `value` needs."""
        _, data = self._derived(False)
        self._refactor(data)

    def _derived(self, reweighted: bool, blocks: bool = True) -> tuple[Floats, Floats]:
        """Gradient (2V,) and, unless only that is wanted, the values of the Hessian's upper half. What stands has no gradient
        and is weighed down: the pattern stays, and nothing has to be taken out of the matrix."""
        parts, uv = self._parts if blocks else self._parts[:0], self.uv

        def some(first: int, last: int) -> Floats:
            own = uv, self.tri[first:last], self.inverse[first:last], self.area[first:last]
            if self.angles == self.areas:
                return np.asarray(derivatives(*own, reweighted, parts[first:last]))
            return np.asarray(derivatives_between(*own, self.angles, self.areas, parts[first:last]))

        count = len(self.tri)
        if count < SHARED:
            gradient = some(0, count)
        else:
            one, two = both(lambda: some(0, count // 2), lambda: some(count // 2, count))
            gradient = one + two
        data = self.pattern.values(parts) if blocks else np.zeros(0)
        diagonal = self.pattern.diagonal
        if blocks:
            data[diagonal] += 1e-9 * float(data[diagonal].mean())
        if self.held is not None and self.held.pull is not None and self.held.places is not None:
            weight = np.repeat(2 * self.held.pull, 2) / max(self.chart.area, 1e-300)
            gradient = gradient + weight * (uv - self.held.places).ravel()
            if blocks:
                data[diagonal] += weight
        if self._still is not None:
            gradient[self._still] = 0.0
            if blocks:
                data[diagonal[self._still]] += HEAVY * float(data[diagonal].mean())
        return gradient, data

    def _refactor(self, data: Floats) -> None:
        matrix = self.pattern.matrix(data)
        if self._to is not None:
            matrix = (self._to.T @ whole(matrix) @ self._to).tocsc()
        if self.factor is None:
            self.factor = Factor(matrix) if self._to is not None else Factor(matrix, True, self.pattern.plan)
        else:
            self.factor.update(matrix)

    def step(self, reweighted: bool, stale: bool = False) -> float:
        """One step; returns the share by which the energy fell (0 when nothing helps). With `stale` the last factorisation is
        taken as it is, where there is one: a shorter way down that is there at once.

        Once steps are small the Hessian hardly changes: the last factorisation then serves on, corrected by what the gradients
        of the last steps have shown (L-BFGS with it as the first guess; Nocedal and Wright, Numerical Optimization, 2006,
        algorithm 7.4), which also makes up for the part of the Hessian that was taken out to make it positive."""
        if self._to is not None and self._to.shape[1] == 0:
            return 0.0
        if self._calm and not reweighted and not stale and self.factor is not None and len(self._past) < REMEMBERED:
            gain = self._quasi_step()
            if gain > QUIET:
                return gain
        self._past.clear()
        self._last = None
        serves = stale and self.factor is not None
        gradient, data = self._derived(reweighted, not serves)
        if not serves:
            self._refactor(data)
        assert self.factor is not None
        gain, _ = self._down(gradient, -self.factor.solve(self._free(gradient)))
        self._calm = not reweighted and 0 < gain < CALM
        return gain

    def _lead_in(self) -> None:
        """Steps towards shapes between where triangles lie and how they should be, none of them further off than `BETWEEN`, until
        that gains little (Liu, Ye, Ni and Fu, "Progressive parameterizations", 2018)."""
        whole_way = self.inverse
        for _ in range(LEADING):
            self.inverse, far = self._shapes_between(whole_way)
            self.energy = self.value()
            if far == 0 or self.step(False) < LED:
                break
        self.inverse = whole_way
        self.energy = self.value()
        self._calm = False

    def _shapes_between(self, whole_way: Floats) -> tuple[Floats, int]:
        """Inverses (T, 2, 2) of shapes none of which is further off than `BETWEEN`, and how many are."""
        out, half = whole_way.copy(), len(self.tri) // 2
        far = both(*(lambda part=part: shapes_between(self.uv, self.tri[part], whole_way[part], BETWEEN, out[part])
                     for part in (slice(half), slice(half, None))))  # fmt: skip
        return out, sum(far)

    def _free(self, gradient: Floats) -> Floats:
        """A gradient by what is free."""
        return gradient if self._to is None else np.asarray(self._to.T @ gradient)

    def _down(self, gradient: Floats, way: Floats) -> tuple[float, Floats]:
        """Go along a way (K,) of what is free as far as helps and turns no triangle over; the share gained, and the step."""
        if self._still is not None:
            way[self._still] = 0.0
        move = (way if self._to is None else self._to @ way).reshape(-1, 2)
        slope = float((move.ravel() * gradient).sum())
        if not np.isfinite(slope) or slope >= 0:
            return 0.0, way
        most = 0.9 * float(largest_step(self.uv, move, self.tri))
        length = min(1.0, most)
        for _ in range(40):
            trial = self.uv + length * move
            energy = self.value(trial)
            if np.isfinite(energy) and energy <= self.energy + 1e-4 * length * slope:
                if energy < FAR * self.energy:
                    length, trial, energy = self._further(move, length, most, trial, energy)
                gain = (self.energy - energy) / max(self.energy, 1e-300)
                self.uv, self.energy = trial, energy
                return gain, length * way
            length *= 0.5
        return 0.0, way

    def _further(self, move: Floats, length: float, most: float, trial: Floats, energy: float) -> tuple[float, Floats, float]:
        """Far from the end a few squeezed triangles are all of the energy. Newton's step then widens them by a third each (that of
        1/σ² does), so the step is doubled for as long as that helps."""
        while 2 * length <= most:
            longer = self.uv + 2 * length * move
            value = self.value(longer)
            if not value < energy:
                break
            length, trial, energy = 2 * length, longer, value
        return length, trial, energy

    def _quasi_step(self) -> float:
        assert self.factor is not None
        gradient, _ = self._derived(False, False)
        now = self._free(gradient)
        if self._last is not None:
            step, before = self._last
            turned = now - before
            along = float(step @ turned)
            if along > 1e-12 * float(np.linalg.norm(step) * np.linalg.norm(turned)):
                self._past.append((step, turned, 1.0 / along))
                del self._past[:-REMEMBERED]
        gain, step = self._down(gradient, -self._corrected(now))
        self._last = (step, now) if gain > 0 else None
        return gain

    def _corrected(self, gradient: Floats) -> Floats:
        """The way that leads down a gradient by the last factorisation and what the last steps have shown (two loops over them)."""
        assert self.factor is not None
        if not self._past:
            return self.factor.solve(gradient)
        steps, turns = (np.array([past[k] for past in self._past]) for k in (0, 1))
        shares = np.array([past[2] for past in self._past])
        way, along = taken_back(gradient, steps, turns, shares)
        return np.asarray(put_forward(self.factor.solve(way), steps, turns, shares, along))

    def run(self, steps: int, from_bad_start: bool, tolerance: float = TOLERANCE, until: float = math.inf) -> None:
        """Step until the energy stands still: reweighted first from a bad start, then, where much is squeezed still, towards shapes
        that are never far off, then Newton. After the first no step begins past `until` (a reading of `time.perf_counter`)."""
        reweighted = from_bad_start
        for turn in range(steps):
            if turn and time.perf_counter() > until:
                break
            gain = self.step(reweighted)
            if reweighted:
                reweighted = gain >= STEEP
                if not reweighted and self.energy > SQUEEZED and self.angles == self.areas:
                    self._lead_in()
            elif gain < tolerance:
                break


@cache
def read_kernels() -> None:
    """Read the kernels of late steps now: at their first use that takes some tens of milliseconds."""
    row = np.ones((1, 2))
    way, along = taken_back(np.ones(2), row, row, np.ones(1))
    put_forward(way, row, row, np.ones(1), along)


SHARED = 4_000
"""Triangles from which on two threads share their derivatives."""
HEAVY = 1e6
"""How much points that stand weigh, in middling entries of the diagonal."""
STEEP = 0.36
"""Gain of a reweighted step below which Newton's take over."""
FAR = 0.75
"""To what share of the energy a step must lead for a longer one to be tried."""
QUIET = 2e-5
"""Gain of a step with an older factorisation below which there is a new one."""
SQUEEZED, BETWEEN, LEADING, LED = 100.0, 15.0, 40, 0.2
"""Energy from which on steps are led in, energy of the shapes that do so, how many such steps there are at most, and the gain of
one below which there are no more."""
CALM = 0.02
"""Share of the energy that a step may gain at most for the next one to go on with its factorisation."""
REMEMBERED = 10
"""Steps whose gradients correct a factorisation."""


def _reduction(held: Held) -> sparse.csr_array:
    """(2V, K) how coordinates follow from what is free."""
    number = np.arange(2 * len(held.fixed)) if held.alike is None else np.asarray(held.alike).copy()
    number[np.repeat(held.fixed, 2)] = -1
    rows = np.flatnonzero(number >= 0)
    _, columns = np.unique(number[rows], return_inverse=True)
    count = int(columns.max()) + 1 if len(columns) else 0
    return sparse.csr_array((np.ones(len(rows)), (rows, columns)), shape=(len(number), count))


def flips(chart: Chart, uv: Floats) -> int:
    """Triangles of the chart with area that the flat positions turn over."""
    return int(((signed_areas(uv, chart.triangles) <= 0) & (chart.weights > 0)).sum())
