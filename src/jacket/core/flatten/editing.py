"""Islands changed where they lie: an island by itself, less stretch in a part of it, never a flip.

Everything works on one island at a time in the surface's own scale; corners that do not move keep their bits.
"""

from __future__ import annotations

import math
import time
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from jacket.core.flatten.descent import Descent, Held
from jacket.core.flatten.starts import scaled_to_area, signed_areas
from jacket.core.mesh.polymesh import PIN, Bools, Floats, Ints, PolyMesh
from jacket.core.uv.chart import Chart, chart_of
from jacket.core.uv.islands import Islands
from jacket.core.uv.sheets import from_pixel_places, pixel_places
from jacket.errors import EditRefused

STIFF = 30.0
"""How strongly a half-strength pin draws, against the stretch of the whole island."""


@dataclass(frozen=True, eq=False)
class Laying:
    """An island as it lies: its chart and (V', 2) places of the chart's points in the surface's scale, never mirrored.

    scale, mirror   pixels a unit of those places; −1 where the island lies mirrored on the sheet
    """

    islands: Islands
    island: int
    chart: Chart
    uv: Floats
    scale: float
    mirror: float

    @staticmethod
    def of(mesh: PolyMesh, islands: Islands, island: int, sound: bool = True, faces: Ints | None = None, scale: float = 0.0) -> Laying:
        """An island of a mesh, or only some of its `faces`; raises EditRefused where it is not mapped, has no area or, unless it
        need not be `sound`, flipped faces. A `scale` that is known already saves looking at the whole island."""
        if scale <= 0:
            if not islands.mapped[island] or islands.pixel_area[island] <= 0:
                raise EditRefused("This island lies nowhere yet; flatten it first.")
            scale = float(np.sqrt(islands.pixel_area[island] / max(float(islands.surface_area[island]), 1e-300)))
        chart = chart_of(mesh, islands.faces(island) if faces is None else faces, islands.borders)
        places = np.empty((chart.mesh.n_points, 2))
        which = np.full(len(chart.corners), max(int(islands.sheet_of[island]), 0))
        places[chart.mesh.corners] = pixel_places(islands.uv[chart.corners], which, islands.sheets)
        areas = signed_areas(places, chart.triangles)
        mirror = 1.0 if float(areas.sum()) >= 0 else -1.0
        uv = places / scale * [mirror, 1.0]
        if sound and ((areas * mirror <= 0) & (chart.weights > 0)).any():
            raise EditRefused("This island has flipped faces; flatten it first, then it can be refined.")
        return Laying(islands, island, chart, uv, scale, mirror)

    def put(self, uv: Floats, new: Floats, moved: Bools) -> Floats:
        """The coordinates `uv` (C, 2) of the mesh with the points flagged in `moved` (V',) at new places."""
        out = uv.copy()
        self.write(out, new, moved)
        return out

    def write(self, uv: Floats, new: Floats, moved: Bools) -> None:
        """The same into the coordinates given."""
        own = np.flatnonzero(moved[self.chart.mesh.corners])
        places = new[self.chart.mesh.corners[own]] * [self.mirror * self.scale, self.scale]
        which = np.full(len(places), max(int(self.islands.sheet_of[self.island]), 0))
        uv[self.chart.corners[own]] = from_pixel_places(places, which, self.islands.sheets)

    def points_of(self, mesh: PolyMesh, points: Bools) -> Bools:
        """(V',) points of the chart that are flagged points (V,) of the mesh."""
        at = np.empty(self.chart.mesh.n_points, np.int64)
        at[self.chart.mesh.corners] = mesh.corners[self.chart.corners]
        return np.asarray(points[at])

    def pins(self, mesh: PolyMesh) -> Floats:
        """(V',) strength by which points are pinned, 0 to 1."""
        pins = mesh.corner_data.get(PIN + mesh.active_uv)
        out = np.zeros(self.chart.mesh.n_points)
        if pins is not None:
            np.maximum.at(out, self.chart.mesh.corners, np.asarray(pins, np.float64)[self.chart.corners])
        return out


