"""Commands of the Source stage. Mending is proposed first: what it touches is shown, and only then taken."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from jacket.commands.common import always, edit, has_chosen
from jacket.commands.host import Edits, Host, Proposal, Run
from jacket.commands.model import Command
from jacket.core.derive import count_crossings, moved_surface, surface_of
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.source import mend as mends
from jacket.core.source import placing
from jacket.core.source.mend import Mend
from jacket.core.source.symmetry import find_plane, plane_to_x
from jacket.document.edits import sources
from jacket.document.state import SourceObject, State
from jacket.document.task import Ground, Job, Task
from jacket.errors import JacketError
from jacket.jobs.mend import MENDS, mend
from jacket.jobs.refit import refit_all
from jacket.progress import Progress, part, silent
from jacket.stages.source.reading import read_newer
from jacket.stages.source.values import SourceValues

# ---- mending -----------------------------------------------------------------------------------------------------


def _proposing(what: str) -> Run:
    """A command that works a mend out and shows it."""

    def run(host: Host) -> None:
        source, settings = host.document.open_source(), host.values(SourceValues).mending()
        mesh = source.mesh
        _propose(host, MENDS[what][0], source, lambda progress: mend(what, mesh, settings, progress), lambda: run(host))

    return run


def _picked_parts(keep: bool) -> Run:
    """Keep or drop the picked faces of the chosen source."""

    def run(host: Host) -> None:
        source, picked = host.document.open_source(), host.document.state.picked.ids
        mesh = source.mesh
        faces = np.setdiff1d(np.arange(mesh.n_faces), picked) if keep else picked
        name = "keep what was picked" if keep else "drop what was picked"
        _propose(host, name, source, lambda progress: mends.faces_dropped(mesh, faces), None)

    return run


def _propose(host: Host, name: str, source: SourceObject, job: Job, again: Callable[[], None] | None) -> None:
    def merge(result: Mend) -> None:
        host.propose(Proposal(name, source.id, source.mesh, result))

    host.start(Task(name, job, merge, (Ground("source", source.id, source.mesh),), again))


def take_proposal(host: Host) -> None:
    """Do what was proposed, as one step; the proposal stays until that is done."""
    proposal = host.proposal
    if proposal is None:
        raise JacketError("Nothing is proposed; choose what to put right first.")
    source = sources.source_of(host.document, proposal.source_id)
    if source.mesh is not proposal.before:
        host.propose(None)
        raise JacketError(f"The source changed meanwhile, so '{proposal.name}' was not done; ask for it again.")
    host.document.open_source()
    mesh = proposal.mend.mesh

    def job(progress: Progress) -> PolyMesh:
        host.prepare(mesh, progress)
        return mesh

    def merge(result: PolyMesh) -> None:
        sources.edit_source(host.document, proposal.name, proposal.source_id, result)
        host.propose(None)
        host.say(f"{proposal.mend.said}.")

    host.start(Task(proposal.name, job, merge, (Ground("source", source.id, source.mesh),)))


def leave_proposal(host: Host) -> None:
    """Leave the source as it is."""
    host.propose(None)


# ---- placing -----------------------------------------------------------------------------------------------------


def _placing(name: str, matrix: Callable[[SourceObject, SourceValues], Any]) -> Run:
    """A command that moves the chosen source, and the jackets with it where it is the only one."""

    def run(host: Host) -> None:
        source, values = host.document.open_source(), replace(host.values(SourceValues))
        move_source(host, name, source, lambda: matrix(source, values))

    return run


SMALL = 150_000
"""Points up to which a source is moved at once."""


def move_source(
    host: Host, name: str, source: SourceObject, finds: Callable[[], Any], after: Callable[[], None] = lambda: None
) -> None:
    """Move a source by the matrix that `finds` works out: at once, or beside the window where it is large; then do what comes
    after."""
    before = source.mesh

    def job(progress: Progress) -> tuple[Any, PolyMesh] | None:
        progress(0.1, name)
        matrix = finds()
        if np.array_equal(matrix, np.eye(4)):
            return None
        mesh = placing.placed(before, matrix)
        moved_surface(mesh, before)
        if before.n_points >= SMALL:
            host.prepare(mesh, part(progress, 0.3, 1.0))
        return matrix, mesh

    def merge(found: tuple[Any, PolyMesh] | None) -> None:
        if found is None:
            host.say("The source stands so already.")
            return
        sources.place_source(host.document, name, source.id, *found)
        after()

    if before.n_points < SMALL:
        merge(job(silent))
        return
    host.start(Task(name, job, merge, (Ground("source", source.id, before),)))


PLACINGS: dict[str, Run] = {
    "scale-factor": _placing("scale by a factor", lambda s, v: placing.scaling(v.factor)),
    "from-unit": _placing("read as another unit", lambda s, v: placing.unit_scaling(v.unit)),
    "up-axis": _placing("set the up axis", lambda s, v: placing.up_axis_turn(v.up)),
    "stand-flat": _placing("stand on the largest flat part", lambda s, v: placing.upright_by_flat(s.mesh)),
    "to-ground": _placing("stand on the ground", lambda s, v: placing.standing(s.mesh)),
    "centre": _placing("centre", lambda s, v: placing.centring(s.mesh)),
    "back-to-file": _placing("back to how it came", lambda s, v: np.linalg.inv(s.placing)),
}


# ---- mirror, crossings ---------------------------------------------------------------------------------------------


def _need_chosen(host: Edits) -> SourceObject:
    source = host.document.state.chosen_source
    if source is None:
        raise JacketError("There is no source yet; open a sculpt or scan first.")
    return source


def find_mirror(host: Host) -> None:
    """Find the plane about which the chosen source is most symmetric and show the difference."""
    source = _need_chosen(host)
    mesh = source.mesh

    def merge(plane: Any) -> None:
        host.show_mirror(source, plane)
        host.say(f"The best mirror plane leaves a mean difference of {plane.mean:.2f} % of the diagonal.")

    host.start(Task("look for the mirror plane", lambda progress: find_plane(mesh, surface_of(mesh), progress), merge,
                    (Ground("source", source.id, mesh),)))  # fmt: skip


def mirror_to_x(host: Host) -> None:
    """Move the source so that the plane found is the X plane, and mirror across it from now on."""
    source, plane = host.document.open_source(), host.mirror_plane
    if plane is None:
        raise JacketError("No mirror plane was found yet; use Find the mirror plane first.")

    def mirror() -> None:
        document = host.document
        host.show_mirror(None, None)
        document.apply("mirror X", document.state.with_(mirror="x"))

    move_source(host, "set the mirror plane", source, lambda: plane_to_x(plane), mirror)


def count_self_intersections(host: Host) -> None:
    """Count where the chosen source goes through itself."""
    source = _need_chosen(host)
    mesh = source.mesh

    def merge(pairs: Any) -> None:
        host.refresh_checks()
        host.say(f"{len(pairs):,} pairs of triangles go through each other." if len(pairs) else
                 "The source nowhere goes through itself.")  # fmt: skip

    host.start(Task("count self-intersections", lambda progress: count_crossings(mesh, progress), merge))


# ---- sources as objects --------------------------------------------------------------------------------------------


def has_picked(state: State) -> bool:
    """Whether faces of the source are picked."""
    return len(state.picked) > 0


def several_sources(state: State) -> bool:
    """Whether there are two visible sources or more."""
    return sum(s.visible for s in state.sources) > 1


def was_placed(state: State) -> bool:
    """Whether the chosen source was moved since it came."""
    return state.chosen_source is not None and state.chosen_source.was_placed


def lock_source(host: Host) -> None:
    """Lock the chosen source, or unlock it."""
    source = _need_chosen(host)
    word = "unlock" if source.locked else "lock"
    sources.change_source(host.document, f"{word} {source.name}", source.id, locked=not source.locked)


def rename_source(host: Host) -> None:
    """Give the chosen source another name."""
    source = _need_chosen(host)
    name = (host.ask_text("Rename the source", "Name", source.name) or "").strip()
    if name and name != source.name:
        sources.change_source(host.document, f"rename to {name}", source.id, name=name)


def remove_source(host: Host) -> None:
    """Take the chosen source off the bench."""
    sources.remove_source(host.document, host.document.open_source().id)


def take_new_file(host: Host) -> None:
    """Read the file of the source that changed, or of the chosen one, again; move it as the old one was, and refit to it
    the open layers that lie on it."""
    document = host.document
    source = host.newer_source() or document.state.chosen_source
    if source is None or not source.path:
        raise JacketError("This source came from no file, so there is no newer one to take.")
    layers = {j.id: j.mesh for j in sources.layers_over(document.state, source.id) if not j.locked}
    before = source.mesh

    def job(progress: Progress) -> Any:
        mesh, stamp = read_newer(source, part(progress, 0.0, 0.4))
        host.prepare(mesh, part(progress, 0.4, 0.7))
        return mesh, stamp, refit_all(layers, mesh, surface_of(mesh), surface_of(before), part(progress, 0.7, 1.0))

    def merge(found: Any) -> None:
        mesh, stamp, fitted = found
        sources.take_new_source(document, source.id, mesh, stamp, fitted.jackets)
        if not fitted.jackets:
            return
        if not host.display.is_on("moved"):
            host.show(host.display.toggled("moved"))
        tail = f"; {fitted.poor:,} {'point is' if fitted.poor == 1 else 'points are'} refitted badly, see the checks" if fitted.poor else ""
        host.say(f"{source.name} is new; the jacket was refitted and shows how far it moved{tail}.")

    grounds = (Ground("source", source.id, before), *(Ground("layer", k, m) for k, m in layers.items()))
    host.start(Task(f"take the new {source.name}", job, merge, grounds, lambda: take_new_file(host)))


def has_moves(state: State) -> bool:
    """Whether the jacket still carries the marks of a refit."""
    return state.jacket is not None and "moved" in state.jacket.mesh.point_data


def _without_moves(host: Edits, mesh: PolyMesh) -> PolyMesh:
    return mesh.with_(point_data={k: v for k, v in mesh.point_data.items() if k not in ("moved", "poor")})


def _mending(id_: str, label: str, words: str) -> Command:
    return Command(id_, label, f"mend repair fix {words}", "", has_chosen, _proposing(id_), waits=True)


def _place(id_: str, label: str, words: str) -> Command:
    return Command(id_, label, f"place transform {words}", "", has_chosen, PLACINGS[id_])


COMMANDS = (
    _mending("close-holes", "Close holes", "fill gaps watertight borders"),
    _mending("keep-largest", "Keep the largest parts", "debris floating loose islands remove"),
    Command("keep-picked", "Keep what is picked", "mend parts loose debris", "", has_picked, _picked_parts(True)),
    Command("drop-picked", "Drop what is picked", "mend parts loose debris remove delete", "", has_picked, _picked_parts(False)),
    _mending("drop-repeats", "Drop repeated and flat faces", "duplicate degenerate zero area"),
    _mending("turn-outward", "Turn faces outward", "winding normals flip inside out orientation"),
    _mending("split-nonmanifold", "Split what is not manifold", "edges vertices bow tie"),
    _mending("weld-points", "Weld points", "merge by distance cracks"),
    _mending("smooth-noise", "Smooth noise", "denoise scan bilateral"),
    _mending("reduce", "Reduce triangles", "decimate simplify fewer"),
    Command("take-proposal", "Do what is proposed", "apply accept mend preview", "", always, take_proposal),
    Command("leave-proposal", "Leave the source as it is", "cancel drop mend preview", "", always, leave_proposal),
    _place("scale-factor", "Scale by the factor", "size resize"),
    _place("from-unit", "Read as the unit", "millimetres centimetres inches feet size scale"),
    _place("up-axis", "Set the up axis", "rotate turn orientation z up"),
    _place("stand-flat", "Stand on the largest flat part", "upright rotate turn level"),
    _place("to-ground", "Stand on the ground", "floor zero lowest"),
    _place("centre", "Centre over the origin", "middle zero"),
    _place("back-to-file", "Back to how it came", "reset undo placing"),
    Command("freeze", "Freeze where it stands", "apply transform placing", "", was_placed, lambda h: sources.freeze_source(h.document)),
    Command("find-mirror", "Find the mirror plane", "symmetry plane automatic", "", has_chosen, find_mirror, waits=True),
    Command("mirror-to-x", "Make it the X plane", "symmetry mirror plane align", "", has_chosen, mirror_to_x),
    Command("count-crossings", "Count self-intersections", "overlap inside through itself", "", has_chosen, count_self_intersections, waits=True),
    Command("join-sources", "Join the visible sources", "merge combine objects", "", several_sources, lambda h: sources.join_sources(h.document)),
    Command("lock-source", "Lock or unlock the source", "protect reference", "", has_chosen, lock_source),
    Command("rename-source", "Rename the source…", "name label", "", has_chosen, rename_source),
    Command("remove-source", "Take the source off the bench", "delete close remove", "", has_chosen, remove_source),
    Command("take-new-file", "Take the new file of the source", "reload refresh refit changed update", "", has_chosen, take_new_file, waits=True),
    Command("forget-moves", "Forget how far the jacket moved", "refit marks heat clear", "", has_moves, edit("forget how far it moved", _without_moves)),
)  # fmt: skip
