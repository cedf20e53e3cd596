"""Islands as they lie on the sheet: outlines, areas, moving them."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from jacket.core.flatten.overlap import face_uv_areas
from jacket.core.mesh.geometry import face_areas
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.seams.cuts import island_labels


@dataclass(frozen=True, eq=False)
class Islands:
    """The islands of a mapped mesh.

    labels   (F,) island of each face;  count
    uv       (C, 2) sheet coordinates, 0..1 over the first sheet; NaN where unmapped
    """

    mesh: PolyMesh
    uv: Floats
    labels: Ints
    count: int

    @staticmethod
    def of(mesh: PolyMesh, uv: Floats | None = None) -> Islands:
        """Islands cut at the seams of a mesh, over its first UV set unless another is given."""
        count, labels = island_labels(mesh)
        used = uv if uv is not None else mesh.uv
        if used is None:
            used = np.full((mesh.n_corners, 2), np.nan)
        return Islands(mesh, used, labels, count)

    @cached_property
    def corner_labels(self) -> Ints:
        """(C,) island of each corner."""
        return self.labels[self.mesh.face_of_corner]

    @cached_property
    def mapped(self) -> Bools:
        """(count,) whether every corner of an island is mapped."""
        bad = ~np.isfinite(self.uv).all(axis=1)
        return np.bincount(self.corner_labels, bad, minlength=self.count) == 0

    @cached_property
    def surface_area(self) -> Floats:
        """(count,) area on the surface."""
        return np.asarray(np.bincount(self.labels, face_areas(self.mesh), minlength=self.count), np.float64)

    @cached_property
    def sheet_area(self) -> Floats:
        """(count,) area on the sheet; 0 for unmapped islands."""
        area = np.nan_to_num(np.abs(face_uv_areas(self.mesh, self.uv)))
        return np.where(self.mapped, np.bincount(self.labels, area, minlength=self.count), 0.0)

    @cached_property
    def border_corners(self) -> NDArray[np.signedinteger]:
        """Half-edges on the outline of an island: seams and borders."""
        topology, labels = self.mesh.topology, self.labels
        cut = topology.edge_flags(self.mesh.mark("seam"))
        twin = topology.twin
        outer = (twin < 0) | cut[topology.edge]
        outer |= labels[self.mesh.face_of_corner[np.maximum(twin, 0)]] != self.corner_labels
        return np.flatnonzero(outer)

    def outline(self, island: int) -> Floats:
        """(S, 2, 2) border segments of an island on the sheet, each in the direction of its face."""
        c = self.border_corners[self.corner_labels[self.border_corners] == island]
        return np.stack([self.uv[c], self.uv[self.mesh.topology.next[c]]], axis=1)

    def boxes(self) -> Floats:
        """(count, 4) low and high corners on the sheet; NaN for unmapped islands."""
        out = np.full((self.count, 4), np.nan)
        good = self.mapped[self.corner_labels]
        labels, uv = self.corner_labels[good], self.uv[good]
        for k in range(2):
            low, high = np.full(self.count, np.inf), np.full(self.count, -np.inf)
            np.minimum.at(low, labels, uv[:, k])
            np.maximum.at(high, labels, uv[:, k])
            out[:, k], out[:, 2 + k] = low, high
        out[~self.mapped] = np.nan
        return out

    def moved(self, island: int, matrix: Floats, shift: Floats) -> Floats:
        """The UVs with one island transformed: uv · matrixᵀ + shift."""
        uv = self.uv.copy()
        here = self.corner_labels == island
        uv[here] = uv[here] @ np.asarray(matrix).T + np.asarray(shift)
        return uv


def density_scales(islands: Islands) -> Floats:
    """(count,) factors that give every mapped island the same texel density: one sheet unit a
    surface unit. 1 for islands without area."""
    with np.errstate(divide="ignore", invalid="ignore"):
        scale = np.sqrt(islands.surface_area / islands.sheet_area)
    return np.where(np.isfinite(scale) & (scale > 0), scale, 1.0)


def texel_densities(islands: Islands, size: int) -> Floats:
    """(F,) pixels a surface unit at each face for a sheet of `size` pixels; NaN where unmapped."""
    flat = np.abs(face_uv_areas(islands.mesh, islands.uv)) * size**2
    real = face_areas(islands.mesh)
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.sqrt(np.where(real > 0, flat / real, np.nan))
