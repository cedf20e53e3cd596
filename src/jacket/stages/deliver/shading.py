"""Hard and soft edges of the active layer: by angle, along islands, where something is held."""

from __future__ import annotations

import numpy as np

from jacket.commands.beside import Quiet
from jacket.commands.host import Edits
from jacket.core.derive import islands_of, surface_of
from jacket.core.fit.lifted import settled
from jacket.core.mesh.geometry import scaled_jacobian
from jacket.core.mesh.polymesh import Bools, PolyMesh
from jacket.core.mesh.shading import HARD, hard_by_angle, with_hard
from jacket.core.mesh.support import supported
from jacket.errors import JacketError
from jacket.stages.deliver.values import DeliverValues
from jacket.tools.mirror import partner_edge


def by_angle(host: Edits, mesh: PolyMesh) -> PolyMesh:
    """Exactly the edges hard that bend more than the angle that is set."""
    return hard_by_angle(mesh, host.values(DeliverValues).hard_angle)


def along_islands(host: Edits, mesh: PolyMesh) -> PolyMesh:
    """Exactly the borders of islands hard. Raises JacketError where nothing is flat yet."""
    if mesh.uv is None:
        raise JacketError("Nothing is flat yet, so there are no borders of islands; flatten the jacket first.")
    border = np.zeros(mesh.topology.n_edges, bool)
    border[mesh.topology.edge[islands_of(mesh, host.document.state.sheets).border_corners]] = True
    return mesh.with_mark(HARD, mesh.topology.edge_points[border & (mesh.topology.edge_uses == 2)])


def held_edges(host: Edits, mesh: PolyMesh) -> Bools:
    """(E,) held edges, and those between held faces. Raises JacketError where there are none."""
    topology, held = mesh.topology, host.document.state.held
    flags = np.zeros(topology.n_edges, bool)
    flags[held.of("edges")] = True
    faces = np.zeros(mesh.n_faces, bool)
    faces[held.of("faces")] = True
    flags[topology.edge[faces[mesh.face_of_corner]]] = True
    if not flags.any():
        raise JacketError("Hold the edges that are to be hard or soft first.")
    return flags


def hard_held(host: Edits, mesh: PolyMesh) -> PolyMesh:
    """Held edges hard."""
    return with_hard(mesh, held_edges(host, mesh), True)


def soft_held(host: Edits, mesh: PolyMesh) -> PolyMesh:
    """Held edges soft."""
    return with_hard(mesh, held_edges(host, mesh), False)


def support(host: Quiet) -> None:
    """A loop on both sides of the held edges, laid onto the source where that turns no face over; says how many there are."""
    state, mesh = host.document.state, host.document.open_jacket().mesh
    held = state.held.of("edges")
    if len(held) == 0:
        raise JacketError("Hold the edges that are to be supported first; the check of soft square corners finds them.")
    flags = np.zeros(mesh.topology.n_edges, bool)
    flags[held] = True
    if state.mirror:
        flags[[e for e in (partner_edge(mesh, int(k), state.mirror) for k in held) if e >= 0]] = True
    flat, added, loops = supported(mesh, flags, host.values(DeliverValues).support / 100)
    source = state.source
    new = settled(flat, surface_of(source.mesh) if source is not None else None, added, new=True)
    host.document.edit_jacket("support edges", _without_folds(flat, new))
    more = new.n_faces - mesh.n_faces
    host.say(f"{loops} loop{'s' if loops > 1 else ''} came in, {more:,} quads more." if loops else "These edges have their loops already.")


def _without_folds(flat: PolyMesh, new: PolyMesh) -> PolyMesh:
    """A mesh whose points were laid onto the source, but for those of faces that this would fold: they stay as they were."""
    for _ in range(4):
        bad = (scaled_jacobian(new) <= 0) & (scaled_jacobian(flat) > 0)
        if not bad.any():
            break
        points, back = new.points.copy(), np.unique(new.corners[bad[new.face_of_corner]])
        points[back] = flat.points[back]
        new = new.with_points(points)
    return new


def all_soft(_: Edits, mesh: PolyMesh) -> PolyMesh:
    """No edge hard."""
    return mesh.with_mark(HARD, np.zeros((0, 2), np.int32))
