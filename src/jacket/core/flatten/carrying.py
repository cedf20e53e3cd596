"""Points of islands carried elsewhere while the rest follows with least stretch, never a flip.

Each island is solved for by itself. What a pointer leads has to answer at once: the first island does, others come as they
are ready and take turns.
"""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Collection
from concurrent.futures import wait

import numpy as np

from jacket.core.beside import ahead
from jacket.core.flatten.descent import SHARED, Descent, read_kernels
from jacket.core.flatten.editing import Laying, held_by
from jacket.core.flatten.energies import largest_step
from jacket.core.mesh.polymesh import Bools, Floats, Ints

ROUNDS = 24
"""Times that what is carried is led on towards its place when it has to get there."""
TURN = 0.01
"""Seconds within which islands begin a step together; the others take the next one."""
APPROACH = 0.5
"""Share of the way to the first fold that what is carried goes before the rest can follow."""
NEAR, SLOW, CALM = 0.999, 0.05, 1e-3
"""Share of the way below which a face that would turn over is told of; the gain of a step below which the rest wants a factorisation
of how it lies now, and below which it has come to rest."""


class Carrier:
    """Points of an island being carried, the rest following with least stretch; a pointer may lead them on step by step.

    ids    (K,) points of the chart that are carried
    pins   (V',) strengths of other points
    """

    def __init__(self, laying: Laying, ids: Ints, pins: Floats) -> None:
        moving = np.zeros(len(laying.uv), bool)
        moving[ids] = True
        held = held_by(laying, np.where(moving, 1.0, pins), np.zeros(len(laying.uv), bool))
        self.laying, self.ids, self.descent = laying, ids, Descent(laying.chart, laying.uv, held)
        self.rests = bool(held.fixed.all())
        """Whether nothing is left that could follow."""
        self.share, self.gain = 1.0, math.inf
        """Of the last lead: the share of the way that was gone, and of the energy what its last step gained; who was never led has
        not come to rest, however soon it is ready."""
        self.large = len(self.descent.tri) >= SHARED
        """Whether a factorisation of it takes long."""
        self._new, self._begun = True, laying.uv
        self._ready = ahead(self._readied)
        self.waits = False
        """Whether the last lead had nothing yet by which the rest could follow."""

    def _readied(self) -> None:
        """Plan how the rest is solved for, and factor it as it lies, before a step wants it."""
        read_kernels()
        if not self.rests:
            self.descent.prepare()

    @property
    def still(self) -> bool:
        """Whether leading once more would change nothing to speak of."""
        return self._ready.done() and self.gain < CALM and (self.share == 1.0 or self.share < 1e-4)

    def wait(self) -> None:
        """Until it can take steps."""
        self._ready.result()

    def lead(self, targets: Floats, steps: int, hurried: bool = False, until: float = math.inf) -> float:
        """Towards places (K, 2) as far as no face turns over, then steps of the rest, no second one begun after `until` (a reading of
        `time.perf_counter`); the share of the way that was gone. Where it is `hurried` the rest of a large island waits for no
        factorisation: one is made on another thread, as often as the last leads no further."""
        descent = self.descent
        stale = hurried and self.large
        # As long as nothing can follow, always from where it began: step upon step it would be driven into the fold.
        self.waits = stale and not self._ready.done()
        before = self._begun if self.waits else descent.uv
        move = np.zeros_like(before)
        move[self.ids] = targets - before[self.ids]
        share = self.share = min(1.0, (APPROACH if self.waits else 0.8) * float(largest_step(before, move, descent.tri)))
        descent.uv = before + share * move
        descent.energy = descent.value()
        self.gain = 0.0 if self.rests else 1.0
        if self.waits:
            return share
        self.wait()
        for k in range(0 if self.rests else steps):
            # Without a first one what is led would come no further.
            if k and time.perf_counter() > until:
                break
            self.gain = descent.step(False, stale)
            if self.gain < 1e-4:
                break
        if stale and self.gain >= CALM:
            self._new = False
        if stale and self.gain < SLOW and not self._new and not self.rests:
            self._new, self._begun, self._ready = True, descent.uv, ahead(self._readied)
        return share

    def bring(self, targets: Floats, steps: int, hurried: bool = False, until: float = math.inf) -> float:
        """The same again and again until all are there or come no further; of a large island not after `until`."""
        share = self.lead(targets, steps, hurried, until)
        for _ in range(ROUNDS):
            if share == 1.0 or share < 1e-4 or (self.large and time.perf_counter() > until):
                break
            if self.waits:
                wait([self._ready], until - time.perf_counter())
            share = self.lead(targets, steps, hurried)
        return share

    def forget(self) -> None:
        """What is not begun yet need not be."""
        self._ready.cancel()


