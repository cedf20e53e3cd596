"""The immutable polygon mesh that every part of Jacket passes around."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.mesh.connectivity import Connectivity, build_connectivity, fan_triangles
from jacket.core.mesh.materials import Material
from jacket.core.mesh.tables import bounds, finite_rows
from jacket.errors import MeshError

Floats = NDArray[np.float64]
Ints = NDArray[np.signedinteger]
Bools = NDArray[np.bool_]


def frozen(array: NDArray[Any]) -> NDArray[Any]:
    """The array itself, made read-only."""
    array.flags.writeable = False
    return array


def _whole(values: Any) -> NDArray[Any]:
    """Integers as they come; anything else as 64-bit ones."""
    array = np.ascontiguousarray(values)
    return array if array.dtype.kind in "iu" else array.astype(np.int64)


NO_PAIRS: Ints = frozen(np.zeros((0, 2), np.int32))
"""What a mesh without marked edges says: always the same array, so that results kept for it are found again."""

UV, CUT, PIN, ISLAND = "uv:", "cut:", "pin:", "island:"
"""Channels of a UV set, before its name: coordinates of corners, cut edges, pins of corners, islands of faces."""

FIRST_SET = "uv"
"""The name of a UV set that nobody has named."""


def sorted_pairs(pairs: NDArray[Any]) -> Ints:
    """Edges as unique rows (a < b), in lexicographic order; (E, 2)."""
    pairs = np.asarray(pairs, np.int32).reshape(-1, 2)
    pairs = np.sort(pairs, axis=1)
    pairs = pairs[pairs[:, 0] != pairs[:, 1]]
    if len(pairs) == 0:
        return NO_PAIRS
    # As one number each: sorting rows takes ten times as long.
    keys = np.unique((pairs[:, 0].astype(np.int64) << 32) + pairs[:, 1])
    first = (keys + (1 << 31)) >> 32
    return frozen(np.stack([first, keys - (first << 32)], axis=1).astype(np.int32))


class Aspect:
    """Stands for one aspect of a mesh, such as its points, in all meshes that share it."""

    __slots__ = ("__weakref__",)


FARTHEST = 1e60
"""Coordinates of a mesh stay within this, so that the squares of its areas are numbers still."""


@dataclass(frozen=True, eq=False, repr=False)
class PolyMesh:
    """Polygons over points.

    points    (V, 3) float64
    corners   (C,) int32, the point of each face corner, faces one after another
    starts    (F + 1,) int32, where each face begins in `corners`
    point_data, face_data, corner_data   named channels over points, faces and corners (see channels.py): "colour"
              (V, 4) uint8, "material" and "group" (F,) int32 into `materials` and `groups`, −1 for none
    marks     named channels of edges: sets of marked ones ("sharp"), each (E, 2) int32 sorted point pairs
    uv_sets, active_uv   names of the UV sets in order, and the one that is worked on; their coordinates, cuts, pins
              and islands are channels (core/uv/sets.py)
    """

    points: Floats
    corners: Ints
    starts: Ints
    point_data: Mapping[str, NDArray[Any]] = field(default_factory=dict)
    face_data: Mapping[str, NDArray[Any]] = field(default_factory=dict)
    corner_data: Mapping[str, NDArray[Any]] = field(default_factory=dict)
    marks: Mapping[str, Ints] = field(default_factory=dict)
    uv_sets: tuple[str, ...] = ()
    active_uv: str = ""
    materials: tuple[Material, ...] = ()
    groups: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        for array in (self.points, self.corners, self.starts):
            array.flags.writeable = False
        for group in (self.point_data, self.face_data, self.corner_data, self.marks):
            for array in group.values():
                array.flags.writeable = False

    def __repr__(self) -> str:
        return f"PolyMesh({self.n_points} points, {self.n_faces} faces)"

    # ---- construction -------------------------------------------------
    @staticmethod
    def checked(points: Any, corners: Any, starts: Any, **extra: Any) -> PolyMesh:
        """Build from untrusted arrays; raises MeshError with a sentence when they do not fit."""
        points = np.ascontiguousarray(points, np.float64)
        corners, starts = _whole(corners), _whole(starts)
        if points.ndim != 2 or points.shape[1] != 3:
            raise MeshError("The mesh has points that are not 3D; each needs x, y and z.")
        if len(starts) == 0 or starts[0] != 0 or starts[-1] != len(corners):
            raise MeshError("The face table does not match its corner table; the file may be cut short.")
        if np.any(np.diff(starts) < 3):
            raise MeshError("A face has fewer than three corners; remove it and open the file again.")
        if len(corners) and (corners.min() < 0 or corners.max() >= len(points)):
            bad = int(corners.max() if corners.max() >= len(points) else corners.min())
            raise MeshError(
                f"A face refers to point {bad}, but there are only {len(points):,} points; the file may be cut short."
            )
        if not np.isfinite(points).all():
            bad = int(np.flatnonzero(~finite_rows(points))[0])
            raise MeshError(f"Point {bad} has a coordinate that is not a number; repair the file first.")
        if len(points) and max(points.max(), -points.min()) > FARTHEST:
            raise MeshError(f"The mesh reaches beyond {FARTHEST:g}, too far to measure areas; scale it down first.")
        return PolyMesh(points, corners.astype(np.int32, copy=False), starts.astype(np.int32, copy=False), **extra)

    @staticmethod
    def from_faces(points: Any, faces: Sequence[Sequence[int]] | NDArray[Any], **extra: Any) -> PolyMesh:
        """Build from a list of faces (or an (F, k) array) of point indices."""
        if isinstance(faces, np.ndarray):
            count, size = faces.shape if faces.ndim == 2 else (0, 3)
            wide = np.int32 if count * size < 2**31 - 1 else np.int64
            starts = np.arange(0, (count + 1) * size, size, dtype=wide) if size else np.zeros(1, wide)
            return PolyMesh.checked(points, faces.reshape(-1), starts, **extra)
        sizes = [len(f) for f in faces]
        starts = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)
        corners = np.array([c for f in faces for c in f], np.int64)
        return PolyMesh.checked(points, corners, starts, **extra)

    @staticmethod
    def empty() -> PolyMesh:
        """A mesh with nothing in it."""
        return PolyMesh(np.zeros((0, 3)), np.zeros(0, np.int32), np.zeros(1, np.int32))

    def with_(self, **changes: Any) -> PolyMesh:
        """A copy with some arrays replaced; arrays that stay are shared, and so is the
        connectivity when neither faces nor the number of points changed."""
        new = replace(self, **changes)
        shared = {n: a for n, a in self._aspects.items() if self._ground_of(n) is new._ground_of(n)}
        new.__dict__["_aspects"] = shared
        if "corners" not in changes and "starts" not in changes and len(new.points) == len(self.points):
            for name in ("topology", "triangles", "triangle_faces", "sizes", "face_of_corner", "is_triangles"):
                if name in self.__dict__:
                    new.__dict__[name] = self.__dict__[name]
        return new

    @cached_property
    def _aspects(self) -> dict[str, Aspect]:
        return {}

    def _ground_of(self, name: str) -> Any:
        return self.corners if name == "faces" else getattr(self, name)

    def aspect(self, name: str) -> Aspect:
        """What results that follow from a part of the mesh are kept for (core/store.py): "points", "faces" (corners and
        starts), "uv", "cuts", or a field of channels. Meshes made by `with_` share the aspects that stayed."""
        return self._aspects.setdefault(name, Aspect())

    def forget_derived(self) -> None:
        """Give back what was derived of this mesh and no other shares; it is derived again when it is needed."""
        for name in ("topology", "triangles", "triangle_faces", "triangle_points", "sizes", "face_of_corner", "_aspects"):
            self.__dict__.pop(name, None)

    def detached(self) -> PolyMesh:
        """The same arrays as another mesh, for results that have to keep them without keeping this mesh."""
        new = self.with_()
        new.__dict__["_aspects"] = {}
        return new

    def with_points(self, points: Floats) -> PolyMesh:
        """The same faces over moved points."""
        return self.with_(points=np.ascontiguousarray(points, np.float64))

    def with_uv(self, uv: Floats, name: str = "") -> PolyMesh:
        """The same mesh with the coordinates (C, 2) of a UV set replaced, of the active one unless named; a set that
        was not there is added."""
        name = name or self.active_uv or FIRST_SET
        coordinates = np.ascontiguousarray(uv, np.float64)
        return self._with_set(name).with_(corner_data={**self.corner_data, UV + name: coordinates})

    def with_cuts(self, pairs: Any, name: str = "") -> PolyMesh:
        """The same mesh with the cut edges, point pairs (S, 2), of a UV set replaced, of the active one unless named."""
        name = name or self.active_uv or FIRST_SET
        return self._with_set(name).with_mark(CUT + name, pairs)

    def _with_set(self, name: str) -> PolyMesh:
        if name in self.uv_sets:
            return self
        return self.with_(uv_sets=(*self.uv_sets, name), active_uv=self.active_uv or name)

    def with_mark(self, name: str, pairs: Any) -> PolyMesh:
        """The same mesh with a set of marked edges replaced."""
        return self.with_(marks={**self.marks, name: sorted_pairs(pairs)})

    # ---- views ---------------------------------------------------------
    @property
    def n_points(self) -> int:
        return len(self.points)

    @property
    def n_faces(self) -> int:
        return len(self.starts) - 1

    @property
    def n_corners(self) -> int:
        return len(self.corners)

    @property
    def uv(self) -> Floats | None:
        """(C, 2) coordinates of the active UV set, NaN where unmapped; None where it has none."""
        return self.corner_data.get(UV + self.active_uv)

    @property
    def cuts(self) -> Ints:
        """(S, 2) point pairs of the edges that the active UV set is cut at."""
        return self.marks.get(CUT + self.active_uv, NO_PAIRS)

    def mark(self, name: str) -> Ints:
        """The marked edges of a name; empty when there are none."""
        return self.marks.get(name, NO_PAIRS)

    def face(self, index: int) -> Ints:
        """The points of one face."""
        return self.corners[self.starts[index] : self.starts[index + 1]]

    @cached_property
    def sizes(self) -> Ints:
        """(F,) number of corners of each face."""
        return frozen(np.diff(self.starts).astype(np.int32))

    @cached_property
    def face_of_corner(self) -> Ints:
        """(C,) the face of each corner."""
        return frozen(np.repeat(np.arange(self.n_faces, dtype=np.int32), self.sizes))

    @cached_property
    def topology(self) -> Connectivity:
        """Edges, twins, rings and borders; derived once."""
        return build_connectivity(self.corners, self.starts, self.n_points)

    @cached_property
    def triangles(self) -> Ints:
        """(T, 3) fan triangulation as corner indices; quads split at their first diagonal."""
        return frozen(fan_triangles(self.starts))

    @cached_property
    def triangle_faces(self) -> Ints:
        """(T,) the face of each triangle of `triangles`."""
        return frozen(np.repeat(np.arange(self.n_faces, dtype=np.int32), self.sizes - 2))

    @cached_property
    def triangle_points(self) -> Ints:
        """(T, 3) fan triangulation as point indices."""
        if self.is_triangles:
            return self.corners.reshape(-1, 3)
        return frozen(self.corners[self.triangles])

    @cached_property
    def diagonal(self) -> float:
        """Length of the bounding box's diagonal, in the mesh's units."""
        if self.n_points == 0:
            return 0.0
        low, high = self.box
        return float(np.linalg.norm(high - low))

    @cached_property
    def box(self) -> tuple[Floats, Floats]:
        """(3,) lower and (3,) upper corner of the box round all points; of no points the origin."""
        return bounds(self.points) if self.n_points else (np.zeros(3), np.zeros(3))

    @property
    def middle(self) -> Floats:
        """(3,) middle of that box."""
        return (self.box[0] + self.box[1]) / 2

    @cached_property
    def is_triangles(self) -> bool:
        """Whether every face has three corners."""
        return self.n_corners == 3 * self.n_faces and bool((np.diff(self.starts) == 3).all())

    @property
    def is_quads(self) -> bool:
        """Whether every face has four corners."""
        return bool((self.sizes == 4).all())

    def as_quads(self) -> Ints:
        """(F, 4) point indices; raises MeshError when some face is not a quad."""
        if not self.is_quads:
            raise MeshError("This needs a mesh of quads only; find the others with the check Not quads.")
        return self.corners.reshape(-1, 4)
