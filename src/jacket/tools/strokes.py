"""What the drawing tools share: strokes on the source, joining to what is there, doing the same across the mirror."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jacket.core.derive import surface_of
from jacket.core.fit.lifted import lifted_points, with_lifted
from jacket.core.mesh.joining import faces_joined
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.space.bvh import Bvh
from jacket.core.strokes.path import length_along, normals_at
from jacket.document.document import Document
from jacket.errors import EditRefused, JacketError
from jacket.tools.base import Tool, ToolSettings
from jacket.tools.events import Ghost, Pointer
from jacket.tools.mirror import AXES, on_plane, partners, reflected
from jacket.tools.pick import open_points, source_hit


class Drawing(Tool):
    """A tool that draws on the source. What is drawn waits as chalk until Enter takes it, unless the tool takes
    it at the end of the drag."""

    stage = "topology"

    def __init__(self, document: Document, settings: ToolSettings) -> None:
        super().__init__(document, settings)
        self.path: list[Floats] = []
        self.pixel = 0.0
        self.last: Pointer | None = None

    @property
    def busy(self) -> bool:
        return bool(self.path)

    def surface(self) -> Bvh:
        """What is drawn on; raises a sentence when there is no source."""
        source = self.document.state.source
        if source is None:
            raise JacketError("There is no source to draw on; open one first.")
        return surface_of(source.mesh)

    def mesh(self) -> PolyMesh:
        """The active jacket's mesh, or an empty one."""
        jacket = self.document.state.jacket
        return jacket.mesh if jacket is not None else PolyMesh.empty()

    def under(self, pointer: Pointer) -> Floats | None:
        """Where the pointer is on the source, (3,)."""
        if pointer.form is None:
            return None
        self.pixel = pointer.form.pixel_size(pointer.form.distance)
        hit = source_hit(self.document.state, pointer)
        return hit.position if hit is not None else None

    def add_place(self, pointer: Pointer, least: float = 3.0) -> bool:
        """Go on with the stroke where the pointer is; whether a place was added."""
        place = self.under(pointer)
        if place is None:
            return False
        if self.path and np.linalg.norm(place - self.path[-1]) < least * self.pixel:
            return False
        self.path.append(place)
        return True

    def outward(self, places: Floats) -> Floats:
        """The source's mean normal at some places."""
        return normals_at(self.surface(), places).mean(axis=0)

    def joined(
        self, mesh: PolyMesh, fresh: Floats, faces: list[list[int]], lifted: Bools | None = None
    ) -> PolyMesh:  # fmt: skip
        """The mesh with new points and faces, and the same across the mirror where it is on. New points are laid onto
        the source except those flagged as `lifted` (K,)."""
        self.document.open_jacket()
        axis = self.document.state.mirror
        fresh = np.asarray(fresh, float).reshape(-1, 3).copy()
        up = np.zeros(len(fresh), bool) if lifted is None else lifted
        if len(fresh) and not up.all():
            fresh[~up] = self.surface().project(fresh[~up])
        if axis and len(fresh):
            on = np.abs(fresh[:, AXES[axis]]) < self.settings.reach * self.pixel
            for _ in range(3):
                if on.any():
                    fresh[on] = on_plane(self.surface().project(on_plane(fresh[on], axis)), axis)
        places = np.concatenate([mesh.points, fresh])
        middles = np.array([places[f].mean(axis=0) for f in faces]).reshape(-1, 3)
        new = faces_joined(mesh, fresh, faces, normals_at(self.surface(), middles)).mesh
        if up.any():
            new = with_lifted(new, mesh.n_points + np.flatnonzero(up))
        return self._mirrored(mesh, new, fresh, faces) if axis else new

    def _mirrored(self, old: PolyMesh, new: PolyMesh, fresh: Floats, faces: list[list[int]]) -> PolyMesh:
        axis, mesh_old = self.document.state.mirror, old.n_points
        table = partners(old, axis) if old.n_points else np.zeros(0, np.int32)
        across: dict[int, int] = {}
        twins: list[Floats] = []
        for k, place in enumerate(fresh):
            p = old.n_points + k
            if place[AXES[axis]] == 0.0:
                across[p] = p
            else:
                across[p] = new.n_points + len(twins)
                twins.append(reflected(place, axis))
        rows = []
        for face in faces:
            row = [across[p] if p in across else int(table[p]) for p in face][::-1]
            if min(row) >= 0 and set(row) != set(face):
                rows.append(row)
        if not rows:
            return new
        used = sorted({p for r in rows for p in r if p >= new.n_points})
        index = {p: new.n_points + k for k, p in enumerate(used)}
        places = np.array([twins[p - new.n_points] for p in used]).reshape(-1, 3)
        rows = [[index.get(p, p) for p in r] for r in rows]
        try:
            both = faces_joined(new, places, rows).mesh
            up = lifted_points(new)[mesh_old : mesh_old + len(fresh)]
            raised = [index[across[mesh_old + k]] for k in np.flatnonzero(up).tolist() if across[mesh_old + k] in index]
            return with_lifted(both, np.array(raised, np.int64)) if raised else both
        except EditRefused:
            return new  # the other side is taken up already

    def cancel(self) -> bool:
        had = bool(self.path) or self.pending
        self.path = []
        return super().cancel() or had


def snapped(mesh: PolyMesh, places: Floats, reach: float, taken: set[int] | None = None) -> Ints:
    """(N,) the open point of the mesh that each place is laid onto, −1 for none; no point twice."""
    out = np.full(len(places), -1, np.int32)
    candidates = np.flatnonzero(open_points(mesh)) if mesh.n_points else np.zeros(0, int)
    if len(candidates) == 0 or len(places) == 0:
        return out
    from scipy.spatial import cKDTree

    far, near = cKDTree(mesh.points[candidates]).query(places)
    used = set(taken or ())
    for k in np.argsort(far, kind="stable").tolist():
        p = int(candidates[near[k]])
        if far[k] <= reach and p not in used:
            out[k] = p
            used.add(p)
    return out


def segments(path: NDArray[np.float64], closed: bool = False) -> Floats:
    """(S, 2, 3) the pieces of a path."""
    if len(path) < 2:
        return np.zeros((0, 2, 3))
    ahead = np.roll(path, -1, axis=0) if closed else path[1:]
    return np.stack([path[: len(ahead)], ahead], axis=1)


def face_lines(points: Floats, faces: list[list[int]]) -> Floats:
    """(S, 2, 3) the sides of faces over points."""
    sides = [(a, b) for f in faces for a, b in zip(f, [*f[1:], f[0]], strict=True)]
    return points[np.array(sides)] if sides else np.zeros((0, 2, 3))


def is_ring(path: list[Floats], reach: float) -> bool:
    """Whether a stroke comes back to where it began."""
    if len(path) < 8:
        return False
    total = float(length_along(np.array(path))[-1])
    return bool(np.linalg.norm(path[0] - path[-1]) < max(reach, 0.06 * total) and total > 4 * reach)


def chalk(lines: Floats, what: str, how: str, marks: Floats | None = None) -> Ghost:
    """A ghost of drawn lines."""
    return Ghost(lines=lines, marks=np.zeros((0, 3)) if marks is None else marks, what=what, how=how)
