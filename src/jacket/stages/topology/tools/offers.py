"""What Draft could do with a click or a drag where the pointer is, each with the ghost that shows it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.mesh.walks import edge_loop, edge_ring
from jacket.tools.events import NO_GHOST, Ghost, Pointer
from jacket.tools.pick import NOTHING, Pick


@dataclass(frozen=True, eq=False)
class Offer:
    """One thing a click or drag could do here."""

    kind: str
    ghost: Ghost
    face: tuple[int, ...] = ()
    position: Floats | None = None
    pick: Pick = NOTHING
    edges: Ints | None = None


NOTHING_OFFERED = Offer("", NO_GHOST)


def closing_offer(
    mesh: PolyMesh, face: tuple[int, ...], position: Floats | None, what: str, kind: str = "close"
) -> Offer:
    """To close a face from points that are there and, where one is missing, a new one at a position."""
    ring = mesh.points[list(face)]
    if position is not None and len(face) < (3 if kind == "triangle" else 4):
        ring = np.concatenate([ring, position[None]])
    lines = np.stack([ring, np.roll(ring, -1, axis=0)], axis=1)
    return Offer(kind, Ghost(lines=lines, what=what, how="click"), face, position)


def point_offer(mesh: PolyMesh, found: Pick) -> Offer:
    """To move a point."""
    ghost = Ghost(marks=mesh.points[[found.id]], what="Move the point", how="drag")
    return Offer("move", ghost, pick=found, edges=np.array([found.id], np.int32))


def face_offer(mesh: PolyMesh, found: Pick) -> Offer:
    """To move a face."""
    ring = mesh.points[mesh.face(found.id)]
    lines = np.stack([ring, np.roll(ring, -1, axis=0)], axis=1)
    return Offer("move", Ghost(lines=lines, what="Move the face", how="drag"), pick=found, edges=mesh.face(found.id))


def edge_offers(mesh: PolyMesh, found: Pick, pointer: Pointer) -> list[Offer]:
    """To pull a border edge (all of it with Shift) or move an inner one, and to insert a loop across either."""
    topology = mesh.topology
    ends = topology.edge_points[found.id]
    if topology.edge_uses[found.id] == 1:
        edges = edge_loop(mesh, found.id) if pointer.shift else np.array([found.id], np.int32)
        lines = mesh.points[topology.edge_points[edges]]
        what = "Pull the whole border" if pointer.shift else "Pull a quad"
        pull = Offer("pull", Ghost(lines=lines, what=what, how="drag"), pick=found, edges=edges)
        return [pull, *loop_offer(mesh, found)]
    loop = loop_offer(mesh, found)
    move = Offer("move", Ghost(lines=mesh.points[ends][None], what="Move the edge", how="drag"), pick=found, edges=ends)
    return [*loop, move]


def loop_offer(mesh: PolyMesh, found: Pick) -> list[Offer]:
    """To insert a loop across an edge, where there is a row to insert it in."""
    ring = edge_ring(mesh, found.id)
    if len(ring) < 2:
        return []
    share = _share_along(mesh, ring, found)
    p = mesh.points[mesh.corners[ring]]
    q = mesh.points[mesh.corners[mesh.topology.next[ring]]]
    path = (1 - share) * p + share * q
    closed = int(mesh.topology.edge[ring[0]]) == int(mesh.topology.edge[ring[-1]]) or (
        mesh.topology.twin[ring[-1]] >= 0 and _meets(mesh, ring)
    )
    ahead = np.roll(path, -1, axis=0) if closed else path[1:]
    lines = np.stack([path[: len(ahead)], ahead], axis=1)
    return [Offer("loop", Ghost(lines=lines, what="Insert a loop", how="click"), pick=found)]


def _share_along(mesh: PolyMesh, ring: list[int], found: Pick) -> float:
    """The picked share measured along the ring's own half-edges."""
    for c in ring:
        if int(mesh.topology.edge[c]) == found.id:
            start = int(mesh.topology.edge_points[found.id, 0])
            return found.share if int(mesh.corners[c]) == start else 1 - found.share
    return found.share


def _meets(mesh: PolyMesh, ring: list[int]) -> bool:
    """Whether the far side of the ring's last quad is the edge it began with."""
    topology = mesh.topology
    far = topology.next[topology.next[ring[-1]]]
    return int(topology.edge[far]) == int(topology.edge[ring[0]])
