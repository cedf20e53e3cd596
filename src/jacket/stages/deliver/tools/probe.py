"""Probe reads all maps in the place under the pointer, in real units: with one's own pictures and decals, as they are shown."""

from __future__ import annotations

import numpy as np

from jacket.core.bake.made import Bake, SheetMaps
from jacket.core.bake.maps import Baked
from jacket.core.derive import surface_of
from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.stages.deliver.wearing import dressed
from jacket.tools.base import Tool
from jacket.tools.events import NO_GHOST, Ghost, Pointer
from jacket.tools.pick import corner_shares


class Probe(Tool):
    """Hovering in either view tells what the maps say there."""

    id, label, stage, key = "probe", "Probe", "deliver", "B"
    legend = (("hover", "read the maps there"), ("click", "keep the reading until the next"), ("Esc", "let it go"))
    _kept = False

    def hover(self, pointer: Pointer) -> None:
        """Read what is under the pointer."""
        if not self._kept:
            self.ghost = self._read(pointer)

    def press(self, pointer: Pointer) -> None:
        """Keep the reading, or let it go."""
        self._kept = not self._kept
        self.ghost = self._read(pointer) if self._kept else self.ghost

    def cancel(self) -> bool:
        """Let the reading go."""
        had, self._kept = self._kept, False
        self.ghost = NO_GHOST
        return had

    def leave(self) -> None:
        """A kept reading stays."""
        if not self._kept:
            self.ghost = NO_GHOST

    def _read(self, pointer: Pointer) -> Ghost:
        state = self.document.state
        jacket = state.jacket
        baked = self.settings.baked if isinstance(self.settings.baked, Bake) else None
        if jacket is not None:
            baked = dressed(baked, jacket, state)
        if baked is None or not baked.sheets:
            return Ghost(what="Nothing is baked yet", how="Bake the maps first")
        if jacket is None or not jacket.visible:
            return NO_GHOST
        view = "form" if pointer.form is not None else "flat"
        spot = place_under(pointer, jacket.mesh)
        if spot is None:
            return NO_GHOST
        uv, place = spot
        for sheet in baked.sheets:
            inside = uv - sheet.sheet.origin
            if ((inside >= 0) & (inside < 1)).all():
                first, second = told(sheet, inside)
                return Ghost(view, marks=place[None], what=first, how=second)
        return Ghost(view, what="Off the sheets")


def place_under(pointer: Pointer, mesh: PolyMesh) -> tuple[Floats, Floats] | None:
    """UV of what is under the pointer, and where that is in the pointer's view; None where there is nothing."""
    if pointer.flat is not None:
        uv = np.asarray(pointer.flat.place(pointer.x, pointer.y), float)
        return uv, uv
    if pointer.form is None or mesh.uv is None or mesh.n_faces == 0:
        return None
    hit = surface_of(mesh).ray(*pointer.form.ray(pointer.x, pointer.y))
    if hit is None:
        return None
    corners = mesh.triangles[hit.triangle]
    p = mesh.points[mesh.corners[corners]]
    uv = corner_shares(p, hit.position) @ mesh.uv[corners]
    return (uv, np.asarray(hit.position)) if np.isfinite(uv).all() else None


def told(sheet: SheetMaps, inside: Floats) -> tuple[str, str]:
    """What the maps of a sheet say in a place (2,) of 0..1, in two lines; v is up."""
    height, width = sheet.state.shape
    i, j = int(inside[0] * width), height - 1 - int(inside[1] * height)
    head = [f"{i}, {height - 1 - j} px"]
    if not sheet.state[min(max(j, 0), height - 1), i]:
        head.append("off the islands")
    rows = []
    for _kind, baked in sheet.maps.items():
        h, w = baked.pixels.shape[:2]
        rows.append(said(baked, baked.pixels[min(j * h // height, h - 1), min(i * w // width, w - 1)]))
    return " · ".join(head + rows[:3]), " · ".join(rows[3:])


def said(baked: Baked, values: np.ndarray) -> str:
    """One pixel of a map in words."""
    kind = baked.kind
    share = values.astype(float) / (1.0 if values.dtype == np.float32 else np.iinfo(values.dtype).max)
    if kind == "normal":
        v = share * 2 - 1
        return f"normal {np.degrees(np.arccos(np.clip(v[2] / max(float(np.linalg.norm(v)), 1e-9), -1, 1))):.1f}° off"
    if kind == "height":
        return f"height {1000 * share[0]:+.2f} mm"
    if kind == "position":
        return f"at {share[0]:.3f}, {share[1]:.3f}, {share[2]:.3f}"
    if kind.startswith("id-"):
        eight = tuple(round(255 * x) for x in share)
        return f"{kind[3:]} {next((n for n, c in baked.legend if c == eight), 'none')}"
    if kind in ("object", "bent"):
        v = share * 2 - 1
        return f"{kind} {v[0]:+.2f} {v[1]:+.2f} {v[2]:+.2f}"
    if kind == "colour":
        return "colour #" + "".join(f"{round(255 * x):02x}" for x in share)
    if kind == "curvature":
        return f"curvature {2 * share[0] - 1:+.2f}"
    return f"{kind} {share[0]:.2f}"
