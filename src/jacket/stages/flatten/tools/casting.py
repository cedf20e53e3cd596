"""Cast: projections onto the sheet from a view, a plane, a box, a cylinder, a ball, with handles on the form."""

from __future__ import annotations

from typing import ClassVar

import numpy as np

from jacket.core.mesh.polymesh import Bools, Floats, PolyMesh
from jacket.core.uv.projections import KINDS, Caster, fitted_caster, projected
from jacket.document.edits.uvs import held_faces
from jacket.errors import EditRefused
from jacket.tools.base import Option, Tool
from jacket.tools.events import NO_GHOST, Ghost, Pointer

NEAR = 10.0
"""Pixels from a handle within which it is taken."""
OUT = 1.3
"""How far out the handles of the axes stand, in sizes of what is cast."""
NAMES = {k: words.removeprefix("a ") for k, words in KINDS}
ROUND = 48


class Cast(Tool):
    """A click casts what is held, or all; then the handles move and turn what it is cast from, and the sheet follows."""

    id, label, stage, key = "cast", "Cast", "flatten", "J"
    legend: ClassVar[tuple[tuple[str, str], ...]] = (
        ("click", "cast what is held, or all"), ("drag a ring", "its middle, its axis, its seam"), ("Space", "onto something else"),
    )  # fmt: skip
    options: ClassVar[tuple[Option, ...]] = (Option("kind", "Onto", "choice", choices=KINDS),)

    def __init__(self, *arguments) -> None:
        super().__init__(*arguments)
        self.kind = "cylinder"
        self.caster: Caster | None = None
        self._faces: Bools = np.zeros(0, bool)
        self._over = -1
        self._from: Pointer | None = None
        self._begun: Caster | None = None
        self._last: Pointer | None = None
        self._known: tuple[object, object, tuple[Bools, Floats]] | None = None
        self._fit: tuple[tuple[object, ...], Caster] | None = None
        self._sized: tuple[Floats, Caster, Floats] | None = None

    @property
    def busy(self) -> bool:
        return self._from is not None

    # ---- what is there -------------------------------------------------------------------------------------------
    def _wanted(self, mesh: PolyMesh) -> Bools:
        return self._meant(mesh)[0]

    def _meant(self, mesh: PolyMesh) -> tuple[Bools, Floats]:
        """What is held, or all: flags of faces, and their points; looked up once for a mesh and what is held."""
        held = self.document.state.held
        form, known = mesh.aspect("points"), self._known
        if known is None or known[0] is not form or known[1] is not held or len(known[2][0]) != mesh.n_faces:
            faces = np.zeros(mesh.n_faces, bool)
            faces[held_faces(mesh, held)] = True
            faces = faces if faces.any() else ~faces
            points = mesh.points if faces.all() else mesh.points[np.unique(mesh.corners[faces[mesh.face_of_corner]])]
            known = self._known = (form, held, (faces, points))
        return known[2]

    def _live(self, mesh: PolyMesh) -> bool:
        """Whether the handles belong to what is there and held."""
        return self.caster is not None and self.kind != "view" and len(self._faces) == mesh.n_faces and np.array_equal(self._faces, self._wanted(mesh))

    def hover(self, pointer: Pointer) -> None:
        """Show what it is cast from, and the handle under the pointer."""
        self._last = pointer
        jacket = self.document.state.jacket
        if pointer.form is None or jacket is None or jacket.mesh.n_faces == 0:
            self.ghost = NO_GHOST
            return
        mesh, live = jacket.mesh, self._live(jacket.mesh)
        try:
            caster = self.caster if live and self.caster is not None else self._fitted(mesh, pointer)
        except EditRefused as error:
            self.ghost = Ghost(what=str(error).split(";")[0], how="Space: onto something else")
            return
        faces = self._wanted(mesh)
        self._over = self._handle(mesh, caster, pointer) if live else -1
        held = "all" if faces.all() else f"{int(faces.sum()):,} faces"
        what = {0: "Move what it is cast from", 1: "Turn its axis", 2: "Turn it round its axis"}.get(self._over, f"Cast {held} {self._onto()}")
        marks = self._handles(mesh, caster) if live else np.zeros((0, 3))
        self.ghost = Ghost(lines=wires(caster.local(self._meant(mesh)[1]), caster, self.kind), marks=marks, what=what, how="click" if self._over < 0 else "drag")

    def _onto(self) -> str:
        return "from this view" if self.kind == "view" else f"onto a {NAMES[self.kind]}"

    def _fitted(self, mesh: PolyMesh, pointer: Pointer) -> Caster:
        assert pointer.form is not None
        key = (self._meant(mesh), self.kind, pointer.form)
        if self._fit is None or any(a is not b for a, b in zip(self._fit[0], key, strict=True)):
            self._fit = key, fitted_caster(mesh, key[0][0], self.kind, pointer.form.rotation)
        return self._fit[1]

    def _handles(self, mesh: PolyMesh, caster: Caster) -> Floats:
        points = self._meant(mesh)[1]
        if self._sized is None or self._sized[0] is not points or self._sized[1] is not caster:
            self._sized = points, caster, extent(caster.local(points))
        size = self._sized[2]
        return np.stack([caster.middle, caster.middle + OUT * size[1] * caster.frame[1], caster.middle + OUT * max(size[0], size[2]) * caster.frame[2]])

    def _handle(self, mesh: PolyMesh, caster: Caster, pointer: Pointer) -> int:
        assert pointer.form is not None
        far = np.hypot(*(pointer.form.project(self._handles(mesh, caster))[:, :2] - [pointer.x, pointer.y]).T)
        k = int(np.nanargmin(far)) if np.isfinite(far).any() else -1
        return k if k >= 0 and far[k] < NEAR else -1

    # ---- gestures ------------------------------------------------------------------------------------------------
    def press(self, pointer: Pointer) -> None:
        """Take a handle, or cast anew."""
        mesh = self.document.open_jacket().mesh
        if pointer.form is None or mesh.n_faces == 0:
            return
        faces = self._wanted(mesh)
        over = self._handle(mesh, self.caster, pointer) if self._live(mesh) and self.caster is not None else -1
        if over >= 0:
            self._over = over
            self._from, self._begun, self._faces = pointer, self.caster, faces
            self.document.begin(f"cast {self._onto()}")
            return
        caster = self._fitted(mesh, pointer)
        self._put(mesh, faces, caster)
        self.hover(pointer)

    def _put(self, mesh: PolyMesh, faces: Bools, caster: Caster) -> None:
        new = projected(mesh, faces, self.kind, self.document.state.sheet, caster=caster)
        self.document.edit_jacket(f"cast {self._onto()}", new, self.document.state.held)
        self.caster, self._faces = caster, faces

    def move(self, pointer: Pointer) -> None:
        """The sheet follows the handle."""
        begun, base = self._begun, self.document.gesture_base.jacket
        if self._from is None or begun is None or base is None or pointer.form is None or self._from.form is None:
            return
        handles = self._handles(base.mesh, begun)
        depth = float((pointer.form.eye - handles[self._over]) @ pointer.form.rotation[2])
        size = pointer.form.pixel_size(max(depth, 1e-9))
        right, up, _ = pointer.form.rotation
        at = handles[self._over] + size * ((pointer.x - self._from.x) * right - (pointer.y - self._from.y) * up)
        new = Caster(at, begun.frame) if self._over == 0 else begun.turned(at - begun.middle, self._over)
        if self._over == 2:
            # Only round its own axis: the axis has a handle of its own.
            new = begun.turned(at - begun.middle - ((at - begun.middle) @ begun.frame[1]) * begun.frame[1], 2)
        self._put(base.mesh, self._faces, new)
        self.ghost = Ghost(lines=wires(new.local(self._meant(base.mesh)[1]), new, self.kind), marks=self._handles(base.mesh, new),
                           what=f"Cast {self._onto()}", how="let go")  # fmt: skip

    def release(self, pointer: Pointer) -> None:
        """Let it stand."""
        if self._from is not None:
            self._from, self._begun = None, None
            self.document.commit()
        self.hover(pointer)

    def cancel(self) -> bool:
        """As it was before the drag."""
        had, self._from = self.busy, None
        if had and self._begun is not None:
            self.caster, self._begun = self._begun, None
        super().cancel()
        return had

    def step(self) -> None:
        """Space: onto something else."""
        kinds = [k for k, _ in KINDS]
        self.set_option("kind", kinds[(kinds.index(self.kind) + 1) % len(kinds)])
        if self._last is not None:
            self.hover(self._last)

    def set_option(self, name: str, value: object) -> None:
        """Another kind has other handles: the next click fits it."""
        super().set_option(name, value)
        self.caster = None


