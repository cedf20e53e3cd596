"""What is under the pointer: points, edges and faces of the jacket, the source, the sheet."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.derive import surface_of
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.space.bvh import Bvh, Hit
from jacket.core.space.flat import FlatGrid
from jacket.core.space.segments import near_segments
from jacket.core.store import STORE
from jacket.document.state import State
from jacket.tools.events import Pointer
from jacket.tools.view import FormCamera


@dataclass(frozen=True, eq=False)
class Pick:
    """kind: "point", "edge", "face" or ""; its id; where; the share along an edge."""

    kind: str = ""
    id: int = -1
    position: Floats | None = None
    share: float = 0.0


NOTHING = Pick()


def source_hit(state: State, pointer: Pointer) -> Hit | None:
    """Where the pointer's ray meets the visible source."""
    source = state.source
    if source is None or not source.visible or pointer.form is None:
        return None
    origin, direction = pointer.form.ray(pointer.x, pointer.y)
    return surface_of(source.mesh).ray(origin, direction)


def occluder(state: State) -> Bvh | None:
    """What can hide jacket elements."""
    source = state.source
    return surface_of(source.mesh) if source is not None and source.visible else None


def open_points(mesh: PolyMesh) -> NDArray[np.bool_]:
    """(V,) points that can still take a face: on a border or loose."""
    loose = np.bincount(mesh.corners, minlength=mesh.n_points) == 0
    return mesh.topology.border_points | loose


def slack_for(mesh: PolyMesh, hiding: Bvh | None) -> float:
    """How far behind the source an element may lie and still count as seen: quads are flat and the
    source between their points bulges over them."""
    if hiding is None or len(hiding.triangles) == 0:
        return 0.02 * mesh.diagonal
    box = hiding.boxes[0]
    return 0.015 * float(np.linalg.norm(box[3:] - box[:3]))


def visible(camera: FormCamera, points: Floats, hiding: Bvh | None, slack: Any) -> NDArray[np.bool_]:
    """(N,) whether points are not behind the hiding surface by more than `slack`, one number or (N,)."""
    if hiding is None or len(points) == 0:
        return np.ones(len(points), bool)
    away = points - camera.eye
    far = np.linalg.norm(away, axis=1)
    origins = np.tile(camera.eye, (len(points), 1))
    return ~hiding.occluded(origins, away / far[:, None], far - slack)


def screen_points(mesh: PolyMesh, camera: FormCamera) -> Floats:
    """(V, 3) projected points, kept for as long as mesh and camera stay the same."""
    return STORE.get((mesh.aspect("points"), camera), "screen", lambda: camera.project(mesh.points))


def pick(mesh: PolyMesh, pointer: Pointer, reach: float, hiding: Bvh | None, kinds: str = "point edge face") -> Pick:
    """The visible element nearest to the pointer: points before edges before faces."""
    if pointer.form is None or mesh.n_points == 0:
        return NOTHING
    camera = pointer.form
    slack = slack_for(mesh, hiding)
    edge = _nearest_edge(mesh, pointer, reach, hiding, slack) if "edge" in kinds else NOTHING
    length, far = _on_screen(mesh, camera, edge, pointer)
    if "point" in kinds:
        near = nearest_points(mesh, pointer, reach, hiding, slack, 1)
        # Over the middle third of a short edge the edge is meant, though both ends are in reach.
        if len(near) and not (edge.kind and 0.3 < edge.share < 0.7 and length < 3 * reach):
            return Pick("point", int(near[0]), mesh.points[near[0]])
    face = _face_under(mesh, pointer, hiding, slack) if "face" in kinds and mesh.n_faces else NOTHING
    if edge.kind and not (face.kind and far > 0.22 * length):
        return edge
    return face


def _on_screen(mesh: PolyMesh, camera: FormCamera, edge: Pick, pointer: Pointer) -> tuple[float, float]:
    """Length of a picked edge and its distance from the pointer, in pixels."""
    if not edge.kind or edge.position is None:
        return 0.0, np.inf
    a, b = screen_points(mesh, camera)[mesh.topology.edge_points[edge.id], :2]
    x, y, _ = camera.project(edge.position)[0]
    return float(np.hypot(*(b - a))), float(np.hypot(x - pointer.x, y - pointer.y))


def nearest_points(
    mesh: PolyMesh, pointer: Pointer, reach: float, hiding: Bvh | None, slack: float, most: int,
    among: NDArray[np.bool_] | None = None,
) -> NDArray[np.signedinteger]:  # fmt: skip
    """Visible points within `reach` pixels, nearest first, at most `most` of them."""
    assert pointer.form is not None
    at = screen_points(mesh, pointer.form)
    far = np.hypot(at[:, 0] - pointer.x, at[:, 1] - pointer.y)
    good = far <= reach
    if among is not None:
        good &= among
    ids = np.flatnonzero(good)
    ids = ids[np.argsort(far[ids], kind="stable")][: 3 * most]
    return ids[visible(pointer.form, mesh.points[ids], hiding, slack)][:most]


