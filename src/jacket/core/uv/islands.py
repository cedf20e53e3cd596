"""Islands as they lie on their sheets: outlines, areas, boxes, moving them."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import kernel
from jacket.core.mesh.geometry import face_areas
from jacket.core.mesh.polymesh import UV, Bools, Floats, Ints, PolyMesh
from jacket.core.mesh.tables import finite_rows
from jacket.core.mesh.walks import face_parts
from jacket.core.uv.areas import face_uv_areas
from jacket.core.uv.sets import apart_flags, cut_flags
from jacket.core.uv.sheets import ONE_SHEET, Sheets, pixel_places, sheet_at


@dataclass(frozen=True, eq=False)
class Islands:
    """The islands of one UV set: faces joined across edges that are neither cut nor apart on the sheet.

    uv       (C, 2) coordinates, NaN where unmapped
    borders  (E,) edges at which islands end
    labels   (F,) island of each face;  count
    sheets   what they lie on
    """

    mesh: PolyMesh
    uv: Floats
    borders: Bools
    labels: Ints
    count: int
    sheets: Sheets = ONE_SHEET

    @staticmethod
    def of(mesh: PolyMesh, sheets: Sheets = ONE_SHEET, name: str = "") -> Islands:
        """Islands of a UV set of a mesh, the active one unless named."""
        uv = mesh.corner_data.get(UV + (name or mesh.active_uv))
        borders = cut_flags(mesh, name) | apart_flags(mesh, uv)
        count, labels = face_parts(mesh, borders)
        used = uv if uv is not None else np.full((mesh.n_corners, 2), np.nan)
        return Islands(mesh, used, borders, labels, count, sheets)

    def with_uv(self, uv: Floats) -> Islands:
        """The same islands with coordinates elsewhere."""
        new = Islands(self.mesh, uv, self.borders, self.labels, self.count, self.sheets)
        for name in ("corner_labels", "surface_area", "border_corners", "_by_island"):
            if name in self.__dict__:
                new.__dict__[name] = self.__dict__[name]
        return new

    @cached_property
    def corner_labels(self) -> Ints:
        """(C,) island of each corner."""
        return self.labels[self.mesh.face_of_corner]

    @cached_property
    def mapped(self) -> Bools:
        """(count,) whether every corner of an island is mapped."""
        bad = ~finite_rows(self.uv)
        return np.bincount(self.corner_labels, bad, minlength=self.count) == 0

    @cached_property
    def sheet_of(self) -> Ints:
        """(count,) index of the sheet that the middle of each island lies on, −1 for none."""
        boxes = self.boxes
        return sheet_at(self.sheets, (boxes[:, :2] + boxes[:, 2:]) / 2)

    @cached_property
    def places(self) -> Floats:
        """(C, 2) pixel places of corners: true to shape on sheets of any size."""
        return pixel_places(self.uv, self.sheet_of[self.corner_labels], self.sheets)

    @cached_property
    def surface_area(self) -> Floats:
        """(count,) area on the surface."""
        return np.asarray(np.bincount(self.labels, face_areas(self.mesh), minlength=self.count), np.float64)

    @cached_property
    def pixel_area(self) -> Floats:
        """(count,) square pixels covered; 0 for unmapped islands."""
        area = np.nan_to_num(np.abs(face_uv_areas(self.mesh, self.places)))
        return np.where(self.mapped, np.bincount(self.labels, area, minlength=self.count), 0.0)

    def use(self, sheet: int | None = None) -> float:
        """Share of a sheet that islands cover, of all sheets together where none is named."""
        if sheet is not None:
            return float(self.pixel_area[self.sheet_of == sheet].sum()) / self.sheets[sheet].area
        return float(self.pixel_area[self.sheet_of >= 0].sum()) / sum(s.area for s in self.sheets)

    @cached_property
    def border_corners(self) -> NDArray[np.signedinteger]:
        """Half-edges on the outline of an island: cut, apart on the sheet, or at the border of the mesh."""
        topology = self.mesh.topology
        return np.flatnonzero((topology.twin < 0) | self.borders[topology.edge])

    @cached_property
    def _by_island(self) -> tuple[NDArray[np.signedinteger], NDArray[np.signedinteger]]:
        """Border half-edges in the order of their islands, and where each island's begin."""
        c = self.border_corners
        label = self.corner_labels[c]
        order = np.argsort(label, kind="stable")
        return c[order], np.searchsorted(label[order], np.arange(self.count + 1))

    def outline_corners(self, island: int) -> NDArray[np.signedinteger]:
        """Half-edges on the outline of one island."""
        corners, first = self._by_island
        return corners[first[island] : first[island + 1]]

    def outline(self, island: int) -> Floats:
        """(S, 2, 2) border segments of an island in UV coordinates, each in the direction of its face."""
        c = self.outline_corners(island)
        return np.stack([self.uv[c], self.uv[self.mesh.topology.next[c]]], axis=1)

    def pixel_outline(self, island: int) -> Floats:
        """(S, 2, 2) border segments of an island in pixel places."""
        c = self.outline_corners(island)
        return np.stack([self.places[c], self.places[self.mesh.topology.next[c]]], axis=1)

    @cached_property
    def boxes(self) -> Floats:
        """(count, 4) low and high corners in UV coordinates; NaN for unmapped islands."""
        return self._boxes(self.uv)

    @cached_property
    def pixel_boxes(self) -> Floats:
        """(count, 4) low and high corners in pixel places; NaN for unmapped islands."""
        return self._boxes(self.places)

    @cached_property
    def name_places(self) -> Floats:
        """(count, 2) UV coordinates at which a name stands on each island: the middle of the face nearest to its box's."""
        return np.asarray(_name_places(self.uv, self.mesh.starts, self.labels, self.boxes))

    def _boxes(self, at: Floats) -> Floats:
        out = _boxes(self.corner_labels, at, self.count)
        out[~self.mapped] = np.nan
        return out

    def faces(self, island: int) -> Ints:
        """Faces of one island."""
        return np.flatnonzero(self.labels == island).astype(np.int32)

    def moved(self, island: int, matrix: Floats, shift: Floats) -> Floats:
        """The UVs with one island transformed: uv · matrixᵀ + shift."""
        uv = self.uv.copy()
        here = self.corner_labels == island
        uv[here] = uv[here] @ np.asarray(matrix).T + np.asarray(shift)
        return uv


