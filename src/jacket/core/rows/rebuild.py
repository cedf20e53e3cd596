"""A jacket laid anew from its T-mesh with other lengths: patches as grids between the old places."""

from __future__ import annotations

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.rows.metric import Layout, Whole, is_left
from jacket.core.rows.tmesh import HARD, TMesh


def rebuilt(tm: TMesh, plan: Layout, lengths: Whole, held: Bools | None = None) -> tuple[PolyMesh, Ints]:
    """(mesh, pairs (K, 2)): the patches with `lengths` (U,) of the unknowns, its points between the old places; and the pairs
    of points that creases join. Points of chains of which `held` (E,) flags every edge stay where they are. What has no
    length closes up; the mesh need not be sound then."""
    size = lengths[plan.of]
    new_at = _places(tm, plan, size)
    total = [int(max(spots.values())) for spots in new_at]
    number, points, same = _chain_points(tm, plan, new_at, total, held)
    places = [points]
    count = len(points)
    faces = [np.zeros((0, 4), np.int64)]
    for p in range(len(tm.patches)):
        bottom, right, top, left = (_rim(plan, size, new_at, number, p, k, same) for k in range(4))
        top, left = top[::-1], left[::-1]
        w, h = len(bottom) - 1, len(right) - 1
        # Sides meet in points of their chains, which may carry several numbers of one place.
        same += [np.stack([a, b])[None, :] for a, b in
                 ((bottom[0], left[0]), (bottom[-1], right[0]), (top[0], left[-1]), (top[-1], right[-1]))]  # fmt: skip
        if w < 1 or h < 1:
            same.append(np.stack([left, right] if w < 1 else [bottom, top], axis=1))
            continue
        grid = np.empty((h + 1, w + 1), np.int64)
        grid[0], grid[-1], grid[:, 0], grid[:, -1] = bottom, top, left, right
        inner = (h - 1) * (w - 1)
        if inner:
            grid[1:-1, 1:-1] = count + np.arange(inner).reshape(h - 1, w - 1)
            count += inner
            places.append(_inner_places(tm, p, w, h))
        faces.append(np.stack([grid[:-1, :-1], grid[:-1, 1:], grid[1:, 1:], grid[1:, :-1]], axis=-1).reshape(-1, 4))
    lines = [np.stack([number[k][:-1], number[k][1:]], axis=1) for k, c in enumerate(tm.chains) if not c.loose]
    pairs = np.concatenate(lines) if lines else np.zeros((0, 2), np.int64)
    return _closed_up(np.concatenate(places), np.concatenate(faces), pairs, np.concatenate(same))