def held_by(laying: Laying, pins: Floats, fixed: Bools) -> Held:
    """Points that are fixed or fully pinned stand, those that are pinned by less are drawn to where they lie."""
    soft = (pins > 0) & (pins < 1)
    pull = np.where(soft, STIFF * pins / np.maximum(1 - pins, 1e-3), 0.0) if soft.any() else None
    return Held(fixed | (pins >= 1), pull, laying.uv if pull is not None else None)


def refined(
    mesh: PolyMesh, islands: Islands, faces: Bools, steps: int = 12, balance: float = 0.5, scales: dict[int, float] | None = None,
) -> Floats:  # fmt: skip
    """The coordinates (C, 2) with less stretch in the faces flagged in `faces` (F,); what lies outside them, and points that
    are fully pinned, keep their bits. `balance` as for `Descent`; `scales` keeps those of islands between
    dabs of one stroke. Raises EditRefused as `Laying.of` does."""
    labels = np.unique(islands.labels[np.flatnonzero(faces)]).tolist()
    return refined_in_turns(mesh, islands, faces, labels, steps, balance, scales)[0]


def refined_in_turns(
    mesh: PolyMesh, islands: Islands, faces: Bools, labels: Sequence[int], steps: int, balance: float = 0.5,
    scales: dict[int, float] | None = None, until: float = math.inf,
) -> tuple[Floats, list[int]]:  # fmt: skip
    """As `refined`, island by island as numbered in `labels`, none but the first begun past `until` (a reading of
    `time.perf_counter`), and no second step; and the islands that are left for another time."""
    uv, topology = islands.uv, mesh.topology
    ids, left = np.flatnonzero(faces), list(labels)
    while left:
        if len(left) < len(labels) and time.perf_counter() > until:
            break
        island = left.pop(0)
        # Only the faces that may change are looked at: what stands still costs nothing.
        known = scales.get(island, 0.0) if scales is not None else 0.0
        laying = Laying.of(mesh, islands, island, faces=ids[islands.labels[ids] == island], scale=known)
        if scales is not None:
            scales[island] = laying.scale
        chart, outside = laying.chart, np.zeros(laying.chart.mesh.n_points, bool)
        twin = topology.twin[chart.corners]
        leads_out = (twin >= 0) & ~islands.borders[topology.edge[chart.corners]] & ~faces[mesh.face_of_corner[twin]]
        # Round a point faces follow each other across edges: who also touches another face is an end of such an edge.
        outside[chart.mesh.corners[leads_out]] = outside[chart.mesh.corners[chart.mesh.topology.next[leads_out]]] = True
        held = held_by(laying, laying.pins(mesh), outside)
        if held.fixed.all():
            continue
        descent = Descent(chart, laying.uv, held, balance)
        descent.run(steps, False, 1e-4, until)
        uv = laying.put(uv, descent.uv, ~held.fixed)
    return uv, left


def only(chart: Chart, moving: Bools) -> tuple[Chart, Ints]:
    """A chart of the triangles at moving points alone, and (P,) which points of the whole it has: what stands still costs
    nothing to look at."""
    touched = moving[chart.triangles].any(axis=1)
    used, tri = np.unique(chart.triangles[touched], return_inverse=True)
    tri = tri.reshape(-1, 3).astype(np.int32)
    new = Chart(PolyMesh.from_faces(chart.mesh.points[used], tri), chart.corners[:0], chart.faces[:0])
    new.__dict__.update(triangles=tri, weights=chart.weights[touched], rest=(chart.rest[0][touched], chart.rest[1][touched]))
    return new, used


def stretch_of(chart: Chart, uv: Floats) -> float:
    """Mean symmetric Dirichlet energy of a flat island at equal area."""
    return Descent(chart, scaled_to_area(chart, uv)).energy