@kernel
def _boxes(labels, at, count):
    out = np.empty((count, 4))
    out[:, :2] = np.inf
    out[:, 2:] = -np.inf
    for c in range(len(labels)):
        i = labels[c]
        for k in range(2):
            out[i, k] = min(out[i, k], at[c, k])
            out[i, 2 + k] = max(out[i, 2 + k], at[c, k])
    return out


def density_scales(islands: Islands) -> Floats:
    """(count,) factors that give every mapped island the same texel density: one pixel a surface unit. 1 for islands
    without area."""
    with np.errstate(divide="ignore", invalid="ignore"):
        scale = np.sqrt(islands.surface_area / islands.pixel_area)
    return np.where(np.isfinite(scale) & (scale > 0), scale, 1.0)


def texel_densities(islands: Islands) -> Floats:
    """(F,) pixels a surface unit at each face; NaN where unmapped."""
    flat = np.abs(face_uv_areas(islands.mesh, islands.places))
    real = face_areas(islands.mesh)
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.sqrt(np.where(real > 0, flat / real, np.nan))


def evened_density(islands: Islands, weigh: Floats | None = None) -> Floats:
    """(C, 2) UVs with every mapped island at one texel density about its own middle, or at `weigh` (count,) times it; all
    together cover what they did."""
    weigh = weigh if weigh is not None else np.ones(islands.count)
    scales, mapped = density_scales(islands) * weigh, islands.mapped
    wanted = np.where(mapped, islands.surface_area * weigh**2, 0.0)
    total = float(np.sqrt(islands.pixel_area.sum() / max(wanted.sum(), 1e-300)))
    middle = (islands.boxes[:, :2] + islands.boxes[:, 2:]) / 2
    label = islands.corner_labels
    factor = (scales * total)[label][:, None]
    return np.where(mapped[label][:, None], (islands.uv - middle[label]) * factor + middle[label], islands.uv)


@kernel
def _name_places(uv, starts, labels, boxes):
    out = np.empty((len(boxes), 2))
    for i in range(len(boxes)):
        out[i, 0], out[i, 1] = (boxes[i, 0] + boxes[i, 2]) / 2, (boxes[i, 1] + boxes[i, 3]) / 2
    aim, near = out.copy(), np.full(len(boxes), np.inf)
    for f in range(len(labels)):
        i, x, y = labels[f], 0.0, 0.0
        for c in range(starts[f], starts[f + 1]):
            x += uv[c, 0]
            y += uv[c, 1]
        n = max(starts[f + 1] - starts[f], 1)
        far = np.hypot(x / n - aim[i, 0], y / n - aim[i, 1])
        if far < near[i]:
            near[i], out[i, 0], out[i, 1] = far, x / n, y / n
    return out
