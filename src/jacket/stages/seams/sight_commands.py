"""Sight lines: the views from which seams are not to show."""

from __future__ import annotations

from collections.abc import Callable

from jacket.commands.common import always, has_held, has_layer, long_edit
from jacket.commands.host import Edits, Host
from jacket.commands.model import Command
from jacket.core.derive import shown_of
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.seams.hiding import Led, led_hidden
from jacket.core.uv.sets import cut_flags
from jacket.document.edits import seams
from jacket.document.state import State
from jacket.document.task import Job
from jacket.stages.seams.held import held_edges
from jacket.stages.seams.values import SeamsValues


def has_sights(state: State) -> bool:
    """Sight lines are saved."""
    return bool(state.sights)


def _add(kind: str) -> Callable[[Host], None]:
    def run(host: Host) -> None:
        eye, target = host.looks_from()
        seams.add_sight(host.document, kind, eye, target)

    return run


def _walk(host: Host) -> None:
    """All round the form at the height of somebody's eyes over its lowest point."""
    mesh = host.document.require_jacket().mesh
    eye, target = host.looks_from()
    low = float(mesh.points[:, 1].min()) if mesh.n_points else 0.0
    height = low + host.values(SeamsValues).eye_height
    sight = seams.add_sight(host.document, "ring", (eye[0], height, eye[2]), target, "Walk")
    host.say(f"{sight.name}: all round at {height:.4g} u, as far off as one stands now.")


def _hide(host: Edits, mesh: PolyMesh) -> Job:
    edges, sights = held_edges(host, mesh), host.document.state.sights
    return lambda progress: (mesh, led_hidden(mesh, cut_flags(mesh), edges, shown_of(mesh, sights)))


def _hidden(result: tuple[PolyMesh, Led]) -> PolyMesh:
    mesh, led = result
    return mesh.with_cuts(mesh.topology.edge_points[led.cut]) if led.moved else mesh


def _said(result: tuple[PolyMesh, Led]) -> str:
    led = result[1]
    if not led.moved:
        return "No other way near by is seen less for its length; held seams stay."
    return (f"{led.moved} chain{'s' if led.moved > 1 else ''} led another way: seen {100 * led.before:.0f} → "
            f"{100 * led.after:.0f} %, {100 * (led.longer - 1):+.0f} % of length.")  # fmt: skip


def _clear(host: Host) -> None:
    document = host.document
    document.apply("forget all sight lines", document.state.with_(sights=()))


COMMANDS = (
    Command("sight-here", "Save this view as a sight line", "camera seen hidden game view", "", always, _add("eye")),
    Command("sight-ring", "Save a turntable as sight lines", "camera round seen hidden", "", always, _add("ring")),
    Command("sight-walk", "Save a walk round at eye height", "camera first person seen hidden", "", has_layer, _walk),
    Command("sight-around", "Save all around as sight lines", "camera sphere seen hidden", "", always, _add("around")),
    Command("hide-held", "Lead held seams where they hide", "seen hidden better place reroute sight", "", has_held,
            long_edit("lead seams where they hide", _hide, _said, _hidden), waits=True),
    Command("clear-sights", "Forget all sight lines", "camera seen remove", "", has_sights, _clear),
)  # fmt: skip
