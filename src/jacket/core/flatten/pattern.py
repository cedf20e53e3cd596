"""What all steps over one island share: its triangles with area, where their derivatives go in a matrix, and how that is factored."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any
from weakref import WeakKeyDictionary

import numpy as np
from scipy import sparse

from jacket.core.flatten.energies import assembled, hessian_pattern
from jacket.core.mesh.polymesh import Floats, Ints
from jacket.core.solve.cholesky import LARGE
from jacket.core.solve.plan import Plan, planned
from jacket.core.uv.chart import Chart


@dataclass(frozen=True, eq=False)
class Pattern:
    """tri (T, 3), inverse (T, 2, 2) and area (T,), shares of the whole, of the triangles that have area; n_points."""

    tri: Ints
    inverse: Floats
    area: Floats
    n_points: int

    @cached_property
    def entries(self) -> tuple[Ints, Ints, Ints]:
        """Where columns begin, rows and slots, as `hessian_pattern` gives them."""
        starts, rows, slots = hessian_pattern(self.tri, self.n_points)
        return starts, rows, slots

    @property
    def diagonal(self) -> Ints:
        """(2V,) where the diagonal lies among the values."""
        return self.entries[0][1:] - 1

    def values(self, parts: Floats) -> Floats:
        """Values of the upper half of the matrix whose parts (T, 6, 6) by triangle are given."""
        return np.asarray(assembled(self.entries[2], parts, len(self.entries[1])))

    def matrix(self, values: Floats) -> Any:
        """The upper half of a matrix (2V, 2V) with values in this pattern."""
        starts, rows, _ = self.entries
        return sparse.csc_matrix((values, rows, starts), shape=(2 * self.n_points, 2 * self.n_points))

    @cached_property
    def plan(self) -> Plan | None:
        """How such matrices are factored, None where they are too small for a plan."""
        if 2 * self.n_points < LARGE:
            return None
        return planned(self.matrix(np.ones(len(self.entries[1]))), 2)


def pattern_of(chart: Chart) -> Pattern:
    """The pattern of an island, made once."""
    known = _PATTERNS.get(chart)
    if known is None:
        used = chart.weights > 0
        tri, inverse = np.ascontiguousarray(chart.triangles[used]), np.ascontiguousarray(chart.rest[0][used])
        area = np.ascontiguousarray((chart.rest[1] * chart.weights)[used] / max(chart.area, 1e-300))
        known = _PATTERNS[chart] = Pattern(tri, inverse, area, chart.mesh.n_points)
    return known


_PATTERNS: WeakKeyDictionary[Chart, Pattern] = WeakKeyDictionary()
