"""Quads put in place of some faces of a jacket and welded to what lies around them.

Where the new quads end in the very points of the border they are welded point to point. Else a ring of quads joins the
two borders: most quads go from an edge to an edge; where one border has two edges more, a quad takes both and ends in
one point of the other.
"""

from __future__ import annotations

import numpy as np
from scipy.spatial import cKDTree

from jacket.core.fit.opening import opened
from jacket.core.fit.relax import relaxed, untangled
from jacket.core.jit import kernel
from jacket.core.mesh.edits import faces_removed, points_welded
from jacket.core.mesh.geometry import unit
from jacket.core.mesh.joining import faces_joined
from jacket.core.mesh.pieces import put_side_by_side, split_off
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.mesh.walks import face_parts
from jacket.core.quads.clusters import untied
from jacket.core.space.bvh import Bvh
from jacket.errors import EditRefused

EXTRA = 1.5
"""What a quad that takes two edges of one border costs beside the slant of its sides."""


def part_of(jacket: PolyMesh, faces: Ints) -> tuple[PolyMesh | None, PolyMesh]:
    """(what stays, None where nothing does; the chosen faces as a mesh)."""
    if len(np.unique(faces)) == jacket.n_faces:
        return None, jacket
    if len(faces) == 0:
        raise EditRefused("Hold the faces that are to be made anew first.")
    return split_off(jacket, faces)


def welded_in(rest: PolyMesh | None, patch: PolyMesh, reach: float) -> PolyMesh:
    """What stays and a patch whose border points lie on points of it (within `reach`), as one mesh."""
    if rest is None:
        return patch
    border = np.flatnonzero(patch.topology.border_points)
    far, near = cKDTree(rest.points).query(patch.points[border])
    if (far > reach).any() or len(np.unique(near)) != len(near):
        raise EditRefused("The new quads do not end in the border of the chosen part; nothing was changed.")
    whole = put_side_by_side([rest, patch])
    return points_welded(whole, np.stack([border + rest.n_points, near], axis=1)).mesh


