"""What brushes share: a round brush over the points that the pointer can see, its weights, its mirror."""

from __future__ import annotations

from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from jacket.core.derive import surface_of
from jacket.core.fit.lifted import lifted_points
from jacket.core.fit.shift import FALLOFFS, falloff
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.mesh.walks import flood
from jacket.tools.base import Option, Tool
from jacket.tools.events import NO_GHOST, Ghost, Pointer
from jacket.tools.mirror import on_plane, partners, reflected
from jacket.tools.pick import occluder, screen_points, slack_for, visible
from jacket.tools.view import FormCamera


class Brush(Tool):
    """A round brush over the points of the jacket that the pointer can see."""

    stage = "topology"
    brush = True
    what = ""
    options: ClassVar[tuple[Option, ...]] = (
        Option("falloff", "Falls off", "choice", choices=tuple((f, f) for f in FALLOFFS)),
        Option(
            "which",
            "Moves",
            "choice",
            choices=(("all", "all points"), ("inside", "inner points"), ("border", "border points")),
        ),
        Option("connected", "Only what hangs together", "switch"),
    )

    def __init__(self, *arguments) -> None:
        super().__init__(*arguments)
        self.last: Pointer | None = None
        self._looked: tuple[FormCamera, NDArray[np.int8]] | None = None

    @property
    def busy(self) -> bool:
        return self.last is not None

    def hover(self, pointer: Pointer) -> None:
        if pointer.form is None:
            self.ghost = NO_GHOST
            return
        self.ghost = Ghost(circle=self.settings.brush, what=self.what, how="drag")

    def press(self, pointer: Pointer) -> None:
        self.document.open_jacket()
        self.document.begin(f"{self.label.lower()} points")
        self.last, self._looked = pointer, None
        self.dab(pointer, pointer)

    def move(self, pointer: Pointer) -> None:
        if self.last is not None:
            self.dab(self.last, pointer)
            self.last = pointer
            self.ghost = Ghost(circle=self.settings.brush, what=self.what, how="let go")

    def release(self, pointer: Pointer) -> None:
        self.last = None
        self.document.commit()
        self.hover(pointer)

    def cancel(self) -> bool:
        had, self.last = self.busy, None
        super().cancel()
        return had

    def dab(self, before: Pointer, pointer: Pointer) -> None:
        """One touch of the brush."""

    def weights(self, mesh: PolyMesh, pointer: Pointer) -> Floats:
        """(V,) 0..1 by distance from the pointer, only over what it sees and, unless told otherwise, what hangs
        together. A pen's pressure narrows the brush."""
        weight = np.zeros(mesh.n_points)
        if pointer.form is None or mesh.n_points == 0:
            return weight
        at = screen_points(mesh, pointer.form)
        radius = self.settings.brush * max(pointer.pressure, 0.2)
        far = np.hypot(at[:, 0] - pointer.x, at[:, 1] - pointer.y)
        ids = self._seen(mesh, pointer.form, np.flatnonzero(far < radius))
        if self.settings.connected:
            ids = _hanging_together(mesh, ids, far)
        weight[ids] = falloff(far[ids] / radius, self.settings.falloff)
        weight[self.staying(mesh)] = 0.0
        return weight

    def _seen(self, mesh: PolyMesh, camera: FormCamera, ids: Ints) -> Ints:
        """Those of the points that the source does not hide. During a drag each is looked at once."""
        if self._looked is None or self._looked[0] is not camera or len(self._looked[1]) != mesh.n_points:
            self._looked = (camera, np.full(mesh.n_points, -1, np.int8))
        known = self._looked[1]
        fresh = ids[known[ids] < 0]
        hiding = occluder(self.document.state)
        known[fresh] = visible(camera, mesh.points[fresh], hiding, slack_for(mesh, hiding))
        return ids[known[ids] == 1]

    def staying(self, mesh: PolyMesh) -> Bools:
        """(V,) points that brushes leave alone: lifted and held ones, loose ones, and by choice border or inner."""
        stay = (np.bincount(mesh.corners, minlength=mesh.n_points) == 0) | lifted_points(mesh)
        if self.settings.which == "inside":
            stay |= mesh.topology.border_points
        elif self.settings.which == "border":
            stay |= ~mesh.topology.border_points
        for held in self.document.state.held.parts:
            if held.kind == "points":
                stay[held.ids] = True
        return stay

    def mirrored(self, mesh: PolyMesh, points: Floats, weight: Floats) -> Floats:
        """Moved points with those beyond the mirror moved alike and those on it kept on it."""
        axis = self.document.state.mirror
        if not axis:
            return points
        table = partners(mesh, axis)
        ids = np.flatnonzero(weight > 0)
        on = ids[table[ids] == ids]
        source = self.document.state.source
        for _ in range(3):
            points[on] = on_plane(points[on], axis)
            if source is not None and len(on):
                points[on] = on_plane(surface_of(source.mesh).project(points[on]), axis)
        away = ids[(table[ids] >= 0) & (table[ids] != ids)]
        # Where both of a pair are under the brush the nearer one leads.
        away = away[
            (weight[away] > weight[table[away]]) | ((weight[away] == weight[table[away]]) & (away < table[away]))
        ]
        points[table[away]] = reflected(points[away], axis)
        return points


def _hanging_together(mesh: PolyMesh, ids: Ints, far: Floats) -> Ints:
    """Those of the points that edges join to the nearest one without leaving the set."""
    if len(ids) == 0:
        return ids
    start, around = mesh.topology.point_edges
    inside = np.zeros(mesh.n_points, bool)
    inside[ids] = True
    reached = flood(start, around, mesh.topology.edge_points, inside, int(ids[np.argmin(far[ids])]))
    return ids[reached[ids]]
