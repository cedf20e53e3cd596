"""Commands of the Source stage. Mending is proposed first: what it touches is shown, and only then taken."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from jacket.core.derive import count_crossings, moved_surface, surface_of
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.source import mend, placing
from jacket.core.source.denoise import noise_smoothed
from jacket.core.source.holes import holes_closed
from jacket.core.source.mend import Mend
from jacket.core.source.reduce import reduced
from jacket.core.source.symmetry import find_plane, plane_to_x
from jacket.document.edits import sources as sources_steps
from jacket.document.state import SourceObject, State
from jacket.errors import JacketError
from jacket.progress import Progress, part

if TYPE_CHECKING:
    from jacket.stages.commands import Host

Values = dict[str, Any]


@dataclass(frozen=True, eq=False)
class Proposal:
    """A mend that was worked out for a source and is looked at before it is taken."""

    name: str
    source_id: int
    before: PolyMesh
    mend: Mend


SOURCE_VALUES: Values = {
    "keep": 1, "hole": 0.0, "weld": 0.0, "rounds": 4, "noise_sharp": 45.0, "reduce": 500_000,
    "factor": 1.0, "unit": "centimetres", "up": "z",
}  # fmt: skip
"""What the Source stage's fields hold at first; a length of nought means one that fits the source."""


def fitting_length(value: float, mesh: PolyMesh, share: float) -> float:
    """A typed length, or a share of the diagonal in two digits where none was typed."""
    if value > 0 or mesh.diagonal == 0:
        return value
    return float(f"{share * mesh.diagonal:.1e}")


HOLE_SHARE, WELD_SHARE = 0.25, 1e-5

MENDS: dict[str, tuple[str, Callable[[PolyMesh, Values, Progress], Mend]]] = {
    "close-holes": ("close holes", lambda m, v, p: holes_closed(m, fitting_length(v["hole"], m, HOLE_SHARE), p)),
    "keep-largest": ("keep the largest parts", lambda m, v, p: mend.parts_kept(m, int(v["keep"]))),
    "drop-repeats": ("drop repeated and flat faces", lambda m, v, p: mend.repeats_dropped(m)),
    "split-nonmanifold": ("split what is not manifold", lambda m, v, p: mend.nonmanifold_split(m)),
    "turn-outward": ("turn faces outward", lambda m, v, p: mend.turned_outward(m)),
    "weld-points": ("weld points", lambda m, v, p: mend.points_welded(m, fitting_length(v["weld"], m, WELD_SHARE))),
    "smooth-noise": ("smooth noise", lambda m, v, p: noise_smoothed(m, int(v["rounds"]), float(v["noise_sharp"]), p)),
    "reduce": ("reduce", lambda m, v, p: reduced(m, int(v["reduce"]), p)),
}
"""Each mend by its command: its name, and what it does to a mesh."""


def proposing(command_id: str) -> Callable[[Host], None]:
    """A command that works a mend out and shows it."""
    name, work = MENDS[command_id]

    def run(host: Host) -> None:
        source, values = host.document.open_source(), dict(host.values)
        _propose(host, name, source, lambda progress: work(source.mesh, values, progress))

    return run


def picked_parts(keep: bool) -> Callable[[Host], None]:
    """Keep or drop the picked faces of the chosen source."""

    def run(host: Host) -> None:
        source, picked = host.document.open_source(), host.document.state.picked.ids
        faces = np.setdiff1d(np.arange(source.mesh.n_faces), picked) if keep else picked
        name = "keep what was picked" if keep else "drop what was picked"
        _propose(host, name, source, lambda progress: mend.faces_dropped(source.mesh, faces))

    return run


def _propose(host: Host, name: str, source: SourceObject, work: Callable[[Progress], Mend]) -> None:
    def job(progress: Progress) -> Mend:
        progress(0.0, name)
        return work(part(progress, 0.0, 1.0))

    host.work(name, job, lambda result: host.propose(Proposal(name, source.id, source.mesh, result)))


def take_proposal(host: Host) -> None:
    """Do what was proposed, as one step."""
    proposal = host.proposal
    if proposal is None:
        raise JacketError("Nothing is proposed; choose what to put right first.")
    host.propose(None)
    source = sources_steps.source_of(host.document, proposal.source_id)
    if source.mesh is not proposal.before:
        raise JacketError(f"The source changed meanwhile, so '{proposal.name}' was not done; ask for it again.")

    def done(_: Any) -> None:
        sources_steps.edit_source(host.document, proposal.name, proposal.source_id, proposal.mend.mesh)
        host.say(f"{proposal.mend.said}.")

    prepared(host, proposal.name, proposal.mend.mesh, done)


def prepared(host: Host, name: str, mesh: PolyMesh, done: Callable[[Any], None]) -> None:
    """Derive what picking and drawing need of a new source mesh in the background, then go on."""
    host.work(name, lambda progress: host.prepare(mesh, progress), done)


def leave_proposal(host: Host) -> None:
    """Leave the source as it is."""
    host.propose(None)


