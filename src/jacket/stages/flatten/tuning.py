"""Islands made as wanted: trued between angles and areas, refined in part, straightened, rounded, pinned."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from jacket.commands.beside import beside
from jacket.commands.common import edit, has_faces, has_held, has_uvs, long_edit
from jacket.commands.host import Edits, Host, Run
from jacket.commands.model import Command
from jacket.core.derive import islands_of, reasons_of
from jacket.core.flatten.directions import turned_islands
from jacket.core.flatten.editing import refined
from jacket.core.flatten.shaping import rounded, straightened
from jacket.core.mesh.polymesh import PIN, Bools, Floats, PolyMesh
from jacket.core.seams.cuts import cut_edges
from jacket.core.seams.reasons import Reason
from jacket.core.uv.sets import border_flags
from jacket.document.document import Document
from jacket.document.edits.uvs import held_faces
from jacket.document.state import State
from jacket.document.task import Job, Task, on_layer
from jacket.errors import EditRefused
from jacket.stages.flatten.tools.brushes import with_pins
from jacket.stages.flatten.values import FlattenValues
from jacket.stages.seams.held import held_edges

FULLY = 40
"""Steps of a whole island; in a part fewer do."""
EDGE = 0.03
"""How near the balance comes to one side alone: there nothing would hold the other at all."""


def _balance(values: FlattenValues) -> float:
    return float(np.clip(0.01 * values.balance, EDGE, 1 - EDGE))


def _true(host: Edits, mesh: PolyMesh) -> Job:
    """All mapped islands, or those that something is held on, trued where they lie."""
    state, balance = host.document.state, _balance(host.values(FlattenValues))
    islands = islands_of(mesh, state.sheets)
    wanted = np.zeros(islands.count, bool)
    wanted[islands.labels[held_faces(mesh, state.held)]] = True
    if not wanted.any():
        wanted[:] = True
    faces = (wanted & islands.mapped & (islands.pixel_area > 0))[islands.labels]
    return lambda progress: mesh.with_uv(refined(mesh, islands, faces, FULLY, balance))


def _refine(host: Edits, mesh: PolyMesh) -> Job:
    state, balance = host.document.state, _balance(host.values(FlattenValues))
    islands, faces = islands_of(mesh, state.sheets), np.zeros(mesh.n_faces, bool)
    faces[held_faces(mesh, state.held)] = True
    faces &= islands.mapped[islands.labels]
    if not faces.any():
        raise EditRefused("What is held lies on no flat island; flatten it first.")
    return lambda progress: mesh.with_uv(refined(mesh, islands, faces, FULLY, balance))


Shaped = tuple[PolyMesh, float]


def _straighten(host: Edits, mesh: PolyMesh) -> Job:
    values, islands = host.values(FlattenValues), islands_of(mesh, host.document.state.sheets)
    edges, direction, spacing = held_edges(host, mesh), values.direction, values.spacing
    return lambda progress: _with(mesh, straightened(mesh, islands, edges, direction, spacing))


def _round(host: Edits, mesh: PolyMesh) -> Job:
    islands, edges = islands_of(mesh, host.document.state.sheets), held_edges(host, mesh)
    return lambda progress: _with(mesh, rounded(mesh, islands, edges))


def _with(mesh: PolyMesh, result: tuple[Floats, float]) -> Shaped:
    return mesh.with_uv(result[0]), result[1]


def _reached(result: Shaped) -> str:
    return "" if result[1] > 0.999 else (f"{100 * result[1]:.0f} % of the way; further a face would turn over. Pin less, or take "
                                         "fewer edges at once.")  # fmt: skip


def _shaped_mesh(result: Shaped) -> PolyMesh:
    return result[0]


# ---- turning -----------------------------------------------------------------------------------------------------


def _turn(host: Edits, mesh: PolyMesh) -> PolyMesh:
    state = host.document.state
    islands = islands_of(mesh, state.sheets)
    which = np.zeros(islands.count, bool)
    which[islands.labels[held_faces(mesh, state.held)]] = True
    if not which.any():
        which[:] = True
    return mesh.with_uv(turned_islands(mesh, islands, which, host.values(FlattenValues).orient))


# ---- why it warps -------------------------------------------------------------------------------------------------------


def _find(host: Host) -> None:
    state = host.document.state
    ground = on_layer(state)
    names = {r.id: r.name for r in (state.jacket.islands if state.jacket is not None else ())}
    mesh = ground.mesh

    def merge(found: tuple[Reason, ...]) -> None:
        host.say(f"{len(found)} reason{'s' if len(found) != 1 else ''} found; each can be looked at and mended." if found
                 else "Nothing pulls these islands that another cut would mend.")  # fmt: skip
        host.refresh_checks()

    host.start(Task("look why it warps", lambda progress: reasons_of(mesh, names, progress), merge, (ground,), lambda: _find(host)))


def mend(document: Document, reason: Reason) -> None:
    """Cut what a reason says. Raises EditRefused where cutting does not mend it."""
    if len(reason.cut) == 0:
        raise EditRefused("Another cut does not mend this; look at the faces that are held.")
    mesh = document.open_jacket().mesh
    document.edit_jacket("mend what warps", cut_edges(mesh, reason.cut), document.state.held)


# ---- pins ------------------------------------------------------------------------------------------------------------


def _pinned(step: str, change: Callable[[Edits, PolyMesh, Floats], Floats]) -> Run:
    def run(host: Edits) -> None:
        mesh = host.document.open_jacket().mesh
        now = mesh.corner_data.get(PIN + mesh.active_uv)
        strength = np.zeros(mesh.n_corners) if now is None else np.asarray(now, np.float64).copy()
        host.document.edit_jacket(step, with_pins(mesh, change(host, mesh, strength)), host.document.state.held)

    return beside(step, run)


def _held_corners(host: Edits, mesh: PolyMesh) -> Bools:
    """Corners at held points, at the ends of held edges and of held faces."""
    held, out = host.document.state.held, np.zeros(mesh.n_corners, bool)
    points = np.zeros(mesh.n_points, bool)
    points[held.of("points")] = True
    points[mesh.topology.edge_points[held.of("edges")].ravel()] = True
    out |= points[mesh.corners]
    return out | np.isin(mesh.face_of_corner, held.of("faces"))


def _pin_held(host: Edits, mesh: PolyMesh, strength: Floats) -> Floats:
    return np.maximum(strength, _held_corners(host, mesh))


def _pin_border(host: Edits, mesh: PolyMesh, strength: Floats) -> Floats:
    topology = mesh.topology
    ends = np.zeros(mesh.n_corners, bool)
    out = (topology.twin < 0) | border_flags(mesh)[topology.edge]
    ends[np.flatnonzero(out)] = True
    ends[topology.next[np.flatnonzero(out)]] = True
    return np.maximum(strength, ends)


def has_pins(state: State) -> bool:
    """Points of the active UV set are pinned."""
    return state.jacket is not None and PIN + state.jacket.mesh.active_uv in state.jacket.mesh.corner_data


COMMANDS = (
    Command("turn-islands", "Turn the islands", "direction upright orient rotate rows", "", has_uvs, edit("turn the islands", _turn)),
    Command("why-warps", "Look why it warps", "stretch reason cause pull", "", has_faces, _find, waits=True),
    Command("true-islands", "True the islands", "balance angles areas stretch conformal", "", has_uvs, long_edit("true the islands", _true), waits=True),
    Command("refine-held", "Refine what is held", "stretch less relax optimise", "", has_held, long_edit("refine what is held", _refine), waits=True),
    Command("straighten-held", "Straighten held edges", "line row align", "", has_held,
            long_edit("straighten edges", _straighten, _reached, _shaped_mesh), waits=True),
    Command("round-held", "Round the held loop", "circle ring", "", has_held, long_edit("round a loop", _round, _reached, _shaped_mesh), waits=True),
    Command("pin-held", "Pin what is held", "fix keep", "", has_held, _pinned("pin what is held", _pin_held)),
    Command("pin-border", "Pin the outlines", "fix border", "", has_uvs, _pinned("pin the outlines", _pin_border)),
    Command("invert-pins", "Invert the pins", "fix opposite", "", has_uvs, _pinned("invert the pins", lambda host, mesh, now: 1 - now)),
    Command("clear-pins", "Take all pins away", "fix release", "", has_pins, _pinned("take all pins away", lambda host, mesh, now: 0 * now)),
)  # fmt: skip
