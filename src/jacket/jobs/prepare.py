"""Preparing a source: mended, set upright and to size, in an order in which one thing helps the next."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.source import placing
from jacket.core.source.symmetry import find_plane, plane_to_x
from jacket.core.space.bvh import Bvh
from jacket.errors import MeshError
from jacket.jobs.mend import MENDS, MendSettings, mend
from jacket.jobs.ranges import one_of, within
from jacket.progress import Progress, silent


@dataclass(frozen=True)
class PrepareSettings:
    """mends         which of `MENDS`, carried out in the order of that table
    mending       what they are done with
    unit, scale, up, stand_flat, mirror_to_x, ground, centre   how the source is placed, in this order; "" or 0 for not
    """

    mends: frozenset[str] = frozenset()
    mending: MendSettings = field(default_factory=MendSettings)
    unit: str = ""
    scale: float = 0.0
    up: str = ""
    stand_flat: bool = False
    mirror_to_x: bool = False
    ground: bool = False
    centre: bool = False

    def checked(self) -> PrepareSettings:
        """The settings themselves; raises MeshError with a sentence where one makes no sense."""
        unknown = self.mends - set(MENDS)
        if unknown:
            raise MeshError(f"There is no mend {sorted(unknown)[0]}; choose one of {', '.join(MENDS)}.")
        self.mending.checked()
        if self.unit:
            one_of(self.unit, tuple(sorted(placing.UNITS)), "A unit")
        if self.up:
            one_of(self.up, tuple(placing.UP_AXES), "An up axis")
        if self.scale:
            within(self.scale, 1e-9, 1e9, "A scale")
        return self


@dataclass(frozen=True, eq=False)
class Prepared:
    """mesh; what was mended, a sentence each without its full stop; (4, 4) how it was moved."""

    mesh: PolyMesh
    said: tuple[str, ...]
    matrix: NDArray[np.float64]


def prepare(mesh: PolyMesh, settings: PrepareSettings, progress: Progress = silent) -> Prepared:
    """Mend a source, set it upright and to size."""
    settings.checked()
    said = []
    for what in MENDS:
        if what in settings.mends:
            done = mend(what, mesh, settings.mending, progress)
            mesh = done.mesh
            said.append(done.said)
    matrix = np.eye(4)
    for step in _placings(settings, progress):
        move = step(mesh)
        mesh, matrix = placing.placed(mesh, move), move @ matrix
    return Prepared(mesh, tuple(said), matrix)


def _placings(s: PrepareSettings, progress: Progress) -> list[Callable[[PolyMesh], Any]]:
    out: list[Callable[[PolyMesh], Any]] = []
    if s.unit:
        out.append(lambda m: placing.unit_scaling(s.unit))
    if s.scale:
        out.append(lambda m: placing.scaling(s.scale))
    if s.up:
        out.append(lambda m: placing.up_axis_turn(s.up))
    if s.stand_flat:
        out.append(placing.upright_by_flat)
    if s.mirror_to_x:
        out.append(lambda m: plane_to_x(find_plane(m, Bvh.build(m.points, m.triangle_points), progress)))
    if s.ground:
        out.append(placing.standing)
    if s.centre:
        out.append(placing.centring)
    return out