def pairs_merged(mesh: PolyMesh, lines: Ints) -> tuple[PolyMesh, Ints]:
    """The mesh with each two quads that share two edges made one: the point between these has no other edges. Where irregular
    points of three edges have come together, such a point is left. Points on `lines` (K, 2) stay; lines in the new numbers."""
    while True:
        topology, quads = mesh.topology, mesh.as_quads()
        # A mesh laid with lengths of nothing need not be manifold: only points of just two faces are looked at.
        two = ~topology.border_points & (topology.valence == 2) & (np.bincount(quads.ravel(), minlength=mesh.n_points) == 2)
        two[lines] = False
        corner = np.flatnonzero(two[quads].ravel())
        # Points after one another in their faces: (what is merged away, the one after it, the one across, the one before it).
        around = np.stack([quads[corner // 4, (corner + k) % 4] for k in range(4)], axis=1)
        around = around[np.argsort(around[:, 0], kind="stable")].reshape(-1, 2, 4)
        # One at a time of those that meet in a face.
        face = corner[np.argsort(quads.ravel()[corner], kind="stable")].reshape(-1, 2) // 4
        taken, keep = np.zeros(len(quads), bool), np.zeros(len(face), bool)
        for k, own in enumerate(face):
            opposite = around[k, 0, 1] == around[k, 1, 3] and around[k, 0, 3] == around[k, 1, 1]
            keep[k] = opposite and not taken[own].any() and own[0] != own[1] and around[k, 0, 2] != around[k, 1, 2]
            taken[own] |= keep[k]
        if not keep.any():
            return mesh, lines
        first, second = around[keep, 0], around[keep, 1]
        new = np.concatenate([quads[~taken], np.stack([first[:, 1], first[:, 2], first[:, 3], second[:, 2]], axis=1)])
        used, local = np.unique(new, return_inverse=True)
        to = np.full(mesh.n_points, -1, np.int32)
        to[used] = np.arange(len(used))
        mesh, lines = PolyMesh.from_faces(mesh.points[used], local.reshape(-1, 4).astype(np.int32)), to[lines]


def _rim(
    plan: Layout, size: Whole, new_at: list[dict[tuple[int, bool], int]], number: list[Ints], p: int, k: int, same: list[Ints]
) -> Ints:
    """The points of side k of a patch, walked counter-clockwise; where two of its pieces meet is told to `same`."""
    run: list[int] = []
    for x in range(plan.patch[p, k], plan.patch[p, k] + plan.sides[p, k]):
        piece = plan.pieces[x]
        at = new_at[piece.chain][(piece.start, piece.left)]
        ids = number[piece.chain][at : at + int(size[x]) + 1]
        ids = ids[::-1] if piece.reverse else ids
        if run:
            same.append(np.array([[run[-1], ids[0]]]))
        run += ids[1 if run else 0 :].tolist()
    return np.array(run)


def _closed_up(points: Floats, quads: Ints, pairs: Ints, same: Ints) -> tuple[PolyMesh, Ints]:
    """A mesh in which points that are the same (K, 2) are one, and pairs in its numbers. Held borders come first, then hard
    points, and a class is where its first point is."""
    count = len(points)
    graph = coo_array((np.ones(len(same), np.int8), (same[:, 0], same[:, 1])), shape=(count, count))
    classes, of = connected_components(graph, directed=False)
    first = np.full(classes, count)
    np.minimum.at(first, of, np.arange(count))
    used, local = np.unique(first[of[quads]], return_inverse=True)
    to = np.full(count, -1, np.int64)
    to[used] = np.arange(len(used))
    pairs = to[first[of[pairs]]]
    mesh = PolyMesh.from_faces(points[used], local.reshape(-1, 4).astype(np.int32))
    return mesh, pairs[(pairs >= 0).all(axis=1)].astype(np.int32)


def _places(tm: TMesh, plan: Layout, size: Whole) -> list[dict[tuple[int, bool], int]]:
    """Per chain where each piece begins and ends now, by its old place and side."""
    out: list[dict[tuple[int, bool], int]] = [{} for _ in tm.chains]
    order = sorted(
        range(len(plan.pieces)), key=lambda x: (plan.pieces[x].chain, plan.pieces[x].left, plan.pieces[x].start)
    )
    for x in order:
        piece = plan.pieces[x]
        spots = out[piece.chain]
        at = spots.setdefault((piece.start, piece.left), 0) if piece.start == 0 else spots[(piece.start, piece.left)]
        spots[(piece.stop, piece.left)] = at + int(size[x])
    return out


def _chain_points(
    tm: TMesh, plan: Layout, new_at: list[dict[tuple[int, bool], int]], total: list[int], held: Bools | None
) -> tuple[list[Ints], Floats, list[Ints]]:
    """(numbers of each chain's points, the places of all, pairs of numbers (K, 2) that are one point)."""
    mesh = tm.mesh
    hard = np.flatnonzero(tm.hard)
    places: list[Floats] = []
    number: list[Ints] = [np.zeros(0, np.int64)] * len(tm.chains)
    count = 0

    def numbered(chains: list[int], stay: bool) -> None:
        nonlocal count
        for k in chains:
            number[k] = count + np.arange(total[k] + 1)
            count += total[k] + 1
            points = tm.chains[k].points
            places.append(_along(mesh.points[points], np.arange(total[k] + 1.0) if stay else _old_places(points, new_at[k], total[k])))

    fixed = [held is not None and bool(held[c.edges].all()) for c in tm.chains]
    # What comes to lie on a held border comes to where that is: its points come first.
    numbered([k for k, stays in enumerate(fixed) if stays], True)
    of_hard = np.full(mesh.n_points, -1, np.int64)
    of_hard[hard] = count + np.arange(len(hard))
    places.append(mesh.points[hard])
    count += len(hard)
    numbered([k for k, stays in enumerate(fixed) if not stays], False)
    same: list[Ints] = [np.zeros((0, 2), np.int64)]
    for k, chain in enumerate(tm.chains):
        for end, (kind, on) in enumerate(chain.ends):
            if kind == HARD:
                other = int(of_hard[on])
            else:
                place = int(np.flatnonzero(tm.chains[on].points == chain.points[-end])[0])
                left = is_left(mesh, tm.chains[on], place, int(chain.points[-2 if end else 1]))
                other = number[on][new_at[on][(place, left)]]
            same.append(np.array([[number[k][-end], other]]))
    return number, np.concatenate(places), same


def _old_places(points: Ints, spots: dict[tuple[int, bool], int], total: int) -> Floats:
    """(total + 1,) where along the old points each new point of a chain lies: between what met it on either side."""
    old = np.array([place for place, _ in spots], float)
    new = np.array(list(spots.values()), float)
    # What met it from the left and from the right may have changed places: both are put in order.
    at, where = np.sort(new), np.sort(old)
    own = np.unique(at)
    mean = np.array([where[at == v].mean() for v in own])
    mean[0], mean[-1] = 0.0, len(points) - 1.0
    return np.interp(np.arange(total + 1.0), own, mean)


def _along(line: Floats, where: Floats) -> Floats:
    """Places on a polyline (K, 3) by number of its points."""
    first = np.clip(np.floor(where).astype(np.int64), 0, max(len(line) - 2, 0))
    share = (where - first)[:, None]
    return line[first] * (1 - share) + line[first + 1] * share if len(line) > 1 else np.repeat(line, len(where), axis=0)


def _inner_places(tm: TMesh, p: int, w: int, h: int) -> Floats:
    """((h − 1) (w − 1), 3) places inside a patch, between its old points."""
    old = tm.mesh.points[tm.patches[p].points]
    rows = np.linspace(0, old.shape[0] - 1, h + 1)[1:-1]
    columns = np.linspace(0, old.shape[1] - 1, w + 1)[1:-1]
    j = np.clip(np.floor(rows).astype(int), 0, max(old.shape[0] - 2, 0))
    i = np.clip(np.floor(columns).astype(int), 0, max(old.shape[1] - 2, 0))
    v, u = (rows - j)[:, None, None], (columns - i)[None, :, None]
    a, b = old[np.ix_(j, i)], old[np.ix_(j, i + 1)]
    c, d = old[np.ix_(j + 1, i)], old[np.ix_(j + 1, i + 1)]
    return np.asarray(((a * (1 - u) + b * u) * (1 - v) + (c * (1 - u) + d * u) * v).reshape(-1, 3))
