"""One island as a mesh of its own, with the weighted triangles that measure its stretch."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import kernel
from jacket.core.mesh.connectivity import corner_orbits
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.mesh.walks import euler_characteristic, face_parts
from jacket.core.uv.sets import apart_flags, cut_flags


@dataclass(frozen=True, eq=False)
class Chart:
    """An island cut out of a mesh.

    mesh      its faces over its own points (points on a seam appear once per side)
    corners   (C',) the corner of the whole mesh behind each corner of `mesh`
    faces     (F',) the face of the whole mesh behind each face
    """

    mesh: PolyMesh
    corners: Ints
    faces: Ints

    @cached_property
    def triangles(self) -> Ints:
        """(T, 3) point triangles: both diagonals of each quad, so that neither is preferred."""
        return _both_diagonals(self.mesh.corners, self.mesh.starts)[0]

    @cached_property
    def weights(self) -> Floats:
        """(T,) ½ for the triangles of quads, 1 for others; 0 where a triangle has no area."""
        weights = _both_diagonals(self.mesh.corners, self.mesh.starts)[1]
        return np.where(self.rest[1] > 0, weights, 0.0)

    @cached_property
    def rest(self) -> tuple[Floats, Floats]:
        """(T, 2, 2) inverse edge matrices of the flat rest shapes and (T,) areas.

        The Jacobian of a map u is [u1 − u0, u2 − u0] · inverse. Slivers whose area is below 1e-12
        of their longest edge squared count as having none.
        """
        return _rest_shapes(self.mesh.points, self.triangles)

    @cached_property
    def area(self) -> float:
        """Weighted surface area."""
        return float((self.rest[1] * self.weights).sum())

    @cached_property
    def border(self) -> list[Ints]:
        """Borders as loops of point ids."""
        return [self.mesh.corners[loop] for loop in self.mesh.topology.border_loops]

    @property
    def is_disk(self) -> bool:
        """One border and no handles."""
        return len(self.border) == 1 and euler_characteristic(self.mesh) == 1


def charts_of(mesh: PolyMesh, only: NDArray[np.signedinteger] | None = None) -> list[Chart]:
    """Pieces of a mesh by the cuts of its active UV set; all, or only those of the numbers asked for."""
    return _charts(mesh, cut_flags(mesh), only)


def island_charts(mesh: PolyMesh, uv: Floats) -> list[Chart]:
    """Islands as they lie on the sheet: pieces that coordinates (C, 2) do not hold together are apart."""
    return _charts(mesh, cut_flags(mesh) | apart_flags(mesh, uv), None)


def _charts(mesh: PolyMesh, cut: Bools, only: NDArray[np.signedinteger] | None) -> list[Chart]:
    count, labels = face_parts(mesh, cut)
    wanted = range(count) if only is None else [int(k) for k in only]
    order = np.argsort(labels, kind="stable")
    bounds = np.searchsorted(labels[order], np.arange(count + 1))
    return [chart_of(mesh, order[bounds[k] : bounds[k + 1]], cut) for k in wanted]


def chart_of(mesh: PolyMesh, faces: NDArray[np.signedinteger], cut: Bools) -> Chart:
    """The faces (F',) as a chart, with seams inside it opened; `cut` flags (E,) edges."""
    faces = np.sort(np.asarray(faces))
    sizes = mesh.sizes[faces]
    starts = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int32)
    corners = (np.repeat(mesh.starts[faces] - starts[:-1], sizes) + np.arange(starts[-1])).astype(np.int32)
    local = np.full(mesh.n_corners + 1, -1, np.int32)
    local[corners] = np.arange(len(corners))
    topology = mesh.topology
    twin = np.where(cut[topology.edge[corners]] | (topology.twin[corners] < 0), -1, local[topology.twin[corners]])
    following, preceding = local[topology.next[corners]], local[topology.prev[corners]]
    points, origin = corner_orbits(following, preceding, twin.astype(np.int32), mesh.corners[corners])
    return Chart(PolyMesh(mesh.points[origin], points, starts), corners, faces.astype(np.int32))


def placed(chart: Chart, start: Floats | None) -> Floats | None:
    """(V', 2) places of a chart's points by those of the whole mesh's corners (C, 2); None where some are not known or differ
    at one point."""
    if start is None:
        return None
    corner = start[chart.corners]
    if not np.isfinite(corner).all():
        return None
    uv = np.empty((chart.mesh.n_points, 2))
    uv[chart.mesh.corners] = corner
    slack = 1e-12 * max(float(np.abs(corner).max(initial=0.0)), 1e-300)
    return uv if np.abs(uv[chart.mesh.corners] - corner).max(initial=0.0) <= slack else None


@kernel
def _both_diagonals(corners, starts):
    total = 0
    for f in range(len(starts) - 1):
        n = starts[f + 1] - starts[f]
        total += 4 if n == 4 else n - 2
    tri = np.empty((total, 3), np.int32)
    weight = np.ones(total)
    t = 0
    for f in range(len(starts) - 1):
        a, n = starts[f], starts[f + 1] - starts[f]
        if n == 4:
            for k in range(4):
                tri[t, 0] = corners[a + k]
                tri[t, 1] = corners[a + (k + 1) % 4]
                tri[t, 2] = corners[a + (k + 2) % 4]
                weight[t] = 0.5
                t += 1
        else:
            for k in range(1, n - 1):
                tri[t, 0], tri[t, 1], tri[t, 2] = corners[a], corners[a + k], corners[a + k + 1]
                t += 1
    return tri, weight


@kernel
def _rest_shapes(points, tri):
    n = len(tri)
    inverse = np.zeros((n, 2, 2))
    area = np.zeros(n)
    for t in range(n):
        a, b, c = tri[t, 0], tri[t, 1], tri[t, 2]
        ux, uy, uz = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
        vx, vy, vz = points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2]
        uu = ux * ux + uy * uy + uz * uz
        uv = ux * vx + uy * vy + uz * vz
        vv = vx * vx + vy * vy + vz * vz
        double = np.sqrt(max(uu * vv - uv * uv, 0.0))
        if double <= 2e-12 * max(uu, vv) or uu == 0.0:
            continue
        x1 = np.sqrt(uu)
        x2, y2 = uv / x1, double / x1
        # Inverse of [[x1, x2], [0, y2]].
        inverse[t, 0, 0] = 1.0 / x1
        inverse[t, 0, 1] = -x2 / (x1 * y2)
        inverse[t, 1, 1] = 1.0 / y2
        area[t] = 0.5 * double
    return inverse, area
