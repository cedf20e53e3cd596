"""Commands of the Deliver stage."""

from __future__ import annotations

from pathlib import Path

from jacket.commands.host import Host
from jacket.commands.model import Command
from jacket.core.derive import surface_of
from jacket.document.state import State
from jacket.document.task import Task
from jacket.errors import JacketError
from jacket.jobs.deliver import Delivered, DeliverLayer, DeliverSettings, deliver
from jacket.progress import Progress
from jacket.stages.deliver.values import DeliverValues


def deliverable(state: State) -> bool:
    """Some visible layer has faces."""
    return any(j.visible and j.mesh.n_faces for j in state.jackets)


def deliver_to(host: Host, folder: Path, stem: str) -> None:
    """Check all visible layers and write their files into a folder, beside the window."""
    state = host.document.state
    layers = [DeliverLayer(j.name, j.mesh, {r.id: r.name for r in j.islands}, j.islands) for j in state.jackets
              if j.visible and j.mesh.n_faces]  # fmt: skip
    if not layers:
        raise JacketError("There are no faces to deliver; show a layer that has some.")
    settings, source = DeliverSettings(host.values(DeliverValues).profile, state.sheets, stem), state.source

    def job(progress: Progress) -> Delivered:
        mesh = source.mesh if source is not None else None
        return deliver(layers, folder, settings, mesh, surface_of(mesh) if mesh is not None else None, progress=progress)

    def merge(done: Delivered) -> None:
        what = layers[0].name if len(layers) == 1 else f"{len(layers)} layers"
        wrong = [c for _, c in done.wrong]
        told = wrong or [c for found in done.checks.values() for c in found if c.level == "look"]
        tail = "; all checks are met"
        if told:
            tail = f"; {'not met' if wrong else 'worth a look'}: {told[0].label.lower()} {told[0].value}"
            tail += f" and {len(told) - 1} more" if len(told) > 1 else ""
        host.say(f"Delivered {what} as {len(done.paths)} files to {folder}{tail}.")

    host.start(Task("deliver", job, merge))


COMMANDS = (
    Command("deliver", "Deliver files…", "export obj glb gltf png report", "Ctrl+E", deliverable, lambda h: h.deliver(), waits=True),
)  # fmt: skip
