"""Move and Lift: carrying, turning and scaling what is held, and raising points off the source."""

from __future__ import annotations

import contextlib

import numpy as np
from numpy.typing import NDArray

from jacket.core.derive import surface_of
from jacket.core.fit.lifted import lifted_points, settled, with_lifted
from jacket.core.fit.shift import FALLOFFS, Shift, falloff, shifted, step_weights
from jacket.core.fit.tidy import levelled
from jacket.core.mesh.choosing import as_kind
from jacket.core.mesh.geometry import point_normals
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.space.bvh import Bvh
from jacket.core.strokes.path import normals_at
from jacket.document.document import Document
from jacket.document.state import State
from jacket.errors import EditRefused
from jacket.tools.base import Option, Tool
from jacket.tools.events import NO_GHOST, Ghost, Pointer
from jacket.tools.mirror import on_plane, partners, reflected
from jacket.tools.pick import nearest_points, occluder, screen_points, segment_distance, slack_for, visible
from jacket.tools.view import FormCamera

ARM = 78.0
"""Length of a handle's arm in pixels."""
PARTS = ("middle", "x", "y", "z", "turn x", "turn y", "turn z", "scale x", "scale y", "scale z", "scale")


def held_points(state: State) -> Ints:
    """Points of all that is held on the active layer; all of its points where nothing is."""
    jacket = state.jacket
    if jacket is None:
        return np.zeros(0, np.int32)
    mesh = jacket.mesh
    rows = [as_kind(mesh, h.kind, h.ids, "points") for h in state.held.parts]
    return np.unique(np.concatenate(rows)).astype(np.int32) if rows else np.arange(mesh.n_points, dtype=np.int32)


def moved_mesh(document: Document, base: PolyMesh, points: Floats, touched: Ints, stay: bool) -> PolyMesh:
    """A mesh with points elsewhere. Where they have to `stay` on the source they are laid back onto it, lifted ones
    excepted; else those that left it count as lifted from now on. Mirrored points follow."""
    source = document.state.source
    surface = surface_of(source.mesh) if source is not None and len(touched) else None
    mesh = base.with_points(points)
    if stay and surface is not None:
        mesh = settled(mesh, surface, touched)
    changed = touched
    if document.state.mirror:
        mesh, changed = _mirrored(mesh, partners(base, document.state.mirror), touched, document.state.mirror,
                                  surface if stay else None)  # fmt: skip
    if stay or surface is None or source is None:
        return mesh
    off = surface.closest(mesh.points[changed])[2] > 1e-7 * source.mesh.diagonal
    return with_lifted(with_lifted(mesh, changed, False), changed[off])


def _mirrored(
    mesh: PolyMesh, table: NDArray[np.signedinteger], touched: Ints, axis: str, surface: Bvh | None
) -> tuple[PolyMesh, Ints]:
    """The mesh with the partners of moved points moved alike, and all that moved. Points in the mirror plane stay in it,
    those that are not lifted on the curve in which it cuts a surface that is given."""
    out = mesh.points.copy()
    own = set(touched.tolist())
    on = touched[table[touched] == touched]
    out[on] = on_plane(out[on], axis)
    up = lifted_points(mesh)
    low = on[~up[on]]
    if surface is not None and len(low):
        with contextlib.suppress(EditRefused):  # the plane misses the source
            out = levelled(out, low, "xyz".index(axis), 0.0, surface)
    for p in touched.tolist():
        q = int(table[p])
        if q >= 0 and q != p and not (q in own and q < p):
            out[q] = reflected(out[p], axis)
    pairs = touched[table[touched] >= 0]
    return with_lifted(mesh.with_points(out), table[pairs][up[pairs]]), np.union1d(touched, table[pairs]).astype(np.int32)


