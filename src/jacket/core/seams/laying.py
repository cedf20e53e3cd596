"""Trying whether a set of faces opens: laid flat for some steps and judged."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jacket.core.flatten.descent import TOLERANCE, Descent, flips
from jacket.core.flatten.overlap import border_crosses
from jacket.core.flatten.starts import signed_areas
from jacket.core.flatten.stretch import singular_values
from jacket.core.flatten.unwrap import as_it_lies, flat_start
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.space.enclosing import Enclosing
from jacket.core.uv.chart import Chart, chart_of, placed
from jacket.errors import JacketError

QUICK = 12
"""Steps after which an island is judged for the first time."""
STRIP = 4.0
"""Times its mean width from which on the longer side of its smallest box makes an island a strip."""
SLENDER = 1.27
"""Its own lengths of sheet that a strip takes where it is not alone: what lies beside it is as long. Wider islands take less, by the root
of their width."""


@dataclass(frozen=True, eq=False)
class Laid:
    """An island laid flat.

    uv        (V', 2) places of the chart's points
    energy    mean symmetric Dirichlet energy, 1 is perfect;  p99 its 99th percentile over triangles
    solidity  share of its convex hull that it fills
    area      how large it lies
    strip     how long it is where it is a strip, 0 where it is none
    span      side of a sheet that it takes: its smallest square, more where it is slender
    crosses   whether its border crosses itself
    """

    chart: Chart
    uv: Floats
    energy: float
    p99: float
    solidity: float
    area: float
    strip: float
    span: float
    crosses: bool

    def corner_uv(self) -> Floats:
        """(C', 2) places of the chart's corners."""
        return self.uv[self.chart.mesh.corners]

    def face_excess(self) -> Floats:
        """(F',) energy over 1 of each face, times its area."""
        energy = triangle_energy(self.chart, self.uv)
        weight = np.where(np.isfinite(energy), self.chart.rest[1] * self.chart.weights * (energy - 1), 0.0)
        sizes = self.chart.mesh.sizes
        owner = np.repeat(np.arange(len(sizes)), np.where(sizes == 4, 4, sizes - 2))
        return np.asarray(np.bincount(owner, weight, len(sizes)), np.float64)


def triangle_energy(chart: Chart, uv: Floats) -> Floats:
    """(T,) symmetric Dirichlet energy of each triangle of a chart; NaN where it has no area."""
    s1, s2 = singular_values(chart, uv).T
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.asarray((s1**2 + s2**2 + s1**-2 + s2**-2) / 4, np.float64)


def lay(mesh: PolyMesh, faces: Ints, cut: Bools, steps: int = QUICK, start: Floats | None = None) -> Laid | None:
    """The faces laid flat with the edges flagged in `cut` (E,) open; None where they are no disk or do not open. What lies in a
    plane already may have holes.

    start   (C, 2) places of the mesh's corners to go on from where they lie without flips, NaN elsewhere
    """
    chart = chart_of(mesh, faces, cut)
    lying = as_it_lies(chart) if chart.border else None
    if lying is not None:
        return Laid(chart, lying, 1.0, 1.0, *_filling(chart, lying), border_crosses(chart, lying))
    if not chart.is_disk:
        return None
    try:
        known = placed(chart, start)
        uv, bad = (known, False) if known is not None and flips(chart, known) == 0 else flat_start(chart)
        descent = Descent(chart, uv)
        descent.run(steps, bad, 1e-3 if steps <= QUICK else TOLERANCE)
    except JacketError:
        return None
    if not np.isfinite(descent.energy):
        return None
    energy = triangle_energy(chart, descent.uv)
    good = energy[np.isfinite(energy)]
    return Laid(
        chart, descent.uv, float(descent.energy), float(np.percentile(good, 99)) if len(good) else 1.0,
        *_filling(chart, descent.uv), border_crosses(chart, descent.uv),
    )  # fmt: skip


def solidity(chart: Chart, uv: Floats) -> float:
    """Share of its convex hull that a flat island fills; 0 where it has none."""
    return _filling(chart, uv)[0]


def _filling(chart: Chart, uv: Floats) -> tuple[float, float, float, float]:
    """Share of its convex hull that a flat island fills, 0 where it has none, its area, its length as a strip and its span."""
    around = Enclosing.of(uv)
    area = float((np.abs(signed_areas(uv, chart.triangles)) * chart.weights).sum())
    slender = around.long**2 / max(STRIP * area, 1e-300)
    span = max(around.square, SLENDER * around.long * min(float(np.sqrt(slender)), 1.0))
    return (area / around.hull if around.hull > 0 else 0.0), area, (around.long if slender >= 1 else 0.0), span
