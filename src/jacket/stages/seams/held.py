"""What is held, as edges to cut or sew."""

from __future__ import annotations

from typing import Any

import numpy as np

from jacket.commands.host import Edits
from jacket.core.mesh.choosing import as_kind, outline
from jacket.core.mesh.polymesh import Ints, PolyMesh
from jacket.errors import JacketError


def held_edges(host: Edits, mesh: PolyMesh) -> Ints:
    """Edges that are held, and the outline of held faces. Raises JacketError where only points are held."""
    rows: list[Any] = []
    for held in host.document.state.held.parts:
        if held.kind == "edges":
            rows.append(as_kind(mesh, "edges", held.ids, "edges"))
        elif held.kind == "faces":
            rows.append(outline(mesh, "faces", held.ids))
    if not rows:
        raise JacketError("Hold edges or faces first; points cannot be cut.")
    return np.unique(np.concatenate(rows)).astype(np.int32)