class Move(Tool):
    """Handles at the middle of what is held: arms move, arcs turn, knobs scale, the disc moves freely. What is not
    held follows over as many steps of the mesh as the card says."""

    id, label, stage, key = "move", "Move", "topology", "M"
    legend = (
        ("drag", "arm, arc, knob or disc"),
        ("Ctrl", "in round steps"),
        ("Space", "middle, last held, origin"),
    )
    options = (
        Option("steps", "Reaches on by", "count", 0, 60, "steps"),
        Option("curve", "Falls off", "choice", choices=tuple((f, f) for f in FALLOFFS)),
        Option("stay", "Stay on the source", "switch"),
    )

    def __init__(self, *arguments) -> None:
        super().__init__(*arguments)
        self.steps, self.curve, self.stay = 0, "smooth", True
        self.about = 0
        self.part = ""
        self.start: Pointer | None = None

    @property
    def busy(self) -> bool:
        return self.start is not None

    # ---- the handles --------------------------------------------------------------------------
    def pivot(self) -> Floats | None:
        """What is turned and scaled about: the middle of what is held, the last held, or the origin."""
        jacket = self.document.state.jacket
        ids = held_points(self.document.state)
        if jacket is None or len(ids) == 0:
            return None
        way = self.about % 3
        if way == 2:
            return np.zeros(3)
        held = self.document.state.held
        if way == 1 and held.last >= 0 and held.parts:
            ids = as_kind(jacket.mesh, held.kind, np.array([held.last]), "points")
        return np.asarray(jacket.mesh.points[ids].mean(axis=0))

    def handles(self, camera: FormCamera) -> dict[str, Floats]:
        """Lines (S, 2, 3) of each handle in space."""
        pivot = self.pivot()
        if pivot is None:
            return {}
        size = ARM * camera.pixel_size(max(float(np.nan_to_num(camera.project(pivot)[0, 2], nan=1.0)), 1e-9))
        frame = np.eye(3) * size
        out = {"middle": _ring(pivot, camera.rotation[0] * size * 0.14, camera.rotation[1] * size * 0.14, 0, 2 * np.pi)}
        for k, name in enumerate("xyz"):
            a, b = frame[(k + 1) % 3], frame[(k + 2) % 3]
            out[name] = np.stack([pivot + 0.2 * frame[k], pivot + frame[k]])[None]
            out[f"turn {name}"] = _ring(pivot, 0.72 * a, 0.72 * b, 0.15, np.pi / 2 - 0.15)
            knob = pivot + 1.12 * frame[k]
            out[f"scale {name}"] = _ring(
                knob, camera.rotation[0] * size * 0.07, camera.rotation[1] * size * 0.07, 0, 2 * np.pi
            )
        half = 0.26 * size
        u, v = camera.rotation[0] * half, camera.rotation[1] * half
        square = np.array([pivot + u + v, pivot - u + v, pivot - u - v, pivot + u - v])
        out["scale"] = np.stack([square, np.roll(square, -1, axis=0)], axis=1)
        return out

    def _under(self, pointer: Pointer) -> str:
        if pointer.form is None:
            return ""
        here, best, found = np.array([pointer.x, pointer.y]), self.settings.reach * 1.1, ""
        for part, lines in self.handles(pointer.form).items():
            at = pointer.form.project(lines.reshape(-1, 3))[:, :2].reshape(-1, 2, 2)
            if not np.isfinite(at).all():
                continue
            far = float(segment_distance(here, at[:, 0], at[:, 1])[1].min())
            if part == "middle" and np.hypot(*(here - at[:, 0].mean(axis=0))) < ARM * 0.14:
                far = 0.0
            if far < best:
                best, found = far, part
        return found

    def hover(self, pointer: Pointer) -> None:
        self.part = self._under(pointer)
        if pointer.form is None or self.pivot() is None:
            self.ghost = NO_GHOST
            return
        self.ghost = self._drawn(pointer.form, self._words(self.part), "drag" if self.part else "Space: about what")

    def _words(self, part: str) -> str:
        count = len(held_points(self.document.state)) if self.document.state.held.parts else 0
        what = f"{count:,} points" if count else "the whole layer"
        if not part:
            where = ("its middle", "the last held", "the origin")[self.about % 3]
            return f"Move {what}, about {where}"
        if part == "middle":
            return f"Move {what}"
        kind, _, axis = part.rpartition(" ")
        if not kind and part in "xyz":
            return f"Move {what} along {part.upper()}"
        if kind == "turn":
            return f"Turn {what} about {axis.upper()}"
        return f"Scale {what}" + (f" along {axis.upper()}" if kind == "scale" else "")

    def _drawn(self, camera: FormCamera, what: str, how: str) -> Ghost:
        handles = self.handles(camera)
        lines = np.concatenate(list(handles.values())) if handles else np.zeros((0, 2, 3))
        if self.part in handles:
            lines = np.concatenate([lines, handles[self.part], handles[self.part]])
        return Ghost(lines=lines, what=what, how=how)

    def step(self) -> None:
        self.about += 1

    # ---- doing --------------------------------------------------------------------------------
    def press(self, pointer: Pointer) -> None:
        self.document.open_jacket()
        self.part = self._under(pointer)
        pivot = self.pivot()
        if not self.part or pivot is None:
            self.part = ""
            return
        self.start, self._pivot = pointer, pivot
        self.document.begin(self._words(self.part).lower())

    def move(self, pointer: Pointer) -> None:
        if self.start is None or pointer.form is None:
            return
        shift, said = self._asked(self.start, pointer)
        self._apply(shift)
        self.ghost = Ghost(what=said, how="let go")

    def _asked(self, start: Pointer, pointer: Pointer) -> tuple[Shift, str]:
        """The shift of a drag, and its measure in words."""
        camera, pivot = pointer.form, self._pivot
        assert camera is not None
        x, y, depth = camera.project(pivot)[0]
        size = camera.pixel_size(float(depth))
        right, up, back = camera.rotation
        drag = right * (pointer.x - start.x) * size - up * (pointer.y - start.y) * size
        still = np.zeros(3)
        kind, _, axis = self.part.rpartition(" ")
        if self.part == "middle":
            return Shift(pivot, drag, back), f"{np.linalg.norm(drag):.4g} u"
        if self.part in ("x", "y", "z"):
            way = np.eye(3)["xyz".index(self.part)]
            flat = np.array([way @ right, way @ up])
            amount = float((flat @ [drag @ right, drag @ up]) / max(float(flat @ flat), 0.02))
            amount = _round(amount, 2.0 * 10 ** np.floor(np.log10(max(size * 20, 1e-12)))) if pointer.ctrl else amount
            return Shift(pivot, way * amount, back), f"{self.part.upper()} {amount:+.4g} u"
        if kind == "turn":
            way = np.eye(3)["xyz".index(axis)]
            first = np.arctan2(-(start.y - y), start.x - x)
            last = np.arctan2(-(pointer.y - y), pointer.x - x)
            angle = float((last - first + np.pi) % (2 * np.pi) - np.pi) * (1 if way @ back >= 0 else -1)
            angle = np.radians(_round(np.degrees(angle), 15.0)) if pointer.ctrl else angle
            return Shift(pivot, still, way, angle), f"{np.degrees(angle):+.1f}° about {axis.upper()}"
        far = max(float(np.hypot(start.x - x, start.y - y)), 1.0)
        factor = float(np.clip(np.hypot(pointer.x - x, pointer.y - y) / far, 0.02, 50.0))
        factor = max(_round(factor, 0.1), 0.1) if pointer.ctrl else factor
        scale = np.full(3, factor)
        if kind == "scale":
            scale = np.ones(3)
            scale["xyz".index(axis)] = factor
        return Shift(pivot, still, back, 0.0, scale), f"{100 * factor:.1f} %"

    def _apply(self, shift: Shift) -> None:
        base = self.document.gesture_base.jacket
        if base is None:
            return
        mesh = base.mesh
        weight = step_weights(mesh, held_points(self.document.gesture_base), self.steps, self.curve)
        touched = np.flatnonzero(weight > 0).astype(np.int32)
        points = mesh.points.copy()
        points[touched] = shifted(mesh.points[touched], weight[touched], shift)
        self.document.edit_jacket("move", moved_mesh(self.document, mesh, points, touched, self.stay))

    def release(self, pointer: Pointer) -> None:
        if self.start is not None:
            self.start = None
            self.document.commit()
        self.hover(pointer)

    def typed(self, kind: str, values: tuple[float, float, float]) -> None:
        """Numbers from the card as one step: kind "move" (units), "turn" (degrees) or "scale" (%)."""
        self.document.open_jacket()
        pivot = self.pivot()
        if pivot is None:
            raise EditRefused("There is nothing on this layer to move yet.")
        with self.document.transaction(f"{kind} by numbers"):
            if kind == "move":
                self._apply(Shift(pivot, np.array(values), np.array([0, 0, 1.0])))
            elif kind == "scale":
                if min(values) <= 0:
                    raise EditRefused("A scale has to be over 0 %; use the mirrored copy of a layer to mirror.")
                self._apply(Shift(pivot, np.zeros(3), np.array([0, 0, 1.0]), 0.0, np.array(values) / 100))
            else:
                axis = np.array(values)
                if not axis.any():
                    return
                self._apply(Shift(pivot, np.zeros(3), axis, float(np.radians(np.linalg.norm(axis)))))

    def cancel(self) -> bool:
        had, self.start = self.busy, None
        super().cancel()
        return had


