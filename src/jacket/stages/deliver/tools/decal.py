"""Decal lays pictures on the form: a click puts one down, drags move, size and turn it, in either view."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from jacket.core.bake.decals import LAID, Decal, frame_across, unit_vector
from jacket.core.derive import surface_of
from jacket.core.mesh.geometry import point_normals
from jacket.core.mesh.nodes import as_place
from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.document.edits.decals import change_decal, drop_decal, lay_decal
from jacket.document.edits.layers import choose_layer
from jacket.document.state import JacketObject
from jacket.errors import JacketError
from jacket.formats.deliver.laid import checked_stencil, stencil_of
from jacket.tools.base import Option, Tool
from jacket.tools.events import NO_GHOST, Ghost, Pointer
from jacket.tools.pick import corner_shares, pick_flat

NEAR = 9.0
"""Pixels from a corner or the knob within which it is taken."""
KNOB = 26.0
"""Pixels that the knob stands over the upper side."""
SHARE, REACH = 0.18, 0.06
"""Width of a new decal, and how far before and behind its plane it reaches, in diagonals of the layer."""
STEP = 1.06
UP, RIGHT = np.array([0.0, 1.0, 0.0]), np.array([1.0, 0.0, 0.0])


@dataclass(frozen=True, eq=False)
class Spot:
    """A place on a layer, and its smooth normal."""

    layer: JacketObject
    place: Floats
    normal: Floats


@dataclass(frozen=True, eq=False)
class _Grip:
    """What a drag does: "move", "size" or "turn" a decal as it was when the drag began, `off` pixels from the pointer."""

    doing: str
    layer: int
    decal: Decal
    off: Floats
    fresh: bool = False


class LayOn(Tool):
    """The picture in hand, the decal that was touched last, and what is under the pointer."""

    id, label, stage, key = "decal", "Decal", "deliver", "D"
    lit = True
    legend = (("click", "lay the picture on"), ("drag", "move, a corner sizes, the knob turns"), ("Ctrl+wheel", "size"), ("Space", "the one below"),
              ("Backspace", "take it off"))  # fmt: skip
    options = (Option("decal_role", "New ones lie in", "choice", choices=tuple((r, r) for r in LAID)),)
    actions = ("decal-picture", "decal-from-view")
    _grip: _Grip | None = None
    _turn = 0
    _last: Pointer | None = None

    @property
    def busy(self) -> bool:
        """Whether a decal is being moved."""
        return self._grip is not None

    def leave(self) -> None:
        """The pointer is gone; what was touched last stays chosen."""
        self._last = None
        super().leave()

    # ---- what is there -----------------------------------------------------------------------------------------
    def chosen(self) -> tuple[JacketObject, Decal] | None:
        """The decal that was touched last and its layer; None where it is gone."""
        layer = self.document.state.jacket
        found = next((d for d in layer.decals if d.id == self.settings.decal), None) if layer is not None else None
        return (layer, found) if layer is not None and found is not None else None

    def hover(self, pointer: Pointer) -> None:
        """Show what a click or a drag would do here."""
        self._last = pointer
        grip = self._over(pointer)
        if grip is not None:
            said = {"move": "Move", "size": "Size", "turn": "Turn"}[grip.doing]
            self.ghost = self._ghost(pointer, grip.decal, f"{said} {grip.decal.name}", "drag")
            return
        spot = self._spot(pointer)
        if spot is None:
            self.ghost = NO_GHOST
        elif not self.settings.picture:
            self.ghost = Ghost("form" if pointer.form is not None else "flat", what="No picture in hand", how="choose one on the card")
        else:
            new = self._new(spot)
            self.ghost = self._ghost(pointer, new, f"Lay {new.name} on", "click; drag to put it right")

    def _ghost(self, pointer: Pointer, decal: Decal, what: str, how: str) -> Ghost:
        if pointer.form is None:
            return Ghost("flat", marks=np.zeros((0, 2)), what=what, how=how)
        ring = decal.corners()
        return Ghost(lines=np.stack([ring, np.roll(ring, -1, axis=0)], axis=1), marks=np.concatenate([ring, self._knob(pointer, decal)[None]]), what=what, how=how)

    def _knob(self, pointer: Pointer, decal: Decal) -> Floats:
        assert pointer.form is not None
        top = decal.corners()[2:].mean(axis=0)
        depth = float((pointer.form.eye - top) @ pointer.form.rotation[2])
        return np.asarray(top + np.array(decal.up) * KNOB * pointer.form.pixel_size(max(depth, 1e-9)))

    def _over(self, pointer: Pointer) -> _Grip | None:
        known = self.chosen()
        if known is not None and pointer.form is not None:
            layer, decal = known
            if decal.shown:
                at = pointer.form.project(np.concatenate([decal.corners(), self._knob(pointer, decal)[None]]))[:, :2]
                far = np.hypot(*(at - [pointer.x, pointer.y]).T)
                k = int(np.nanargmin(far)) if np.isfinite(far).any() else -1
                if k >= 0 and far[k] < NEAR:
                    return _Grip("turn" if k == 4 else "size", layer.id, decal, at[k] - [pointer.x, pointer.y])
        spot = self._spot(pointer)
        if spot is None:
            return None
        under = [d for d in reversed(spot.layer.decals) if d.shown and covers(d, spot.place)]
        if not under:
            return None
        decal = under[self._turn % len(under)]
        return _Grip("move", spot.layer.id, decal, self._away(pointer, decal))

    def _away(self, pointer: Pointer, decal: Decal) -> Floats:
        """Pixels from the pointer to the middle of a decal; none where the pointer is over the sheet."""
        if pointer.form is None:
            return np.zeros(2)
        off = pointer.form.project(np.array(decal.place))[0, :2] - [pointer.x, pointer.y]
        return off if np.isfinite(off).all() else np.zeros(2)

    def _spot(self, pointer: Pointer) -> Spot | None:
        """The nearest place under the pointer on a layer that is shown."""
        state = self.document.state
        if pointer.flat is not None:
            jacket = state.jacket
            return flat_spot(jacket, pointer) if jacket is not None and jacket.mesh.uv is not None else None
        if pointer.form is None:
            return None
        return form_spot(state.looked_at, *pointer.form.ray(pointer.x, pointer.y))

    def _new(self, spot: Spot) -> Decal:
        path = self.settings.picture
        known, size = stencil_of(path), spot.layer.mesh.diagonal
        wide, high = known.size if known is not None else (1, 1)
        width = SHARE * size if wide >= high else SHARE * size * wide / high
        right, up = frame_across(spot.normal, UP, RIGHT)
        return Decal(0, Path(path).stem[:60], path, self.settings.decal_role, as_place(spot.place), right, up, width, width * high / wide, REACH * size)

    # ---- gestures ----------------------------------------------------------------------------------------------
    def press(self, pointer: Pointer) -> None:
        """Take what is here, or lay the picture on."""
        grip = self._over(pointer)
        if grip is None:
            spot = self._spot(pointer)
            if spot is None:
                return
            if not self.settings.picture:
                raise JacketError("There is no picture in hand; choose one on the card of Decal first.")
            checked_stencil(Path(self.settings.picture))
            choose_layer(self.document, spot.layer.id)
            self.document.begin(f"lay {Path(self.settings.picture).stem[:60]} on")
            self.settings.decal = lay_decal(self.document, spot.layer.id, self._new(spot))
            known = self.chosen()
            if known is not None:
                self._grip = _Grip("move", spot.layer.id, known[1], np.zeros(2), True)
            return
        choose_layer(self.document, grip.layer)
        self.settings.decal = grip.decal.id
        self.document.begin(f"{grip.doing} {grip.decal.name}")
        self._grip = grip

    def move(self, pointer: Pointer) -> None:
        """Let the decal follow; it stays across the surface."""
        grip = self._grip
        if grip is None:
            return
        new = self._moved(grip, pointer)
        if new is not None:
            change_decal(self.document, grip.layer, grip.decal.id, **{k: getattr(new, k) for k in ("place", "right", "up", "width", "height", "reach")})
            said = {"move": new.name, "size": f"{new.name}: {abs(new.width):.4g} × {new.height:.4g} u", "turn": f"{new.name}: {_angle(grip.decal, new):+.0f}°"}
            self.ghost = self._ghost(pointer, new, said[grip.doing], "let go")

    def _moved(self, grip: _Grip, pointer: Pointer) -> Decal | None:
        decal = grip.decal
        if grip.doing == "move":
            if pointer.form is not None:
                pointer = replace(pointer, x=pointer.x + grip.off[0], y=pointer.y + grip.off[1])
            spot = self._spot(pointer)
            return decal.put(spot.place, spot.normal) if spot is not None and spot.layer.id == grip.layer else None
        if pointer.form is None:
            return None
        at = plane_place(decal, *pointer.form.ray(pointer.x + grip.off[0], pointer.y + grip.off[1]))
        if at is None:
            return None
        if grip.doing == "turn":
            return decal.turned(float(np.degrees(np.arctan2(-at[0], at[1]))))
        times = float(np.clip(np.hypot(*at) / np.hypot(decal.width / 2, decal.height / 2), 1e-3, 1e3))
        return replace(decal, width=decal.width * times, height=decal.height * times, reach=decal.reach * max(times, 1.0))

    def release(self, pointer: Pointer) -> None:
        """Let it lie."""
        if self._grip is not None:
            self._grip = None
            self.document.commit()
            self.hover(pointer)

    def cancel(self) -> bool:
        """Put it back where it was."""
        had, self._grip = self.busy, None
        super().cancel()
        return had

    def ctrl_wheel(self, steps: float, pointer: Pointer) -> bool:
        """Size of what is under the pointer, or of the chosen one."""
        grip = self._over(pointer)
        known = self.chosen()
        layer, decal = (grip.layer, grip.decal) if grip is not None else (known[0].id, known[1]) if known is not None else (-1, None)
        if decal is None or self.busy:
            return False
        times = STEP ** float(np.clip(steps, -50, 50))
        change_decal(self.document, layer, decal.id, "size a decal", width=decal.width * times, height=decal.height * times)
        self.hover(pointer)
        return True

    def step(self) -> None:
        """Space: the decal below the one that is shown."""
        self._turn += 1
        if self._last is not None:
            self.hover(self._last)

    def remove(self, pointer: Pointer) -> None:
        """Backspace: take off what is under the pointer."""
        grip = self._over(pointer)
        if grip is not None and not self.busy:
            drop_decal(self.document, grip.layer, grip.decal.id)
            self.hover(pointer)


# ---- places ------------------------------------------------------------------------------------------------------


def covers(decal: Decal, place: Floats) -> bool:
    """Whether a decal lies over a place on the surface."""
    s, t, z = decal.at(place)[0]
    return bool(0 <= s <= 1 and 0 <= t <= 1 and abs(z) <= decal.reach)


def plane_place(decal: Decal, origin: Floats, way: Floats) -> Floats | None:
    """(2,) across and up the plane of a decal, in units from its middle, where a ray meets it; None where it does not."""
    axes = decal.axes
    slope = float(way @ axes[2])
    if abs(slope) < 1e-6:
        return None
    far = float((np.array(decal.place) - origin) @ axes[2]) / slope
    return np.asarray(axes[:2] @ (origin + far * way - np.array(decal.place))) if far > 0 else None


def form_spot(layers: tuple[JacketObject, ...], origin: Floats, way: Floats) -> Spot | None:
    """Where a ray first meets one of the layers."""
    best, spot = np.inf, None
    for layer in layers:
        hit = surface_of(layer.mesh).ray(origin, way) if layer.mesh.n_faces else None
        if hit is not None:
            far = float(np.linalg.norm(hit.position - origin))
            if far < best:
                best, spot = far, Spot(layer, np.asarray(hit.position), _normal(layer.mesh, layer.mesh.triangles[hit.triangle], hit.position))
    return spot


def flat_spot(layer: JacketObject, pointer: Pointer) -> Spot | None:
    """The place on the form of what the pointer is over on the sheet."""
    mesh, found = layer.mesh, pick_flat(layer.mesh, pointer, 0.0, "face")
    if found.kind != "face" or pointer.flat is None or mesh.uv is None:
        return None
    at = pointer.flat.place(pointer.x, pointer.y)
    rows = mesh.triangles[mesh.triangle_faces == found.id]
    best, where, which = -np.inf, None, rows[0]
    for tri in rows:
        a, b, c = mesh.uv[tri]
        sides = np.array([b - a, c - a]).T
        if abs(np.linalg.det(sides)) < 1e-18:
            continue
        v, w = np.linalg.solve(sides, at - a)
        inside = min(v, w, 1 - v - w)
        if inside > best:
            best, where, which = inside, np.array([1 - v - w, v, w]) @ mesh.points[mesh.corners[tri]], tri
    return None if where is None else Spot(layer, where, _normal(mesh, which, where))


def _normal(mesh: PolyMesh, corners: Floats, place: Floats) -> Floats:
    """The smooth normal in a place of a triangle."""
    ids = mesh.corners[corners]
    p = mesh.points[ids]
    mixed = corner_shares(p, place) @ point_normals(mesh)[ids]
    return unit_vector(mixed if np.linalg.norm(mixed) > 1e-9 else np.cross(p[1] - p[0], p[2] - p[0]))


def _angle(before: Decal, now: Decal) -> float:
    axes, up = before.axes, np.array(now.up)
    return float(np.degrees(np.arctan2(-(axes[0] @ up), axes[1] @ up)))
