"""Sewing on the sheet: the island that moves is laid against the other along what was sewn, and stays flat."""

from __future__ import annotations

import numpy as np

from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.seams.cuts import sew_edges
from jacket.core.uv.areas import face_uv_areas
from jacket.core.uv.islands import Islands


def stitched(mesh: PolyMesh, edges: Ints, islands: Islands, larger: bool = False) -> tuple[PolyMesh, bool]:
    """The mesh with cut edges sewn and the island on one side of them moved, turned and scaled so that they meet.

    islands   the islands before, over the sheet
    larger    whether the larger island comes to the smaller one, not the other way
    Returns the mesh and whether the two lie joined: they stay apart where an island is not mapped, where the edges lie
    within one island, or where joining would turn a face over.
    """
    topology, uv = mesh.topology, mesh.uv
    sewn = sew_edges(mesh, edges)
    if uv is None:
        return sewn, False
    corner = topology.edge_corner[edges]
    corner = corner[topology.twin[corner] >= 0]
    twin = topology.twin[corner]
    one, other = islands.labels[mesh.face_of_corner[corner]], islands.labels[mesh.face_of_corner[twin]]
    pairs = np.unique(np.sort(np.stack([one, other], axis=1), axis=1), axis=0)
    joined = False
    for a, b in pairs.tolist():
        if a == b or not islands.mapped[[a, b]].all():
            continue
        small, big = (a, b) if (islands.pixel_area[a] <= islands.pixel_area[b]) != larger else (b, a)
        use = ((one == small) & (other == big)) | ((one == big) & (other == small))
        mine = np.where(one[use] == small, corner[use], twin[use])
        theirs = np.where(one[use] == small, twin[use], corner[use])
        new = _laid_against(mesh, sewn.uv if sewn.uv is not None else uv, islands, small, mine, theirs)
        if new is not None:
            sewn, joined = sewn.with_uv(new), True
    return sewn, joined


def _laid_against(mesh: PolyMesh, uv: Floats, islands: Islands, small: int, mine: Ints, theirs: Ints) -> Floats | None:
    """(C, 2) coordinates with an island brought to the half-edges `theirs` by its own, `mine`; None where a face would turn
    over."""
    topology = mesh.topology
    # A half-edge and its twin run against each other.
    here = np.concatenate([mine, topology.next[mine]])
    there = np.concatenate([topology.next[theirs], theirs])
    a, b = uv[here] @ [1, 1j], uv[there] @ [1, 1j]
    # The turn, size and shift that bring one row of points to another with least squares (complex: Umeyama 1991 in the plane).
    ma, mb = a.mean(), b.mean()
    turn = ((b - mb) * (a - ma).conj()).sum() / max(float((np.abs(a - ma) ** 2).sum()), 1e-300)
    if abs(turn) < 1e-12:
        return None
    own = islands.corner_labels == small
    moved = (uv[own] @ [1, 1j] - ma) * turn + mb
    out = uv.copy()
    out[own] = np.stack([moved.real, moved.imag], axis=1)
    # What was sewn lies together: every corner of the island at those points takes the place of the other side.
    point_of = mesh.corners[here]
    place: dict[int, Floats] = dict(zip(point_of.tolist(), uv[there], strict=True))
    fan = np.flatnonzero(own & np.isin(mesh.corners, point_of))
    near = out[fan]
    ends = np.array([place[int(p)] for p in mesh.corners[fan]])
    # Only corners that hang together there: another seam through the same point keeps its own side.
    close = np.hypot(*(near - ends).T) <= 0.5 * float(np.abs(b - mb).max()) + 1e-12
    out[fan[close]] = ends[close]
    before, after = face_uv_areas(mesh, uv), face_uv_areas(mesh, out)
    faces = np.flatnonzero(islands.labels == small)
    turned = (np.sign(after[faces]) != np.sign(before[faces])) & (np.abs(before[faces]) > 0)
    return None if turned.any() else out
