"""Fitting jackets to a newer version of their source."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from jacket.core.fit.refit import Refit, marked
from jacket.core.fit.refit import refit as refitted
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.space.bvh import Bvh
from jacket.progress import Progress, part, silent


@dataclass(frozen=True, eq=False)
class Refitted:
    """Jackets by their id with how far they moved marked on them, and what the fitting said of each."""

    jackets: dict[int, PolyMesh]
    results: dict[int, Refit]

    @property
    def poor(self) -> int:
        """Points that are refitted badly."""
        return sum(len(r.poor) for r in self.results.values())


def refit_all(
    jackets: Mapping[int, PolyMesh], new: PolyMesh, surface: Bvh, old: Bvh | None = None, progress: Progress = silent
) -> Refitted:
    """Fit jackets to a new source mesh, the hierarchy over it given. Empty jackets are passed over; with the hierarchy of
    the `old` source what was lifted on purpose stays so."""
    results = {}
    wanted = {key: mesh for key, mesh in jackets.items() if mesh.n_faces}
    for k, (key, mesh) in enumerate(wanted.items()):
        results[key] = refitted(mesh, surface, new.diagonal, old, part(progress, k / len(wanted), (k + 1) / len(wanted)))
    return Refitted({key: marked(r) for key, r in results.items()}, results)
