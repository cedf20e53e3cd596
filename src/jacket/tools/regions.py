"""Which elements of the jacket lie in a box, a lasso or under a sweeping brush on the screen."""

from __future__ import annotations

import numpy as np

from jacket.core.derive import form_of
from jacket.core.mesh.geometry import face_centres, face_normals, point_normals, unit
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.mesh.tables import finite_rows
from jacket.core.space.bvh import Bvh
from jacket.core.store import STORE
from jacket.tools.events import Pointer
from jacket.tools.pick import screen_points, slack_for, visible


def box_outline(a: tuple[float, float], b: tuple[float, float]) -> Floats:
    """(4, 2) corners of the box between two places."""
    return np.array([a, (b[0], a[1]), b, (a[0], b[1])], float)


def near_place(x: float, y: float, radius: float, at: Floats) -> Bools:
    """(N,) which places lie within a radius of a place; NaN does not."""
    return np.hypot(at[:, 0] - x, at[:, 1] - y) <= radius


def element_places(mesh: PolyMesh, kind: str) -> tuple[Floats, Floats]:
    """Middles and unit normals of all elements of a kind."""

    def make() -> tuple[Floats, Floats]:
        if kind == "faces":
            return face_centres(mesh), face_normals(mesh)
        normals = point_normals(mesh)
        if kind == "points":
            return mesh.points.copy(), normals
        ends = mesh.topology.edge_points
        return mesh.points[ends].mean(axis=1), unit(normals[ends].sum(axis=1))

    return STORE.get(form_of(mesh), ("places", kind), make)


def elements_on_screen(mesh: PolyMesh, pointer: Pointer, kind: str) -> tuple[Floats, Ints]:
    """Places on the screen (K, 2) and the element at each, in the view the pointer is in."""
    if pointer.flat is not None:
        return _on_sheet(mesh, pointer, kind)
    assert pointer.form is not None
    if kind == "points":
        return screen_points(mesh, pointer.form)[:, :2], np.arange(mesh.n_points)
    places, _ = element_places(mesh, kind)
    return pointer.form.project(places)[:, :2], np.arange(len(places))


def _on_sheet(mesh: PolyMesh, pointer: Pointer, kind: str) -> tuple[Floats, Ints]:
    uv = mesh.uv
    assert pointer.flat is not None
    if uv is None:
        return np.zeros((0, 2)), np.zeros(0, np.int32)
    at = pointer.flat.project(uv)
    if kind == "points":
        return at, mesh.corners
    if kind == "edges":
        return (at + at[mesh.topology.next]) / 2, mesh.topology.edge
    total = np.zeros((mesh.n_faces, 2))
    np.add.at(total, mesh.face_of_corner, at)
    return total / mesh.sizes[:, None], np.arange(mesh.n_faces)


def seen(mesh: PolyMesh, pointer: Pointer, kind: str, ids: Ints, hiding: Bvh | None) -> Ints:
    """Those of the elements that face the eye and that no source hides; in the flat view all of them."""
    if pointer.form is None or len(ids) == 0:
        return ids
    places, normals = element_places(mesh, kind)
    towards = ((pointer.form.eye - places[ids]) * normals[ids]).sum(axis=1) > 0
    loose = ~finite_rows(normals[ids]) | (np.abs(normals[ids]).sum(axis=1) == 0)
    ids = ids[towards | loose]
    return ids[visible(pointer.form, places[ids], hiding, slack_for(mesh, hiding))]
