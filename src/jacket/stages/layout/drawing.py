"""The layout as pictures, drawn beside the window."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from jacket.commands.host import Host
from jacket.document.task import Task
from jacket.errors import JacketError
from jacket.jobs.picture import guide_curves, layout_pictures
from jacket.progress import Progress
from jacket.stages.layout.values import LayoutValues


def draw_to(host: Host, path: Path) -> None:
    """Draw every sheet with the visible layers that lie on it. What makes no sense is said."""
    state = host.document.state
    layers = [(j.mesh, {r.id: r.name for r in j.islands}) for j in state.jackets
              if j.visible and j.mesh.uv is not None and np.isfinite(j.mesh.uv).any()]  # fmt: skip
    sheets = state.sheets
    try:
        settings = host.values(LayoutValues).picture()
    except JacketError as error:
        host.say(str(error))
        return

    def job(progress: Progress) -> Any:
        return layout_pictures(layers, path, sheets, settings, progress, guide_curves(state))

    def merge(paths: Any) -> None:
        host.say(f"Wrote {', '.join(p.name for p in paths[:3])}{' …' if len(paths) > 3 else ''} in {path.parent}.")

    host.start(Task("draw the layout", job, merge))
