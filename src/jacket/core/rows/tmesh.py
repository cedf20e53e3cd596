"""A jacket taken apart into rectangles: a T-mesh of its separatrices.

All separatrices are marched at once, each until it meets what is marked already (a motorcycle graph: Eppstein, Goodrich,
Kim and Tamstorf, "Motorcycle graphs: canonical quad mesh partitioning", 2008). Creases and borders are marked first. What
lies between is rectangles of quads, whose widths and heights are all that has to be known to lay the jacket anew.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from jacket.core.jit import inline, kernel
from jacket.core.mesh.polymesh import Bools, Ints, PolyMesh

HARD, TEE = 0, 1
"""How a chain ends: at a point where chains begin, or on the side of another chain."""


@dataclass(eq=False)
class Chain:
    """A straight line of the T-mesh.

    points   its points in order, both ends among them
    loose    a separatrix: it may move sideways; creases and borders may not
    ends     per end (HARD, point) or (TEE, chain)
    made     a line of our own that comes from no hard point: where it runs does not matter
    """

    points: Ints
    edges: Ints
    loose: bool
    ends: list[tuple[int, int]]
    made: bool = False


@dataclass(frozen=True)
class Piece:
    """A stretch of a patch's side along one chain: from old position `start` to `stop` of the chain, on its left or right;
    `reverse` where the side is walked against the chain."""

    chain: int
    start: int
    stop: int
    left: bool
    reverse: bool


@dataclass(eq=False)
class Patch:
    """points (h + 1, w + 1) of a rectangle, and its sides as pieces: bottom, right, top, left, walked counter-clockwise."""

    points: Ints
    sides: list[list[Piece]] = field(default_factory=list)


@dataclass(eq=False)
class TMesh:
    """mesh; its chains; its patches; hard (V,) the points where chains begin; features (E,) creases and borders."""

    mesh: PolyMesh
    chains: list[Chain]
    patches: list[Patch]
    hard: Bools
    features: Bools


def t_mesh(mesh: PolyMesh, features: Bools | None = None) -> TMesh | None:
    """The T-mesh of a sound mesh of quads with the edges flagged in `features` (E,) as lines; None where it has faces that
    cannot be put into rectangles."""
    topology = mesh.topology
    lines = np.zeros(topology.n_edges, bool) if features is None else features.copy()
    lines[topology.border_edges] = True
    seeds: list[int] = []
    crosses: list[int] = []
    across: list[int] = []
    for _ in range(200):
        tm = _marched(mesh, lines, seeds, crosses, across)
        left_over = _outside(tm)
        if left_over < 0:
            more = [] if across else _crossings(tm)
            if not more:
                return tm if _with_sides(tm) else None
            across = more
            continue
        seed = _seed(tm, left_over)
        if seed >= 0:
            seeds.append(seed)
        else:
            # A torus: nothing outlines it, so a cross is marched from one of its points.
            crosses.append(int(mesh.corners[4 * left_over]))
    return None


# ---- marching ---------------------------------------------------------------------------------


def _marched(mesh: PolyMesh, lines: Bools, seeds: list[int], crosses: list[int], across: list[int]) -> TMesh:
    topology = mesh.topology
    hard = _hard_points(mesh, lines)
    chains = _line_chains(mesh, lines, hard)
    # Lines across others march first: each two half-edges from one point, opposite ways.
    sources = across + _sources(mesh, lines, hard) + np.flatnonzero(np.isin(mesh.corners, crosses)).tolist() + seeds
    true = hard.copy()
    hard[crosses] = True
    marked = hard.copy()
    marked[topology.edge_points[lines]] = True
    marked[mesh.corners[across]] = True
    starts, path, meets = _march(
        topology.next, topology.twin, topology.edge, mesh.corners, lines.copy(), marked, np.array(sources, np.int64)
    )
    ends: dict[tuple[int, int], tuple[int, int]] = {}
    for k in range(len(across)):
        ends[(k, 0)] = (k ^ 1, 0)
    for k in np.flatnonzero(meets >= 0).tolist():
        ends[(k, 1)], ends[(int(meets[k]), 1)] = (int(meets[k]), 1), (k, 1)
    done: set[int] = set()
    full = [k for k in range(len(sources)) if starts[k + 1] > starts[k]]
    first = [(k, e) for k in full for e in (0, 1) if (k, e) not in ends]
    for begin in first + [(k, 1) for k in full]:
        if begin[0] in done:
            continue
        points: list[Ints] = []
        edges: list[Ints] = []
        k, end = begin
        while k not in done:
            done.add(k)
            own = path[starts[k] : starts[k + 1]]
            here = np.append(mesh.corners[own], mesh.corners[topology.next[own[-1]]]) if len(own) else mesh.corners[:0]
            here, along = (here[::-1], own[::-1]) if end else (here, own)
            points.append(here[1:] if points else here)
            edges.append(topology.edge[along])
            k, end = ends.get((k, 1 - end), (k, end))
        line = np.concatenate(points)
        if begin not in first:
            # A line that came back to itself begins where it does.
            hard[line[0]] = True
        made = not (true[line[0]] or true[line[-1]])
        chains.append(Chain(line.astype(np.int32), np.concatenate(edges).astype(np.int32), True, [], made))
    return TMesh(mesh, chains, [], hard, lines)


def _crossings(tm: TMesh) -> list[int]:
    """Pairs of half-edges across the middles of lines that join two hard points: marched first they part such a line, so that
    its ends need no longer lie straight on."""
    mesh, topology = tm.mesh, tm.mesh.topology
    out: list[int] = []
    busy = np.zeros(mesh.n_points, bool)
    for chain in sorted((c for c in tm.chains if c.loose), key=lambda c: len(c.edges)):
        if len(chain.edges) < 2 or not (tm.hard[chain.points[0]] and tm.hard[chain.points[-1]]):
            continue
        order = np.argsort(np.abs(np.arange(1, len(chain.edges)) - 0.5 * len(chain.edges)), kind="stable") + 1
        for place in order.tolist():
            v, ahead = int(chain.points[place]), int(chain.points[place + 1])
            c = int(topology.edge_corner[chain.edges[place]])
            c = c if mesh.corners[c] == v else int(topology.twin[c])
            left = int(topology.twin[topology.prev[c]])
            right = int(topology.next[topology.twin[c]])
            near = [v, int(mesh.corners[topology.next[left]]), int(mesh.corners[topology.next[right]])]
            if mesh.corners[topology.next[c]] != ahead or busy[near].any() or topology.border_points[near].any():
                continue
            busy[near] = True
            out += [left, right]
            break
    return out


def _hard_points(mesh: PolyMesh, lines: Bools) -> Bools:
    """Irregular points, and those where lines end, fork, bend or meet the border."""
    topology = mesh.topology
    faces = np.bincount(mesh.corners, minlength=mesh.n_points)
    border = topology.border_points
    hard = np.where(border, faces != 2, faces != 4) & (faces > 0)
    degree = np.bincount(topology.edge_points[lines].ravel(), minlength=mesh.n_points)
    hard |= (degree != 0) & (degree != 2)
    # A line that bends at a regular point: its two edges have a face in common.
    flag = lines[topology.edge]
    hard[mesh.corners[flag & flag[topology.prev]]] = True
    return np.asarray(hard)


def _line_chains(mesh: PolyMesh, lines: Bools, hard: Bools) -> list[Chain]:
    """Creases and borders as chains from hard point to hard point; a loop without one gets one. Adds to `hard`."""
    topology = mesh.topology
    edges = np.flatnonzero(lines)
    if len(edges) == 0:
        return []
    start, around = topology.point_edges
    used = np.zeros(topology.n_edges, bool)
    chains: list[Chain] = []

    def walk(first: int, point: int) -> None:
        points, own = [point], []
        e, p = first, point
        while True:
            used[e] = True
            own.append(e)
            a, b = topology.edge_points[e].tolist()
            p = b if p == a else a
            points.append(p)
            if hard[p]:
                break
            e = next(int(x) for x in around[start[p] : start[p + 1]] if lines[x] and x != e)
        chains.append(Chain(np.array(points, np.int32), np.array(own, np.int32), False, []))

    ends = topology.edge_points[edges]
    for p in np.unique(ends[hard[ends]]).tolist():
        for e in around[start[p] : start[p + 1]].tolist():
            if lines[e] and not used[e]:
                walk(e, p)
    for e in edges.tolist():
        if not used[e]:
            p = int(topology.edge_points[e, 0])
            hard[p] = True
            walk(e, p)
    return chains


def _sources(mesh: PolyMesh, lines: Bools, hard: Bools) -> list[int]:
    """Half-edges from which to march: all that leave irregular points, and those that carry on a line which ends or bends."""
    topology = mesh.topology
    faces = np.bincount(mesh.corners, minlength=mesh.n_points)
    here = mesh.corners
    regular = (faces[here] == 4) & ~topology.border_points[here]
    flag = lines[topology.edge]
    out = hard[here] & ~flag & (topology.twin >= 0)
    left = topology.twin[topology.prev]
    opposite = np.where(left >= 0, topology.twin[topology.prev[left]], -1)
    right = np.where(opposite >= 0, topology.twin[topology.prev[opposite]], -1)
    carries = flag[opposite] & ~(flag[left] & flag[right])
    return np.flatnonzero(out & (~regular | carries)).tolist()


@inline
def _straight(following, twin, h):
    t = twin[following[h]]
    return following[t] if t >= 0 else -1


@kernel
def _march(following, twin, edge, corners, taken, marked, sources):
    """All sources marched a step each in turn. Per source its half-edges, and the source it met head on, −1 where none."""
    n = len(sources)
    link = np.full(len(corners), -1, np.int64)
    first = np.full(n, -1, np.int64)
    tip = np.full(n, -1, np.int64)
    alive = np.ones(n, np.bool_)
    steps = np.zeros(n, np.int64)
    meets = np.full(n, -1, np.int64)
    tip_at = np.full(len(marked), -1, np.int64)
    going = n
    while going > 0:
        going = 0
        for k in range(n):
            if not alive[k]:
                continue
            h = sources[k] if tip[k] < 0 else _straight(following, twin, tip[k])
            if h < 0 or taken[edge[h]]:
                # Nothing was walked yet, or it was taken by the one that came the other way.
                alive[k] = False
                continue
            taken[edge[h]] = True
            if tip[k] < 0:
                first[k] = h
            else:
                link[tip[k]] = h
                if tip_at[corners[h]] == k:
                    tip_at[corners[h]] = -1
            tip[k] = h
            steps[k] += 1
            p = corners[following[h]]
            if marked[p]:
                alive[k] = False
                j = tip_at[p]
                # The tip of another that comes the opposite way: they are one line.
                if j >= 0 and alive[j] and tip[j] >= 0 and _straight(following, twin, h) == twin[tip[j]]:
                    alive[j] = False
                    meets[k] = j
                continue
            marked[p] = True
            tip_at[p] = k
            going += 1
    starts = np.zeros(n + 1, np.int64)
    for k in range(n):
        starts[k + 1] = starts[k] + steps[k]
    path = np.empty(starts[n], np.int64)
    for k in range(n):
        h = first[k]
        for s in range(steps[k]):
            path[starts[k] + s] = h
            h = link[h]
    return starts, path, meets


# ---- patches ----------------------------------------------------------------------------------


def _marks(tm: TMesh) -> Bools:
    """(E,) edges that chains run along."""
    marks = np.zeros(tm.mesh.topology.n_edges, bool)
    for chain in tm.chains:
        marks[chain.edges] = True
    return marks


def _outside(tm: TMesh) -> int:
    """Fills the patches; a face that no rectangle holds, or −1."""
    mesh, topology = tm.mesh, tm.mesh.topology
    marks = _marks(tm)
    corners = np.flatnonzero(marks[topology.edge] & marks[topology.edge[topology.prev]])
    shapes, flat, done = _rectangles(topology.next, topology.twin, topology.edge, mesh.corners, marks, corners)
    at = 0
    for w, h in shapes.tolist():
        size = (w + 1) * (h + 1)
        tm.patches.append(Patch(flat[at : at + size].reshape(h + 1, w + 1)))
        at += size
    left = np.flatnonzero(~done)
    return int(left[0]) if len(left) else -1


@kernel
def _rectangles(following, twin, edge, corners, marks, starts):
    n_faces = len(corners) // 4
    done = np.zeros(n_faces, np.bool_)
    shapes = np.empty((len(starts), 2), np.int64)
    flat = np.empty(16 * n_faces + 16, np.int32)
    top, count = 0, 0
    for c0 in starts:
        if done[c0 // 4]:
            continue
        # Width along the bottom.
        w, c = 1, c0
        while not marks[edge[following[c]]] and w <= n_faces:
            c = following[twin[following[c]]]
            w += 1
        h, c = 1, c0
        while not marks[edge[following[following[c]]]] and h <= n_faces:
            c = twin[following[following[c]]]
            h += 1
        if w > n_faces or h > n_faces:
            continue
        begin = top
        row = c0
        bad = False
        for j in range(h):
            c = row
            for i in range(w):
                if done[c // 4]:
                    bad = True
                done[c // 4] = True
                flat[begin + j * (w + 1) + i] = corners[c]
                if i == w - 1:
                    flat[begin + j * (w + 1) + w] = corners[following[c]]
                if j == h - 1:
                    flat[begin + h * (w + 1) + i] = corners[following[following[following[c]]]]
                    if i == w - 1:
                        flat[begin + h * (w + 1) + w] = corners[following[following[c]]]
                if i < w - 1:
                    t = twin[following[c]]
                    if t < 0:
                        bad = True
                        break
                    c = following[t]
            if j < h - 1:
                t = twin[following[following[row]]]
                if t < 0:
                    bad = True
                    break
                row = t
            if bad:
                break
        if bad:
            done[:] = False
            return shapes[:0], flat[:0], done
        top = begin + (w + 1) * (h + 1)
        shapes[count, 0], shapes[count, 1] = w, h
        count += 1
    return shapes[:count].copy(), flat[:top].copy(), done


def _seed(tm: TMesh, face: int) -> int:
    """A half-edge into a region without corners, a belt, from its outline; −1 where nothing outlines it."""
    topology = tm.mesh.topology
    marks = _marks(tm)
    seen, stack = {face}, [face]
    while stack:
        f = stack.pop()
        for c in range(4 * f, 4 * f + 4):
            t = int(topology.twin[c])
            if marks[topology.edge[c]]:
                inward = int(topology.next[c])
                if not marks[topology.edge[inward]] and topology.twin[inward] >= 0:
                    return inward
            elif t >= 0 and t // 4 not in seen:
                seen.add(t // 4)
                stack.append(t // 4)
    return -1


def _with_sides(tm: TMesh) -> bool:
    """Finds how chains end, and the pieces of the patches' sides."""
    n_edges = tm.mesh.topology.n_edges
    of, at = np.full(n_edges, -1, np.int32), np.zeros(n_edges, np.int32)
    carrier = np.full(tm.mesh.n_points, -1, np.int32)
    for k, chain in enumerate(tm.chains):
        of[chain.edges] = k
        at[chain.edges] = np.arange(len(chain.edges))
        carrier[chain.points[1:-1]] = k
    for chain in tm.chains:
        first = int(chain.points[0])
        if first == chain.points[-1] and carrier[first] < 0:
            # The line that it began on may have ended before; a line that comes back to itself ends where it begins.
            tm.hard[first] = True
    for chain in tm.chains:
        for p in (int(chain.points[0]), int(chain.points[-1])):
            if tm.hard[p]:
                chain.ends.append((HARD, p))
            elif carrier[p] >= 0:
                chain.ends.append((TEE, int(carrier[p])))
            else:
                return False
    find = tm.mesh.topology.find_edges
    for patch in tm.patches:
        grid = patch.points
        for ring in (grid[0], grid[:, -1], grid[-1, ::-1], grid[::-1, 0]):
            edges = find(np.stack([ring[:-1], ring[1:]], axis=1))
            if (edges < 0).any() or (of[edges] < 0).any():
                return False
            patch.sides.append(_pieces(tm, ring, of[edges], at[edges]))
    return True


def _pieces(tm: TMesh, ring: Ints, of: Ints, at: Ints) -> list[Piece]:
    out = []
    breaks = np.flatnonzero((np.diff(of) != 0) | (np.abs(np.diff(at)) != 1)) + 1
    for a, b in zip([0, *breaks.tolist()], [*breaks.tolist(), len(of)], strict=True):
        chain = tm.chains[int(of[a])]
        reverse = int(chain.points[at[a]]) != int(ring[a])
        first, last = sorted((int(at[a]), int(at[b - 1])))
        out.append(Piece(int(of[a]), first, last + 1, not reverse, reverse))
    return out
