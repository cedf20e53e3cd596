"""Mending a source: each mend gives the mended mesh and shows what it touched, so that it can be looked at
before it is taken."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import kernel
from jacket.core.mesh.connectivity import corner_orbits
from jacket.core.mesh.edits import faces_turned
from jacket.core.mesh.geometry import edge_lengths
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.mesh.walks import face_parts
from jacket.core.source.health import degenerate_faces, duplicate_faces, inside_out, winding_edges
from jacket.core.source.rebuild import put_together
from jacket.core.source.weld import weld_map
from jacket.core.source.winding import paired_twins, uneven_faces
from jacket.errors import MeshError


def _no_triangles() -> Floats:
    return np.zeros((0, 3, 3))


@dataclass(frozen=True, eq=False)
class Mend:
    """mesh    the mended source
    said    what was or will be done, one sentence without its full stop
    goes    (K, 3, 3) triangles that go or are turned
    comes   (K, 3, 3) triangles that come
    lines   (S, 2, 3) edges and borders it is about
    """

    mesh: PolyMesh
    said: str
    goes: Floats = field(default_factory=_no_triangles)
    comes: Floats = field(default_factory=_no_triangles)
    lines: Floats = field(default_factory=lambda: np.zeros((0, 2, 3)))

    @property
    def nothing(self) -> bool:
        """Whether there was nothing to mend."""
        return not (len(self.goes) or len(self.comes) or len(self.lines))


def triangles_of(mesh: PolyMesh, faces: NDArray[Any]) -> Floats:
    """(K, 3, 3) corners of the triangles of some faces."""
    if mesh.is_triangles:
        return mesh.points[mesh.triangle_points[faces]]
    chosen = np.zeros(mesh.n_faces, bool)
    chosen[faces] = True
    return mesh.points[mesh.triangle_points[chosen[mesh.triangle_faces]]]


def _plural(n: int, word: str) -> str:
    return f"{n:,} {word}{'' if n == 1 else 's'}"


def points_joined(mesh: PolyMesh) -> PolyMesh:
    """The mesh over points joined where their positions are equal; faces that lose a corner go."""
    kept, new = weld_map(mesh.points)
    if len(kept) == mesh.n_points:
        return mesh
    return _over(mesh, mesh.points[kept], kept, new[mesh.corners])


def _over(mesh: PolyMesh, points: Floats, point_from: Ints, corners: Ints) -> PolyMesh:
    """The mesh over other points. Triangles that would repeat a point are left out; larger faces lose
    that corner only where three are left."""
    whole = corners != corners[mesh.topology.next]
    if whole.all():
        return put_together(mesh, corners=corners, points=points, point_from=point_from)
    bad = np.unique(mesh.face_of_corner[~whole])
    keep = np.ones(mesh.n_faces, bool)
    keep[bad] = False
    added = []
    for f in bad[mesh.sizes[bad] > 3].tolist():
        ring = corners[mesh.starts[f] : mesh.starts[f + 1]]
        ring = ring[ring != np.roll(ring, -1)]
        if len(ring) == 3 and len(set(ring.tolist())) == 3:
            added.append(ring)
    extra = np.array(added, np.int32).reshape(-1, 3)
    return put_together(mesh, np.flatnonzero(keep), corners, points, point_from, extra)


# ---- parts -------------------------------------------------------------------------------------------


def parts_kept(mesh: PolyMesh, most: int) -> Mend:
    """Keep the `most` largest parts by area of their faces' count; smaller ones go."""
    if most < 1:
        raise MeshError("At least one part has to stay; ask for one or more.")
    joined = points_joined(mesh)
    count, labels = face_parts(joined)
    if count <= most:
        return Mend(mesh, f"There are only {_plural(count, 'part')}, so all stay")
    sizes = np.bincount(labels, minlength=count)
    stay = np.zeros(count, bool)
    stay[np.argsort(-sizes, kind="stable")[:most]] = True
    return _faces_dropped(joined, ~stay[labels], f"{_plural(count - most, 'loose part')} go")


def faces_dropped(mesh: PolyMesh, faces: NDArray[Any]) -> Mend:
    """Drop chosen faces."""
    gone = np.zeros(mesh.n_faces, bool)
    gone[faces] = True
    if gone.all():
        raise MeshError("Nothing would be left of the source; choose less.")
    return _faces_dropped(mesh, gone, f"{_plural(int(gone.sum()), 'chosen face')} go")


def _faces_dropped(mesh: PolyMesh, gone: NDArray[np.bool_], said: str) -> Mend:
    faces = np.flatnonzero(gone)
    return Mend(put_together(mesh, np.flatnonzero(~gone)), f"{said}: {_plural(len(faces), 'face')}",
                goes=triangles_of(mesh, faces))  # fmt: skip