# ---- how it is drawn ---------------------------------------------------------------------------------------------


def extent(local: Floats) -> Floats:
    """(3,) how far points (N, 3) in the frame of a caster reach from its middle."""
    return np.array([np.abs(local[:, k]).max(initial=0.0) for k in range(3)])


def wires(local: Floats, caster: Caster, kind: str) -> Floats:
    """(S, 2, 3) lines of what is cast from, round points (N, 3) in its frame, with the seam of a cylinder or a ball opposite its
    out."""
    x, y, z = extent(local)
    turn = 2 * np.pi * np.arange(ROUND) / ROUND
    circle = np.stack([np.sin(turn), np.zeros(ROUND), np.cos(turn)], axis=1)
    if kind in ("view", "plane"):
        rows = [_ring(np.array([[-x, -y, 0], [x, -y, 0], [x, y, 0], [-x, y, 0]]))]
    elif kind == "box":
        square = np.array([[-x, -y, -z], [x, -y, -z], [x, -y, z], [-x, -y, z]])
        rows = [_ring(square), _ring(square * [1, -1, 1]), np.stack([square, square * [1, -1, 1]], axis=1)]
    elif kind == "cylinder":
        r = float(np.hypot(local[:, 0], local[:, 2]).mean())
        rows = [_ring(r * circle + [0, h, 0]) for h in (-y, 0.0, y)]
        rows.append(np.array([[[0, -y, -r], [0, y, -r]]]))
    else:
        r = float(np.linalg.norm(local, axis=1).mean())
        rows = [_ring(r * circle), _ring(r * circle[:, [1, 0, 2]])]
        seam = r * np.stack([np.zeros(ROUND // 2), np.cos(turn[: ROUND // 2]), -np.sin(turn[: ROUND // 2])], axis=1)
        rows.append(np.stack([seam[:-1], seam[1:]], axis=1))
    return np.asarray(np.concatenate(rows) @ caster.frame + caster.middle)


def _ring(points: Floats) -> Floats:
    return np.stack([points, np.roll(points, -1, axis=0)], axis=1)
