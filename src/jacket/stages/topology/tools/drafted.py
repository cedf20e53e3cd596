"""What Draft does to a mesh: on the source, and on both sides of the mirror plane where one is on."""

from __future__ import annotations

from typing import Any

import numpy as np

from jacket.core.derive import surface_of
from jacket.core.fit.lifted import settled
from jacket.core.mesh.edits import borders_pulled, face_added, loop_inserted, point_added, points_moved
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.document.state import State
from jacket.errors import EditRefused
from jacket.stages.topology.tools.offers import Offer
from jacket.tools.mirror import AXES, on_plane, partner_edge, partners, reflected


def on_source(state: State, points: Floats) -> Floats:
    """Points (K, 3) laid onto the source; as they are where there is none."""
    source = state.source
    return points if source is None else surface_of(source.mesh).project(points)


def held_to_plane(state: State, points: Floats, reach: float) -> Floats:
    """Points near the mirror plane laid onto it, and back onto the source within it."""
    axis = state.mirror
    if not axis:
        return points
    near = np.abs(points[:, AXES[axis]]) < reach
    for _ in range(3):
        points[near] = on_plane(on_source(state, on_plane(points[near], axis)), axis) if near.any() else points[near]
    return points


def with_point(state: State, mesh: PolyMesh, position: Floats, reach: float) -> PolyMesh:
    """A point put on the source, on the mirror plane within `reach` of it, and its mirrored one."""
    axis = state.mirror
    place = held_to_plane(state, on_source(state, position[None]), reach)[0]
    new = point_added(mesh, place).mesh
    if axis and abs(place[AXES[axis]]) > 0:
        new = point_added(new, reflected(place, axis)).mesh
    return new


def with_quad(state: State, mesh: PolyMesh, offer: Offer, reach: float) -> PolyMesh:
    """A face closed as offered, and its mirrored one."""
    axis = state.mirror
    face = list(offer.face)
    if len(face) < (3 if offer.kind == "triangle" else 4) and offer.position is not None:
        before = mesh.n_points
        mesh = with_point(state, mesh, offer.position, reach)
        face.append(before)
    like = _outward(state, mesh, face)
    new = face_added(mesh, face, like).mesh
    if axis:
        other = partners(new, axis)[face]
        if (other >= 0).all() and set(other.tolist()) != set(face):
            new = face_added(new, other[::-1].tolist(), reflected(like, axis)).mesh
    return new


def _outward(state: State, mesh: PolyMesh, face: list[int]) -> Floats:
    """The source's normal at the middle of a face."""
    source = state.source
    if source is None:
        return np.array([0.0, 0.0, 1.0])
    surface = surface_of(source.mesh)
    _, triangle, _ = surface.closest(mesh.points[face].mean(axis=0)[None])
    a, b, c = surface.points[surface.triangles[int(triangle[0])]]
    return np.cross(b - a, c - a)


def with_loop(state: State, mesh: PolyMesh, edge: int, share: float) -> PolyMesh:
    """A loop inserted across an edge at a share of it, and its mirrored one."""
    axis = state.mirror
    first = int(mesh.topology.edge_corner[edge])
    from_start = share if int(mesh.corners[first]) == int(mesh.topology.edge_points[edge, 0]) else 1 - share
    other = partner_edge(mesh, edge, axis) if axis else -1
    ends = mesh.topology.edge_points[[edge, other]] if other >= 0 else None
    twin_start = partners(mesh, axis)[mesh.topology.edge_points[edge, 0]] if other >= 0 else -1
    edited = loop_inserted(mesh, edge, from_start)
    new = edited.mesh
    new = _settled(state, new, edited.added)
    if other >= 0 and ends is not None and other != edge:
        e = new.topology.find_edge(*ends[1].tolist())
        if e >= 0:
            c = int(new.topology.edge_corner[e])
            s = share if int(new.corners[c]) == int(twin_start) else 1 - share
            again = loop_inserted(new, e, s)
            new = _settled(state, again.mesh, again.added)
    return new


def _settled(state: State, mesh: PolyMesh, added: Ints) -> PolyMesh:
    """New points of a loop laid onto the source, or kept between lifted ones."""
    source = state.source
    return settled(mesh, surface_of(source.mesh) if source is not None else None, added, new=True)


def moved_with_mirror(state: State, mesh: PolyMesh, ids: Ints, moved: Floats) -> PolyMesh:
    """Points (K, 3) moved, and their partners across the mirror plane with them."""
    axis = state.mirror
    if not axis:
        return points_moved(mesh, ids, moved)
    table = partners(mesh, axis)[ids]
    on = table == ids
    for _ in range(3):
        if on.any():
            moved[on] = on_plane(on_source(state, on_plane(moved[on], axis)), axis)
    new = points_moved(mesh, ids, moved)
    away = (table >= 0) & ~on
    return points_moved(new, table[away], reflected(moved[away], axis))


def mirrored_pull(state: State, mesh: PolyMesh, new: PolyMesh, edges: Ints, ids: Ints, targets: dict) -> PolyMesh:  # type: ignore[type-arg]
    """The same pull on the other side, where it is a different place."""
    axis = state.mirror
    if not axis:
        return new
    table = partners(mesh, axis)
    others = [partner_edge(mesh, int(e), axis) for e in edges]
    if any(e < 0 for e in others) or set(others) & set(edges.tolist()):
        return new
    pairs = mesh.topology.edge_points[others]
    ids_there = new.topology.find_edges(pairs)
    if (ids_there < 0).any() or (new.topology.edge_uses[ids_there] != 1).any():
        return new
    there: dict[int, Any] = {}
    fresh = {p: mesh.n_points + k for k, p in enumerate(p for p in targets if np.ndim(targets[p]) > 0)}
    for p, target in targets.items():
        q = int(table[p])
        if np.ndim(target) == 0:
            there[q] = int(table[int(target)])
            if there[q] < 0:
                return new
        elif q == p:
            there[q] = fresh[p]
        else:
            there[q] = reflected(target, axis)
    try:
        return borders_pulled(new, ids_there, there).mesh
    except EditRefused:
        return new