# ---- faces and points that should not be -------------------------------------------------------------


def repeats_dropped(mesh: PolyMesh) -> Mend:
    """Drop faces that repeat others and faces without area. A flat sliver that stands between two faces is
    closed by joining the ends of its shortest edge, so no slit opens."""
    joined = points_joined(mesh)
    repeats = duplicate_faces(joined)
    flat = degenerate_faces(joined)
    if len(repeats) == 0 and len(flat) == 0:
        return Mend(mesh, "There are no repeated faces and none without area")
    goes = triangles_of(joined, np.unique(np.concatenate([repeats, flat])))
    keep = np.ones(joined.n_faces, bool)
    keep[repeats] = False
    clean = put_together(joined, np.flatnonzero(keep))
    for _ in range(8):
        flat = degenerate_faces(clean)
        if len(flat) == 0:
            break
        clean = _slivers_closed(clean, flat)
    lines = np.concatenate([goes[:, [0, 1]], goes[:, [1, 2]], goes[:, [2, 0]]])
    return Mend(clean, f"{_plural(len(goes), 'face')} that repeat others or have no area go", goes=goes, lines=lines)


def _slivers_closed(mesh: PolyMesh, flat: Ints) -> PolyMesh:
    """Join the ends of the shortest edge of flat faces; needles of three points in a row, whose shortest edge
    is long, hand their long edge's middle point to the face beyond instead."""
    new = np.arange(mesh.n_points, dtype=np.int32)
    points = mesh.points
    touched = np.zeros(mesh.n_points, bool)
    split: dict[int, tuple[int, int]] = {}
    gone = []
    for f in flat.tolist():
        corner = np.arange(mesh.starts[f], mesh.starts[f + 1])
        ring = mesh.corners[corner]
        if touched[ring].any():
            continue
        length = np.linalg.norm(points[np.roll(ring, -1)] - points[ring], axis=1)
        k, long = int(np.argmin(length)), int(np.argmax(length))
        if len(ring) == 3 and length[k] > 0.02 * length[long]:
            across = int(mesh.topology.twin[corner[long]])
            middle = int(ring[(long + 2) % 3])
            if across >= 0 and mesh.sizes[mesh.face_of_corner[across]] == 3:
                other = int(mesh.face_of_corner[across])
                if touched[mesh.face(other)].any() or other in split or middle in mesh.face(other):
                    continue
                split[other] = (across, middle)
                touched[mesh.face(other)] = True
            touched[ring] = True
            gone.append(f)
            continue
        a, b = int(ring[k]), int(ring[(k + 1) % len(ring)])
        new[max(a, b)] = min(a, b)
        touched[ring] = True
    if gone:
        keep = np.ones(mesh.n_faces, bool)
        keep[gone] = False
        keep[list(split)] = False
        added = []
        for across, middle in split.values():
            p, q = int(mesh.corners[across]), int(mesh.corners[mesh.topology.next[across]])
            tip = int(mesh.corners[mesh.topology.prev[across]])
            added += [[p, middle, tip], [middle, q, tip]]
        mesh_out = put_together(mesh, np.flatnonzero(keep), new[mesh.corners], added=np.array(added).reshape(-1, 3))
        return _without_folds(mesh_out)
    return _without_folds(_over(mesh, points, np.arange(mesh.n_points), new[mesh.corners]))


def _without_folds(mesh: PolyMesh) -> PolyMesh:
    """Faces that name a point twice go, and both of a pair that became the same."""
    tri = mesh.is_triangles
    if tri:
        t = mesh.triangle_points
        good = (t[:, 0] != t[:, 1]) & (t[:, 1] != t[:, 2]) & (t[:, 2] != t[:, 0])
        if not good.all():
            mesh = put_together(mesh, np.flatnonzero(good))
    if mesh.n_faces == 0:
        return mesh
    repeats = duplicate_faces(mesh)
    if len(repeats) == 0:
        return mesh
    keep = np.ones(mesh.n_faces, bool)
    keep[repeats] = False
    return put_together(mesh, np.flatnonzero(keep))