def inner_part(patch: PolyMesh, jacket: PolyMesh, faces: Ints, room: float) -> PolyMesh:
    """The faces of a patch that lie over the chosen faces of a jacket, `room` away from their border or more; single
    faces that hang on at one side are dropped."""
    chosen = np.zeros(jacket.n_faces, bool)
    chosen[faces] = True
    triangle = Bvh.build(jacket.points, jacket.triangle_points).closest(patch.points)[1]
    inside = chosen[jacket.triangle_faces[triangle]]
    border = _border_segments(faces_removed(jacket, np.flatnonzero(~chosen)).mesh if not chosen.all() else jacket)
    if len(border):
        inside &= Bvh.of_segments(border).closest(patch.points)[2] >= room
    keep: Bools = np.asarray(inside[patch.as_quads()].all(axis=1))
    topology = patch.topology
    across = np.where(topology.twin >= 0, topology.twin // 4, -1).reshape(-1, 4)
    while True:
        mates = (keep[across] & (across >= 0)).sum(axis=1)
        thin = keep & (mates < 2)
        if not thin.any():
            break
        keep &= ~thin
    return _without_pinches(patch, keep)


def _border_segments(mesh: PolyMesh) -> Floats:
    topology = mesh.topology
    return mesh.points[topology.edge_points[topology.border_edges]]


def _without_pinches(patch: PolyMesh, keep: Bools) -> PolyMesh:
    """The kept faces, without those at points where the rest would hang together by a point only."""
    for _ in range(20):
        if not keep.any():
            raise EditRefused("The chosen part is too narrow to be made anew; hold more faces, four across or more.")
        mesh = faces_removed(patch, np.flatnonzero(~keep)).mesh if not keep.all() else patch
        topology = mesh.topology
        ends = mesh.corners[np.concatenate(list(topology.border_loops))] if topology.border_loops else []
        twice = np.bincount(np.asarray(ends, np.int64), minlength=mesh.n_points) > 1
        if not twice.any():
            return _largest_parts(mesh)
        bad = twice[mesh.corners].reshape(-1, 4).any(axis=1)
        keep[np.flatnonzero(keep)[bad]] = False
    raise EditRefused("The chosen part cannot be joined to the new quads; hold a rounder one.")


def _largest_parts(mesh: PolyMesh) -> PolyMesh:
    """Without crumbs of under a tenth of the largest part."""
    count, label = face_parts(mesh)
    size = np.bincount(label, minlength=count)
    small = size < 0.1 * size.max()
    return faces_removed(mesh, np.flatnonzero(small[label])).mesh if small.any() else mesh


def sewn_in(rest: PolyMesh | None, region: PolyMesh, patch: PolyMesh, surface: Bvh, rings: int = 4) -> PolyMesh:
    """What stays, joined by rings of quads to a patch that lies inside the region it replaces, and relaxed `rings` rows
    deep. Raises EditRefused where the borders do not fit to one another."""
    if rest is None:
        return patch
    outer = [region.points[region.corners[loop]] for loop in region.topology.border_loops]
    loops = [patch.corners[loop] for loop in patch.topology.border_loops]
    if len(outer) != len(loops):
        raise EditRefused(
            f"The chosen part has {len(outer)} borders, the new quads have {len(loops)}; hold a part without narrow places."
        )
    whole = put_side_by_side([rest, patch])
    tree = cKDTree(rest.points)
    rows: list[list[int]] = []
    left = list(range(len(loops)))
    for ring in outer:
        ids = tree.query(ring)[1]
        best = min(left, key=lambda k: float(np.linalg.norm(patch.points[loops[k]].mean(axis=0) - ring.mean(axis=0))))
        left.remove(best)
        inner = loops[best]
        if (len(ring) + len(inner)) % 2:
            raise EditRefused(
                f"A border of {len(ring)} edges and one of {len(inner)} cannot be joined by quads; hold one face more or less."
            )
        for a, b in ring_between(ring, patch.points[inner]):
            rows.append([int(ids[k]) for k in a] + [int(inner[k]) + rest.n_points for k in reversed(b)])
    joined = faces_joined(whole, np.zeros((0, 3)), rows).mesh
    old = np.arange(joined.n_points) < rest.n_points
    joined = untied(joined, old)
    near = np.zeros(joined.n_points, bool)
    near[np.unique(joined.corners[old[joined.corners]])] = True
    for _ in range(rings):
        near[np.unique(joined.corners.reshape(-1, 4)[near[joined.corners.reshape(-1, 4)].any(axis=1)])] = True
    free = near & (np.arange(joined.n_points) >= rest.n_points)
    return settled_part(joined, ~free, surface)


def settled_part(mesh: PolyMesh, held: Bools, surface: Bvh, rounds: int = 40) -> PolyMesh:
    """Free points relaxed on the surface and folds and thin corners opened, the others held."""
    out = untangled(relaxed(mesh, surface, rounds, held=held, mending=10.0), surface, None)
    # Folds were opened by moving others too, who go back: what that closes again free points have to open.
    return opened(mesh.with_points(np.where(held[:, None], mesh.points, out.points)), surface, held)


def ring_between(outer: Floats, inner: Floats) -> list[tuple[list[int], list[int]]]:
    """Quads between two closed borders (N, 3) and (M, 3) that run the same way, N + M even: of each the one or two edges
    it has of the outer and none to two of the inner, as point numbers. The straightest sides are taken as a whole, by
    dynamic programming over pairs of points."""
    slant = _slants(outer, inner)
    n, m = slant.shape
    first = int(np.argmin(slant.min(axis=1)))
    best: tuple[float, list[tuple[int, int]]] | None = None
    for start in (first, (first + 1) % n):
        for mate in np.argsort(slant[start])[:6].tolist():
            turned = np.roll(np.roll(slant, -start, axis=0), -mate, axis=1)
            cost, back = _cheapest(turned, EXTRA)
            if best is None or cost[n, m] < best[0] - 1e-12:
                stops = [(n, m)]
                while stops[-1] != (0, 0):
                    i, j = stops[-1]
                    kind = int(back[i, j])
                    stops.append((i - (1, 2, 0)[kind], j - (1, 0, 2)[kind]))
                best = (float(cost[n, m]), [((i + start) % n, (j + mate) % m) for i, j in stops[::-1]])
    assert best is not None
    if not np.isfinite(best[0]):
        raise EditRefused("These borders cannot be joined by quads; hold a larger part.")
    out = []
    for (i, j), (k, l) in zip(best[1][:-1], best[1][1:], strict=True):
        out.append((_between(i, k, n), _between(j, l, m)))
    return out


def _between(first: int, last: int, count: int) -> list[int]:
    """Numbers from first to last round a ring, at most two steps."""
    out = [first]
    while out[-1] != last:
        out.append((out[-1] + 1) % count)
    return out


def _slants(outer: Floats, inner: Floats) -> Floats:
    """(N, M) how slanted and long the side from each outer to each inner point would be."""
    along = unit(np.roll(outer, -1, axis=0) - np.roll(outer, 1, axis=0))
    inside = unit(np.roll(inner, -1, axis=0) - np.roll(inner, 1, axis=0))
    way = inner[None] - outer[:, None]
    length = np.linalg.norm(way, axis=2)
    usual = max(float(np.median(length.min(axis=1))), 1e-300)
    way = way / np.maximum(length, 1e-300)[..., None]
    slant = np.einsum("nmk,nk->nm", way, along) ** 2 + np.einsum("nmk,mk->nm", way, inside) ** 2
    return np.asarray(slant + (length / usual) ** 2)


@kernel
def _cheapest(slant, extra):
    """Least cost (n+1, m+1) to join the first i and j edges, and the last step: 0 edge to edge, 1 two of the outer, 2 two
    of the inner."""
    n, m = slant.shape
    cost = np.full((n + 1, m + 1), np.inf)
    back = np.zeros((n + 1, m + 1), np.int32)
    cost[0, 0] = 0.0
    for i in range(n + 1):
        for j in range(m + 1):
            if i == 0 and j == 0:
                continue
            here = slant[i % n, j % m]
            if i >= 1 and j >= 1 and cost[i - 1, j - 1] + here < cost[i, j]:
                cost[i, j] = cost[i - 1, j - 1] + here
                back[i, j] = 0
            if i >= 2 and cost[i - 2, j] + here + extra < cost[i, j]:
                cost[i, j] = cost[i - 2, j] + here + extra
                back[i, j] = 1
            if j >= 2 and cost[i, j - 2] + here + extra < cost[i, j]:
                cost[i, j] = cost[i, j - 2] + here + extra
                back[i, j] = 2
    return cost, back
