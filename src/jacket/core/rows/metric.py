"""What new widths and heights of the patches would cost: a quadratic form, and the whole numbers that fit together.

A change of the grid is a vector of strain on every edge, along and across it, that closes round every quad. The least
energy of such a change is quadratic in the lengths of the pieces; a line of the T-mesh stays straight, so that where one
ends on another's side counts how far its source has moved across.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import sparse

from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.rows.tmesh import TEE, Chain, Piece, TMesh
from jacket.core.solve.cholesky import Factor
from jacket.core.solve.integers import integer_kernel

STIFF = 1e5
"""How much more strain across a crease or border counts."""

LIMP = 0.5
"""How little it costs to move a line that comes from no hard point: a unit that it moves costs two."""

Whole = NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class Layout:
    """The pieces of a T-mesh as unknowns.

    pieces   in order; `of` (N,) the unknown of each, pieces that are always equal sharing one
    lengths  (N,) how long each is now
    basis    (U, K) all whole-number changes of the unknowns that fit together
    patch    (P, 4) first piece of each patch's sides; `sides` (P, 4) how many
    """

    pieces: list[Piece]
    of: Ints
    lengths: Whole
    basis: Whole
    patch: Ints
    sides: Ints


def layout(tm: TMesh, held: Bools | None = None) -> Layout:
    """The unknowns of a T-mesh and what fits together; chains of which `held` (E,) flags every edge keep their length."""
    pieces: list[Piece] = []
    patch, sides = np.zeros((len(tm.patches), 4), np.int32), np.zeros((len(tm.patches), 4), np.int32)
    for p, one in enumerate(tm.patches):
        for k, side in enumerate(one.sides):
            patch[p, k], sides[p, k] = len(pieces), len(side)
            pieces += side
    parent = np.arange(len(pieces))

    def root(x: int) -> int:
        while parent[x] != x:
            parent[x] = parent[parent[x]]
            x = int(parent[x])
        return x

    sums: list[tuple[list[int], list[int]]] = []
    for p in range(len(tm.patches)):
        for k in (0, 1):
            sums.append(tuple(list(range(patch[p, j], patch[p, j] + sides[p, j])) for j in (k, k + 2)))  # type: ignore[arg-type]
    two: dict[int, tuple[list[int], list[int]]] = {}
    for x, piece in enumerate(pieces):
        two.setdefault(piece.chain, ([], []))[0 if piece.left else 1].append(x)
    whole: list[list[int]] = []
    for c, (left, right) in two.items():
        if left and right:
            sums.append((left, right))
        if held is not None and held[tm.chains[c].edges].all():
            whole.append(left or right)
    for a, b in sums:
        if len(a) == len(b) == 1:
            parent[root(a[0])] = root(b[0])
    roots = np.array([root(x) for x in range(len(pieces))])
    names, of = np.unique(roots, return_inverse=True)
    rows = []
    for a, b in sums:
        row = np.zeros(len(names), np.int64)
        np.add.at(row, of[a], 1)
        np.subtract.at(row, of[b], 1)
        if row.any():
            rows.append(row)
    for own in whole:
        row = np.zeros(len(names), np.int64)
        np.add.at(row, of[own], 1)
        rows.append(row)
    basis = integer_kernel(np.array(rows) if rows else np.zeros((0, len(names)), np.int64))
    lengths = np.array([x.stop - x.start for x in pieces], np.int64)
    return Layout(pieces, of.astype(np.int32), lengths, basis, patch, sides)


def strain_metric(tm: TMesh, plan: Layout, aim: Floats) -> tuple[Floats, Floats]:
    """(Q (K, K), centre (K,)): the energy of the changes `plan.basis` @ z is (z − centre)ᵀ Q (z − centre) and a constant.

    `aim` (E,) is how many units each edge should have instead of 1, less 1: strain is measured from there.
    """
    mesh, k = tm.mesh, plan.basis.shape[1]
    if k == 0:
        return np.zeros((0, 0)), np.zeros(0)
    n = mesh.topology.n_edges
    weight = np.ones(2 * n)
    weight[n:][tm.features] = 1 / STIFF
    functionals, made = _functionals(tm, plan)
    # Lines of our own may lie anywhere, but where they move far the places of the patches tell less.
    weight = np.concatenate([weight, np.full(made, LIMP)])
    closing = _closing(mesh)
    aligned = [c for c in tm.chains if c.loose and all(kind != TEE for kind, _ in c.ends)]
    if aligned:
        rows = np.repeat(np.arange(len(aligned)), [len(c.edges) for c in aligned])
        columns = np.concatenate([n + c.edges for c in aligned])
        straight = sparse.csr_array((np.ones(len(rows)), (rows, columns)), shape=(len(aligned), 2 * n))
        closing = sparse.vstack([closing, straight]).tocsr()
    closing = sparse.hstack([closing, sparse.csr_array((closing.shape[0], made))]).tocsr()
    scale = sparse.diags_array(weight)
    unit, upper = np.linalg.qr(plan.basis.astype(float))
    gram = (closing @ scale @ closing.T).tocsc()
    gram = gram + 1e-9 * sparse.identity(gram.shape[0], format="csc")
    factor = Factor(gram)
    # Only what is left of the edges is dense: they are many more than the unknowns.
    weighed = (scale @ functionals.T).tocsr()
    pulled = np.asarray((closing @ weighed) @ unit)
    g = unit.T @ ((functionals @ weighed) @ unit) - pulled.T @ factor.solve(pulled)
    g = 0.5 * (g + g.T) + 1e-9 * np.trace(g) / k * np.eye(k)
    form = np.linalg.inv(g)
    wanted = np.concatenate([aim, np.zeros(n + made)])
    nearest = wanted - scale @ (closing.T @ factor.solve(closing @ wanted))
    centre = unit.T @ (functionals @ nearest)
    return upper.T @ form @ upper, np.linalg.solve(upper, centre)


def _closing(mesh: PolyMesh) -> sparse.csr_array:
    """(2 F, 2 E) the sums of strain round each quad, along and across its first edge."""
    edge = mesh.topology.edge.reshape(-1, 4)
    n, rows = mesh.topology.n_edges, np.arange(len(edge))
    along, across = edge, edge + n
    r = np.concatenate([np.repeat(2 * rows, 4), np.repeat(2 * rows + 1, 4)])
    first = np.stack([along[:, 0], across[:, 1], along[:, 2], across[:, 3]], axis=1)
    second = np.stack([across[:, 0], along[:, 1], across[:, 2], along[:, 3]], axis=1)
    values = np.concatenate([np.tile([1.0, -1, -1, 1], len(edge)), np.tile([1.0, 1, -1, -1], len(edge))])
    columns = np.concatenate([first.ravel(), second.ravel()])
    return sparse.csr_array((values, (r, columns)), shape=(2 * len(edge), 2 * n))


def _functionals(tm: TMesh, plan: Layout) -> tuple[sparse.csr_array, int]:
    """((U, 2 E + M) the change of length of each unknown by the strain of the edges, taken of one of its pieces, and by how
    far the M lines of our own move; M)."""
    n = tm.mesh.topology.n_edges
    made = {k: j for j, k in enumerate(k for k, c in enumerate(tm.chains) if c.made)}
    arrivals = _arrivals(tm)
    first = np.full(int(plan.of.max()) + 1, -1, np.int64)
    first[plan.of[::-1]] = np.arange(len(plan.of))[::-1]
    rows: list[Ints] = []
    columns: list[Ints] = []
    values: list[Floats] = []
    for u, x in enumerate(first.tolist()):
        piece = plan.pieces[x]
        terms = [(tm.chains[piece.chain].edges[piece.start : piece.stop], 1.0)]
        for place, sign in ((piece.stop, 1.0), (piece.start, -1.0)):
            if (piece.chain, place, piece.left) in arrivals:
                mover, edges, own = arrivals[(piece.chain, place, piece.left)]
                terms.append((n + edges, sign * own))
                if mover in made:
                    terms.append((np.array([2 * n + made[mover]]), sign * own))
        for edges, value in terms:
            rows.append(np.full(len(edges), u))
            columns.append(edges)
            values.append(np.full(len(edges), value))
    shape = (len(first), 2 * n + len(made))
    entries = (np.concatenate(values), (np.concatenate(rows), np.concatenate(columns)))
    return sparse.csr_array(entries, shape=shape), len(made)


def _arrivals(tm: TMesh) -> dict[tuple[int, int, bool], tuple[int, Ints, float]]:
    """By chain, place and side: the line whose moving across shifts where it meets the chain, the edges along which it is
    away from its source, and the sign."""
    position = [dict(zip(c.points.tolist(), range(len(c.points)), strict=True)) for c in tm.chains]
    out: dict[tuple[int, int, bool], tuple[int, Ints, float]] = {}
    for k, chain in enumerate(tm.chains):
        for end, (kind, on) in enumerate(chain.ends):
            if kind != TEE:
                continue
            other = tm.chains[on]
            place = position[on][int(chain.points[-end])]
            left = is_left(tm.mesh, other, place, int(chain.points[-2 if end else 1]))
            side = 1.0 if left else -1.0
            if chain.loose and (end or chain.made):
                away = chain.edges if end else chain.edges[:0]
                out[(on, place, left)] = (k, away, -side if end else side)
            if other.loose:
                own = len(chain.edges) if end else 0
                moved = (on, other.edges[:place], side if end else -side)
                out[(k, own, True)] = out[(k, own, False)] = moved
    return out


def is_left(mesh: PolyMesh, chain: Chain, place: int, beside: int) -> bool:
    """Whether a neighbour of a chain's point lies on its left."""
    topology = mesh.topology
    last = len(chain.edges) - 1
    if place > last:
        # The end of a line that came back to itself: seen from behind.
        return is_left(mesh, chain, 0, beside)
    here, ahead = int(chain.points[place]), int(chain.points[place + 1])
    c = int(topology.edge_corner[chain.edges[place]])
    if mesh.corners[c] == ahead:
        if topology.twin[c] < 0:
            return bool(mesh.corners[topology.next[topology.next[c]]] != beside)
        c = int(topology.twin[c])
    assert mesh.corners[c] == here
    return bool(mesh.corners[topology.prev[c]] == beside)