def _ring(middle: Floats, u: Floats, v: Floats, first: float, last: float) -> Floats:
    angle = np.linspace(first, last, 17)[:, None]
    path = middle + np.cos(angle) * u + np.sin(angle) * v
    return np.stack([path[:-1], path[1:]], axis=1)


def _round(value: float, step: float) -> float:
    return float(np.round(value / step) * step)


class Lift(Tool):
    """Drags points off the source along its normals: what is held, or what lies under the brush. They stay lifted
    until a click with Ctrl settles them."""

    id, label, stage, key = "lift", "Lift", "topology", "U"
    legend = (
        ("drag", "up lifts along the normal"),
        ("Ctrl click", "settle it on the source"),
        ("[ ]", "size where nothing is held"),
    )
    options = (Option("curve", "Falls off", "choice", choices=tuple((f, f) for f in FALLOFFS)),)
    actions = ("settle-held", "settle-all")
    brush = True
    strong = False

    def __init__(self, *arguments) -> None:
        super().__init__(*arguments)
        self.curve = "smooth"
        self.start: Pointer | None = None
        self.weight: Floats = np.zeros(0)
        self.normals: Floats = np.zeros((0, 3))

    @property
    def busy(self) -> bool:
        return self.start is not None

    def hover(self, pointer: Pointer) -> None:
        self.ghost = NO_GHOST
        jacket = self.document.state.jacket
        if jacket is None or pointer.form is None:
            return
        held = self.document.state.held.parts
        up = int(lifted_points(jacket.mesh).sum())
        what = "Settle the lifted points" if pointer.ctrl else "Lift what is held" if held else "Lift what is here"
        note = f" ({up} lifted)" if up else ""
        self.ghost = Ghost(
            circle=0.0 if held else self.settings.brush, what=what + note, how="click" if pointer.ctrl else "drag"
        )

    def press(self, pointer: Pointer) -> None:
        mesh = self.document.open_jacket().mesh
        self.weight = self._weights(mesh, pointer)
        if not self.weight.any():
            raise EditRefused("There is no point here to lift; point at the jacket or hold something first.")
        if pointer.ctrl:
            ids = np.flatnonzero(self.weight)
            self.document.edit_jacket("settle points", settled_at(self.document, mesh, ids))
            return
        source = self.document.state.source
        ids = np.flatnonzero(self.weight)
        self.normals = np.zeros_like(mesh.points)
        self.normals[ids] = (
            normals_at(surface_of(source.mesh), mesh.points[ids]) if source is not None else point_normals(mesh)[ids]
        )
        self.start = pointer
        self.document.begin("lift points")

    def _weights(self, mesh: PolyMesh, pointer: Pointer) -> Floats:
        if self.document.state.held.parts:
            weight = np.zeros(mesh.n_points)
            weight[held_points(self.document.state)] = 1.0
            return weight
        weight = np.zeros(mesh.n_points)
        if pointer.form is None or mesh.n_points == 0:
            return weight
        hiding = occluder(self.document.state)
        slack = slack_for(mesh, hiding)
        radius = self.settings.brush * max(pointer.pressure, 0.2)
        at = screen_points(mesh, pointer.form)
        far = np.hypot(at[:, 0] - pointer.x, at[:, 1] - pointer.y)
        ids = np.flatnonzero(far < radius)
        ids = ids[visible(pointer.form, mesh.points[ids], hiding, slack) | lifted_points(mesh)[ids]]
        weight[ids] = falloff(far[ids] / radius, self.curve)
        if not weight.any():
            weight[nearest_points(mesh, pointer, self.settings.reach * 2, hiding, slack, 1)] = 1.0
        return weight

    def move(self, pointer: Pointer) -> None:
        base = self.document.gesture_base.jacket
        if self.start is None or base is None or pointer.form is None:
            return
        mesh, ids = base.mesh, np.flatnonzero(self.weight).astype(np.int32)
        depth = float(np.nanmean(pointer.form.project(mesh.points[ids])[:, 2]))
        height = (self.start.y - pointer.y) * pointer.form.pixel_size(depth)
        points = mesh.points.copy()
        points[ids] += (height * self.weight[ids])[:, None] * self.normals[ids]
        self.document.edit_jacket("lift points", moved_mesh(self.document, mesh, points, ids, stay=False))
        self.ghost = Ghost(what=f"Lifted by {height:.4g} u", how="let go")

    def release(self, pointer: Pointer) -> None:
        if self.start is not None:
            self.start = None
            self.document.commit()
        self.hover(pointer)

    def cancel(self) -> bool:
        had, self.start = self.busy, None
        super().cancel()
        return had


def settled_at(document: Document, mesh: PolyMesh, ids: Ints) -> PolyMesh:
    """Lifted points among `ids`, and their mirrored ones, laid back onto the source and no longer lifted."""
    source = document.state.source
    if source is None:
        raise EditRefused("There is no source to settle the points on.")
    ids = np.asarray(ids)
    ids = ids[lifted_points(mesh)[ids]]
    if len(ids) == 0:
        raise EditRefused("None of these points is lifted.")
    axis = document.state.mirror
    if axis:
        other = partners(mesh, axis)[ids]
        ids = np.union1d(ids, other[other >= 0])
    mesh = with_lifted(mesh, ids, False)
    new = settled(mesh, surface_of(source.mesh), ids)
    if axis:
        points = new.points.copy()
        table = partners(mesh, axis)
        on = ids[table[ids] == ids]
        for _ in range(3):
            if len(on):
                points[on] = on_plane(surface_of(source.mesh).project(on_plane(points[on], axis)), axis)
        new = new.with_points(points)
    return new
