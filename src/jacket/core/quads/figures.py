"""The measures of a jacket against its source."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from jacket.core.mesh.geometry import scaled_jacobian
from jacket.core.mesh.poles import irregular_count
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.walks import euler_characteristic
from jacket.core.rows.measure import patch_count, rings
from jacket.core.source.simplify import navigation_copy
from jacket.core.space.bvh import Bvh
from jacket.core.space.rays import RayTree
from jacket.core.space.sample import gap, seen_gap

SEEN_IN = 250_000
"""Triangles from which on a light copy tells what of a source can be seen."""


@dataclass(frozen=True)
class QuadFigures:
    """Measures of a jacket against its source, as defined in the report's documentation. Gaps in are of what can be seen of the source from outside, `gap_hidden` is how far the rest lies off at most.
    Rings (`core/rows/measure.py`): the
    longest in % of all crossings, quads crossed by their own ring in %; patches of the base complex."""

    quads: int
    not_quads: int
    irregular_percent: float
    nonmanifold_edges: int
    open_edges: int
    euler: int
    jacobian_mean: float
    jacobian_p1: float
    jacobian_least: float
    folded: int
    gap_out_mean: float
    gap_out_largest: float
    gap_in_mean: float
    gap_in_largest: float
    gap_hidden: float
    longest_ring: float
    crossed_by_itself: float
    patches: int

    @property
    def largest_gap(self) -> float:
        """The larger of the two ways between jacket and source."""
        return max(self.gap_out_largest, self.gap_in_largest)

    def as_dict(self) -> dict[str, Any]:
        """Plain values for a JSON report."""
        return asdict(self)


def eyes_on(source: PolyMesh) -> RayTree:
    """The tree by which it is told what of a source can be seen."""
    return RayTree.build(*navigation_copy(source.points, source.triangle_points, SEEN_IN))


def measure_quads(mesh: PolyMesh, source: PolyMesh, surface: Bvh) -> QuadFigures:
    """Every figure of a jacket over a source; gaps are in % of the source's diagonal."""
    topology = mesh.topology
    inner = (topology.valence > 0) & ~topology.border_points
    least = scaled_jacobian(mesh)
    own = Bvh.build(mesh.points, mesh.triangle_points)
    out = gap(mesh.points, mesh.triangle_points, surface, source.diagonal)
    back, hidden = seen_gap(source, own, lambda: eyes_on(source))
    quads, row = int((mesh.sizes == 4).sum()), rings(mesh)
    return QuadFigures(
        quads=quads,
        not_quads=mesh.n_faces - quads,
        irregular_percent=100.0 * irregular_count(mesh) / max(int(inner.sum()), 1),
        nonmanifold_edges=len(topology.nonmanifold_edges),
        open_edges=len(topology.border_edges),
        euler=euler_characteristic(mesh),
        jacobian_mean=float(least.mean()),
        jacobian_p1=float(np.percentile(least, 1)),
        jacobian_least=float(least.min()),
        folded=int((least <= 0).sum()),
        gap_out_mean=out.mean,
        gap_out_largest=out.largest,
        gap_in_mean=back.mean,
        gap_in_largest=back.largest,
        gap_hidden=hidden,
        longest_ring=row.longest,
        crossed_by_itself=row.crossed_by_itself,
        patches=patch_count(mesh),
    )