def points_welded(mesh: PolyMesh, distance: float) -> Mend:
    """Join points closer than `distance`, nearest representatives first in the order of the points."""
    if not distance >= 0:
        raise MeshError("A distance to weld over has to be nought or more.")
    kept, new = weld_map(mesh.points)
    points = mesh.points[kept]
    if distance > 0:
        from scipy.spatial import cKDTree

        tree = cKDTree(points)
        pairs_there = (int(tree.count_neighbors(tree, distance)) - len(points)) // 2
        if pairs_there > MOST_PAIRS:
            raise MeshError(
                f"Welding over {distance:g} would join each point with {2 * pairs_there / len(points):,.0f} others and leave "
                f"little of the form; choose less than its edges are long, about {_usual_edge(mesh):.2g}."
            )
        pairs = tree.query_pairs(distance, output_type="ndarray")
        if len(pairs):
            near = _clustered(len(points), pairs[np.lexsort((pairs[:, 1], pairs[:, 0]))])
            first = np.unique(near)
            index = np.full(len(points), -1, np.int32)
            index[first] = np.arange(len(first))
            new, kept, points = index[near][new], kept[first], points[first]
    gone = mesh.n_points - len(kept)
    if gone == 0:
        return Mend(mesh, "No points lie close enough to be welded")
    result = _without_folds(_over(mesh, points, kept, new[mesh.corners]))
    if result.n_faces == 0:
        raise MeshError(f"Welding over {distance:g} would leave no face; its edges are about {_usual_edge(mesh):.2g} long, choose less.")
    touched = np.bincount(new, minlength=len(points)) > 1
    faces = np.unique(mesh.face_of_corner[touched[new[mesh.corners]]])
    lines = _face_edges(mesh, faces[:200_000])
    return Mend(result, f"{_plural(gone, 'point')} are welded to others", lines=lines)


def _usual_edge(mesh: PolyMesh) -> float:
    return float(np.median(edge_lengths(mesh)))


MOST_PAIRS = 20_000_000
"""Pairs of near points that are looked at in one weld: a few hundred megabytes."""


@kernel
def _clustered(n, pairs):
    """(n,) the point each is joined to: a free point takes those within reach that are still free."""
    to = np.arange(n).astype(np.int32)
    taken = np.zeros(n, np.bool_)
    head = np.zeros(n, np.bool_)
    for k in range(len(pairs)):
        a, b = pairs[k, 0], pairs[k, 1]
        if not taken[a] and not taken[b] and not head[b]:
            to[b] = a
            taken[b] = True
            head[a] = True
    return to


def _face_edges(mesh: PolyMesh, faces: NDArray[Any]) -> Floats:
    edges = np.unique(mesh.topology.edge[np.isin(mesh.face_of_corner, faces)])
    return mesh.points[mesh.topology.edge_points[edges]]


# ---- winding and manifoldness ------------------------------------------------------------------------


def turned_outward(mesh: PolyMesh) -> Mend:
    """Make neighbours run the same way round, and closed parts face outward; open parts keep the way that
    most of their area runs."""
    joined = points_joined(mesh)
    flip = uneven_faces(joined)
    turned = faces_turned(joined, flip)
    count, labels = face_parts(turned)
    flip ^= inside_out(turned, count, labels)[labels]
    faces = np.flatnonzero(flip)
    if len(faces) == 0:
        bad = len(winding_edges(joined))
        return Mend(mesh, f"{_plural(bad, 'edge')} cannot be made even: the surface has one side only" if bad else
                    "All faces already run the same way and outward")  # fmt: skip
    return Mend(
        faces_turned(joined, flip), f"{_plural(len(faces), 'face')} are turned over", goes=triangles_of(joined, faces)
    )


def nonmanifold_split(mesh: PolyMesh) -> Mend:
    """Come apart along edges of more than two faces and at points that join several fans: afterwards every
    edge has one or two faces and every point one fan. Bodies that touch stay closed."""
    joined = points_joined(mesh)
    topology = joined.topology
    edges = topology.nonmanifold_edges
    twin = paired_twins(joined)
    fans, origin = corner_orbits(topology.next, topology.prev, twin, joined.corners)
    doubled = PolyMesh(joined.points[origin], fans, joined.starts).topology.twin == -2
    if len(edges) and doubled.any():
        # Two edges between the same points would count as one; these are opened.
        twin[doubled] = -1
        fans, origin = corner_orbits(topology.next, topology.prev, twin, joined.corners)
    extra = len(origin) - len(np.unique(origin))
    if extra == 0:
        return Mend(mesh, "Every edge and point is manifold already")
    result = put_together(joined, corners=fans, points=joined.points[origin], point_from=origin)
    several = np.bincount(origin, minlength=joined.n_points) > 1
    at = joined.points[several]
    reach = 0.002 * joined.diagonal
    cross = np.concatenate([np.stack([at - reach * d, at + reach * d], axis=1) for d in np.eye(3)])
    lines = np.concatenate([joined.points[topology.edge_points[edges]], cross])
    return Mend(result, f"{_plural(int(several.sum()), 'point')} come apart into {_plural(extra + int(several.sum()), 'fan')}",
                lines=lines)  # fmt: skip