def _nearest_edge(mesh: PolyMesh, pointer: Pointer, reach: float, hiding: Bvh | None, slack: float) -> Pick:
    assert pointer.form is not None
    ends = mesh.topology.edge_points
    if len(ends) == 0:
        return NOTHING
    at = screen_points(mesh, pointer.form)
    ids, share, far = near_segments(at, ends, pointer.x, pointer.y, reach)
    order = np.argsort(far, kind="stable")[:12]
    ids, share, far = ids[order], share[order], far[order]
    if len(ids) == 0:
        return NOTHING
    # The share on screen becomes a share in space by the depths of the ends.
    za, zb = at[ends[ids, 0], 2], at[ends[ids, 1], 2]
    s = share * za / np.maximum(share * za + (1 - share) * zb, 1e-300)
    places = mesh.points[ends[ids, 0]] * (1 - s)[:, None] + mesh.points[ends[ids, 1]] * s[:, None]
    # A long edge is a chord: the source may bulge over its middle.
    lengths = np.linalg.norm(mesh.points[ends[ids, 0]] - mesh.points[ends[ids, 1]], axis=1)
    seen = np.flatnonzero(visible(pointer.form, places, hiding, np.maximum(slack, 0.2 * lengths)))
    if len(seen) == 0:
        return NOTHING
    depth = at[ends[ids[seen], 0], 2]
    # Among edges about equally near on screen the one in front counts.
    best = seen[int(np.argmin(far[seen] + 1e-3 * reach * (depth - depth.min()) / max(float(depth.min()), 1e-300)))]
    return Pick("edge", int(ids[best]), places[best], float(s[best]))


def edges_near(mesh: PolyMesh, pointer: Pointer, reach: float, most: int = 24) -> Ints:
    """Edges within `reach` pixels, those behind others too: the nearest on the screen first, in front before behind."""
    if pointer.form is None or len(mesh.topology.edge_points) == 0:
        return np.zeros(0, np.int32)
    at = screen_points(mesh, pointer.form)
    ids, _, far = near_segments(at, mesh.topology.edge_points, pointer.x, pointer.y, reach)
    depth = at[mesh.topology.edge_points[ids], 2].mean(axis=1)
    return ids[np.lexsort((depth, np.round(far)))][:most].astype(np.int32)


def segment_distance(p: Floats, a: Floats, b: Floats) -> tuple[Floats, Floats]:
    """Share along and distance to each of (N, 2) segments from a place (2,)."""
    d = b - a
    length2 = np.maximum((d**2).sum(axis=1), 1e-300)
    share = np.clip(((p - a) * d).sum(axis=1) / length2, 0, 1)
    return share, np.linalg.norm(a + share[:, None] * d - p, axis=1)


def _face_under(mesh: PolyMesh, pointer: Pointer, hiding: Bvh | None, slack: float) -> Pick:
    assert pointer.form is not None
    origin, direction = pointer.form.ray(pointer.x, pointer.y)
    hit = surface_of(mesh).ray(origin, direction)
    if hit is None:
        return NOTHING
    face = int(mesh.triangle_faces[hit.triangle])
    if hiding is not None:
        blocked = hiding.ray(origin, direction)
        # A wide quad is a chord: the source may bulge over its middle by a good part of its width.
        ring = mesh.points[mesh.face(face)]
        slack = max(slack, 0.3 * float(np.linalg.norm(ring - np.roll(ring, 1, axis=0), axis=1).max()))
        if blocked is not None and blocked.distance < hit.distance - slack:
            return NOTHING
    return Pick("face", face, hit.position)


def corner_shares(corners: Floats, place: Floats) -> Floats:
    """(3,) shares of a triangle's corners (3, 3) in a place (3,) of its plane."""
    e, f, d = corners[1] - corners[0], corners[2] - corners[0], place - corners[0]
    b = np.linalg.solve(np.array([[e @ e, e @ f], [e @ f, f @ f]]) + 1e-300 * np.eye(2), np.array([e @ d, f @ d]))
    return np.array([1 - b.sum(), *b])


def pick_flat(mesh: PolyMesh, pointer: Pointer, reach: float, kinds: str = "point edge face") -> Pick:
    """The element under the pointer in the flat view."""
    uv = mesh.uv
    if pointer.flat is None or uv is None or mesh.n_faces == 0:
        return NOTHING
    # Measured as on the screen: a unit across is not as long as one up on a sheet that is not square.
    aspect, scale = pointer.flat.aspect, pointer.flat.scale
    x, y = pointer.flat.place(pointer.x, pointer.y) * [aspect, 1.0]
    grid = STORE.get((mesh.aspect("faces"), mesh.aspect("uv")), ("flat grid", aspect), lambda: FlatGrid.build(
        uv * [aspect, 1.0], mesh.triangles, mesh.topology.next))  # fmt: skip
    corner, _, side, share, far, inside = grid.near(x, y, reach / scale)
    if "point" in kinds and corner >= 0:
        return Pick("point", int(mesh.corners[corner]))
    if "face" not in kinds:
        inside = -1
    if "edge" in kinds and side >= 0:
        length = float(np.hypot(*(grid.uv[grid.following[side]] - grid.uv[side])))
        if not (inside >= 0 and far > 0.22 * length):
            return Pick("edge", int(mesh.topology.edge[side]), share=share)
    return Pick("face", int(mesh.face_of_corner[inside])) if inside >= 0 else NOTHING
