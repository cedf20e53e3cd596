"""What Tidy does, as commands."""

from __future__ import annotations

from dataclasses import replace

from jacket.commands.beside import LARGE
from jacket.commands.common import has_faces
from jacket.commands.host import Host, Run
from jacket.commands.model import Command
from jacket.core.mesh.polymesh import PolyMesh
from jacket.document.document import Document
from jacket.document.task import Task, on_layer
from jacket.stages.topology.tools.tidying import TIDYINGS, Tidying
from jacket.stages.topology.values import TopologyValues


def _tidying(row: Tidying) -> Run:
    def run(host: Host) -> None:
        document = host.document
        document.open_jacket()
        ground = on_layer(document.state)

        def merge(mesh: PolyMesh) -> None:
            same = mesh.n_points == ground.mesh.n_points and not row.long
            document.edit_layer(row.step, ground.id, mesh, document.state.held if same else None)

        values = host.values(TopologyValues)
        if not row.long and ground.mesh.n_faces < LARGE:
            merge(row.run(document, values))
            return
        # Long ones work on a document of their own, over the state as it is now.
        frozen, kept = Document(document.state), replace(values)
        host.start(Task(row.step, lambda progress: row.run(frozen, kept), merge, (ground,), lambda: run(host)))

    return run


COMMANDS = tuple(
    Command(row.id, row.label, f"tidy {row.words}", "", has_faces, _tidying(row), waits=row.long) for row in TIDYINGS.values()
)