class Party:
    """Points of several islands carried at once. What the first island needs is made at once, that of the others on another
    thread; where a step of all would take too long they take turns, the first as often as the pointer moves.

    build    what makes the carrier of an island, and (K,) which of the flat points carried are its; may raise EditRefused
    whole    (C,) corners of islands that are carried whole, as they are, after which nothing has to follow
    """

    def __init__(self, build: Callable[[int], tuple[Carrier, Ints]], islands: list[int], whole: Bools) -> None:
        self.whole = whole
        self._known = [build(island) for island in islands[:1]]
        self._coming = [ahead(lambda island=island: build(island)) for island in islands[1:]]  # type: ignore[misc]
        self._waiting: list[int] = []
        self._next = 0
        self._last: Floats | None = None

    @property
    def alone(self) -> bool:
        """Whether nothing has to follow."""
        return not self._known

    @property
    def still(self) -> bool:
        """Whether every island is where it was last led and what follows has come to rest."""
        return not self._waiting and not self._coming and all(carrier.still for carrier, _ in self._known)

    def lead(self, uv: Floats, places: Callable[[Carrier, Ints], Floats], anew: bool = True) -> tuple[Floats, bool]:
        """Coordinates `uv` (C, 2) one step on, and whether a face that would turn over stopped it; `places` tells where the points
        of a carrier are led, (K, 2) in its own scale, elsewhere than the last time if `anew`."""
        while self._coming and self._coming[0].done():
            self._waiting.append(len(self._known))
            self._known.append(self._coming.pop(0).result())
        if anew:
            others = range(1, len(self._known))
            self._waiting = [*range(len(self._known))[:1], *others[self._next :], *others[: self._next]]
        elif not self._waiting:
            self._waiting = [k for k, (carrier, _) in enumerate(self._known) if not carrier.still]
        begun, led = time.perf_counter(), list[int]()
        while self._waiting and (not led or time.perf_counter() - begun < TURN):
            carrier, points = self._known[self._waiting[0]]
            led.append(self._waiting.pop(0))
            carrier.lead(places(carrier, points), 1, True)
        # Whoever had to wait comes first behind the first.
        if led and led[-1]:
            self._next = led[-1] % (len(self._known) - 1)
        return self._written(uv, led)

    def bring(self, uv: Floats, places: Callable[[Carrier, Ints], Floats], until: float = math.inf) -> tuple[Floats, bool]:
        """The same to where they were led last, until all are there or come no further; from `until` on (a reading of
        `time.perf_counter`) what follows takes no more steps than that needs, and large islands none."""
        hurried = until < math.inf
        late = [k for k, (carrier, _) in enumerate(self._known) if not hurried or k in self._waiting or not carrier.still]
        late += range(len(self._known), len(self._known) + len(self._coming))
        self._known += [coming.result() for coming in self._coming]
        self._coming.clear()
        self._waiting = []
        for carrier, points in (self._known[k] for k in late):
            goal = places(carrier, points)
            if not (hurried and carrier.large):
                carrier.wait()
            carrier.bring(goal, 6, hurried, until)
        return self._written(uv, late)

    def _written(self, uv: Floats, led: Collection[int]) -> tuple[Floats, bool]:
        """The coordinates with all islands as they now are, of which only some were led since the last time."""
        before, uv = uv, (uv if self._last is None else self._last).copy()
        for k in led:
            carrier = self._known[k][0]
            new, laying = carrier.descent.uv, carrier.laying
            # What does not move keeps its bits.
            uv[laying.chart.corners] = before[laying.chart.corners]
            laying.write(uv, new, (new != laying.uv).any(axis=1))
        self._last = uv
        return uv, any(carrier.share < NEAR and not carrier.waits for carrier, _ in self._known)

    def forget(self) -> None:
        """The gesture is over: what is not begun yet need not be."""
        for coming in self._coming:
            coming.cancel()
        for carrier, _ in self._known:
            carrier.forget()


def carried(
    laying: Laying, ids: Ints, targets: Floats, pins: Floats, steps: int = 2, last: int = 6
) -> tuple[Floats, float]:
    """Points of an island carried to places, the rest following with least stretch: (V', 2) places, and the share of the way
    that was reached before a face would have turned over.

    ids, targets   (K,) points of the chart and (K, 2) where they go;  pins (V',) strengths of other points
    """
    way = float(np.linalg.norm(targets - laying.uv[ids], axis=1).max(initial=0.0))
    if way <= 0:
        return laying.uv.copy(), 1.0
    carrier = Carrier(laying, ids, pins)
    if carrier.bring(targets, steps) == 1.0:
        carrier.descent.run(last, False, 1e-4)
    left = float(np.linalg.norm(targets - carrier.descent.uv[ids], axis=1).max(initial=0.0))
    return carrier.descent.uv, 1.0 - left / way