# ---- placing -----------------------------------------------------------------------------------------


def _placing(name: str, matrix: Callable[[SourceObject, Values], Any]) -> Callable[[Host], None]:
    """A command that moves the chosen source, and the jackets with it where it is the only one."""

    def run(host: Host) -> None:
        source = host.document.open_source()
        move_source(host, name, source, matrix(source, dict(host.values)))

    return run


def move_source(
    host: Host, name: str, source: SourceObject, matrix: Any, after: Callable[[], None] = lambda: None
) -> None:
    """Move a source by a matrix: at once, or in the background where it is large; then do what comes after."""
    if np.array_equal(matrix, np.eye(4)):
        host.say("The source stands so already.")
        return
    if source.mesh.n_points < 150_000:
        mesh = placing.placed(source.mesh, matrix)
        moved_surface(mesh, source.mesh)
        sources_steps.place_source(host.document, name, source.id, matrix, mesh)
        after()
        return

    def job(progress: Progress) -> PolyMesh:
        progress(0.1, name)
        mesh = placing.placed(source.mesh, matrix)
        moved_surface(mesh, source.mesh)
        host.prepare(mesh, part(progress, 0.3, 1.0))
        return mesh

    def done(mesh: PolyMesh) -> None:
        if sources_steps.source_of(host.document, source.id).mesh is not source.mesh:
            raise JacketError(f"The source changed meanwhile, so '{name}' was not done; do it again.")
        sources_steps.place_source(host.document, name, source.id, matrix, mesh)
        after()

    host.work(name, job, done)


PLACINGS: dict[str, Callable[[Host], None]] = {
    "scale-factor": _placing("scale by a factor", lambda s, v: placing.scaling(float(v["factor"]))),
    "from-unit": _placing("read as another unit", lambda s, v: placing.unit_scaling(str(v["unit"]))),
    "up-axis": _placing("set the up axis", lambda s, v: placing.up_axis_turn(str(v["up"]))),
    "stand-flat": _placing("stand on the largest flat part", lambda s, v: placing.upright_by_flat(s.mesh)),
    "to-ground": _placing("stand on the ground", lambda s, v: placing.standing(s.mesh)),
    "centre": _placing("centre", lambda s, v: placing.centring(s.mesh)),
    "back-to-file": _placing("back to how it came", lambda s, v: np.linalg.inv(s.placing)),
}


def find_mirror(host: Host) -> None:
    """Find the plane about which the chosen source is most symmetric and show the difference."""
    source = host.document.require_source() and host.document.state.chosen_source
    assert source is not None

    def job(progress: Progress) -> Any:
        return find_plane(source.mesh, surface_of(source.mesh), progress)

    def done(plane: Any) -> None:
        host.show_mirror(source, plane)
        host.say(f"The best mirror plane leaves a mean difference of {plane.mean:.2f} % of the diagonal.")

    host.work("looking for the mirror plane", job, done)


def mirror_to_x(host: Host) -> None:
    """Move the source so that the plane found is the X plane, and mirror across it from now on."""
    source = host.document.open_source()
    plane = host.mirror_plane
    if plane is None:
        raise JacketError("No mirror plane was found yet; use Find the mirror plane first.")
    host.show_mirror(None, None)

    def mirror() -> None:
        document = host.document
        document.apply("mirror X", document.state.with_(mirror="x"))

    move_source(host, "set the mirror plane", source, plane_to_x(plane), mirror)


def count_self_intersections(host: Host) -> None:
    """Count where the chosen source goes through itself."""
    source = host.document.require_source() and host.document.state.chosen_source
    assert source is not None

    def done(pairs: Any) -> None:
        host.refresh_checks()
        host.say(f"{len(pairs):,} pairs of triangles go through each other." if len(pairs) else
                 "The source nowhere goes through itself.")  # fmt: skip

    host.work("counting self-intersections", lambda progress: count_crossings(source.mesh, progress), done)


def has_chosen(state: State) -> bool:
    """Whether there is a source to work on."""
    return state.chosen_source is not None


def has_picked(state: State) -> bool:
    """Whether faces of the source are picked."""
    return len(state.picked) > 0


def several_sources(state: State) -> bool:
    """Whether there are two visible sources or more."""
    return sum(s.visible for s in state.sources) > 1


def lock_source(host: Host) -> None:
    """Lock the chosen source, or unlock it."""
    source = host.document.state.chosen_source
    if source is not None:
        word = "unlock" if source.locked else "lock"
        sources_steps.change_source(host.document, f"{word} {source.name}", source.id, locked=not source.locked)


def rename_source(host: Host) -> None:
    """Give the chosen source another name."""
    source = host.document.state.chosen_source
    if source is None:
        return
    name = (host.ask_text("Rename the source", "Name", source.name) or "").strip()
    if name and name != source.name:
        sources_steps.change_source(host.document, f"rename to {name}", source.id, name=name)


def remove_source(host: Host) -> None:
    """Take the chosen source off the bench."""
    source = host.document.open_source()
    sources_steps.remove_source(host.document, source.id)
