"""Rows that close: the whole numbers of a jacket's grid chosen anew with its rings in view.

A grid's whole numbers are first rounded by distortion alone, so its rows wind round the form like helices. Here the jacket is
taken apart into rectangles (`tmesh`), what other lengths of them would cost is a quadratic form (`metric`), and a search
looks for lengths near the present ones whose rings are short (`search`); then it is laid anew (`rebuild`).
"""

from __future__ import annotations

import os
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from jacket.core.mesh.edits import points_welded
from jacket.core.mesh.geometry import edge_lengths
from jacket.core.mesh.pieces import put_side_by_side
from jacket.core.mesh.poles import irregular_count
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.mesh.walks import euler_characteristic
from jacket.core.rows.lattice import reduced
from jacket.core.rows.measure import Rings, rings
from jacket.core.rows.metric import Layout, Whole, layout, strain_metric
from jacket.core.rows.rebuild import pairs_merged, rebuilt
from jacket.core.rows.search import Found, lowest, searched
from jacket.core.rows.tmesh import TMesh, t_mesh
from jacket.core.rows.wires import Wiring, wiring
from jacket.errors import SolveError
from jacket.progress import Progress, part, silent

TRIED = 20
"""Of what they found, how many are laid until one is sound."""
LARGE = 4_000
"""Units of chains from which on searches are fewer, as each takes longer."""
THREADS = max(2, os.cpu_count() or 1)
MOST_FREE = 450
"""Whole numbers up to which a search is worth its time: a torn or noisy scan has more, and its rows end everywhere."""
CLOSED = 9.9
"""Longest ring and quads crossed by their own, in %, from which no more rounds are made."""
WORTH = 1.0
"""By how much both together have to fall for a round to count, and the worse of them for another one after the second."""
NEAR_STRAIN = 4.0
"""Weight of the strain at `closeness` ½: corners and gaps stay, and rings close as far as they do."""


@dataclass(frozen=True)
class Effort:
    """How long is searched: `seeds` searches of `steps` steps begin at the present lengths, of which the best `kept` go on, each by so
    many ways, once and `again`, by `more` steps each."""

    seeds: int
    steps: int
    kept: int
    again: tuple[int, ...]
    more: int


FIRST, LATER = Effort(64, 400, 4, (4, 3, 3, 3), 600), Effort(8, 500, 3, (2, 2), 500)
"""Of rows as they come, and of rows that were unwound before, of which little more is to be had."""


@dataclass(frozen=True)
class Unwound:
    """A jacket with its rows unwound; edges (K, 2) on creases and borders as pairs of points; strain: the mean square
    change of steps."""

    mesh: PolyMesh
    lines: Ints
    strain: float


@dataclass(frozen=True, eq=False)
class Apart:
    """A jacket taken apart: its rectangles, what fits together, a short basis (U, K) of changes and their energy about a
    centre (K,)."""

    tm: TMesh
    plan: Layout
    basis: Whole
    form: Floats
    centre: Floats


def windings(mesh: PolyMesh) -> tuple[float, float]:
    """(longest ring in % of all crossings, quads crossed by their own ring in %)."""
    found: Rings = rings(mesh)
    return found.longest, found.crossed_by_itself


def unwound(
    mesh: PolyMesh, lines: Bools, closeness: float = 0.5, rounds: int = 2, progress: Progress = silent,
    held: Bools | None = None, wanted: int = 0, outside: PolyMesh | None = None, apart: Apart | None = None,
) -> Unwound | None:  # fmt: skip
    """A sound mesh of quads whose rings are shorter, or None where that is not to be had.

    lines (E,)    edges that stay edges: creases; borders are added
    closeness     0 keeps steps even, 1 closes rows at the price of uneven steps
    held (E,)     border edges whose points stay as they are
    wanted        how many quads there should be, 0 for as many as there are
    outside       what lies beyond held borders: rings are followed through it
    apart         what `taken_apart` says of the mesh, where it is known

    Points lie between the old places and have to be relaxed. The same input gives the same bytes.
    """
    first = cKDTree(mesh.points)
    steps = _step_lengths(mesh)
    current, flags, fixed = mesh, lines, held
    best: Unwound | None = None

    def winding(of: PolyMesh) -> float:
        return sum(windings(of if outside is None else put_together(outside, of, reach)[0]))

    reach = 1e-6 * float(np.median(edge_lengths(mesh)))
    before = winding(mesh)
    for k in range(rounds):
        ends = current.topology.edge_points
        own = steps[first.query(current.points[ends].mean(axis=1), k=4)[1]].mean(axis=1)
        aim = np.clip(edge_lengths(current) / np.maximum(own, 1e-300) - 1.0, -0.7, 2.0) if k else np.zeros(len(ends))
        step = part(progress, k / rounds, (k + 1) / rounds)
        known = apart if k == 0 and apart is not None else taken_apart(current, flags, fixed, aim, step)
        found = None if known is None else _one_round(mesh, known, fixed, closeness, wanted or mesh.n_faces, outside, LATER if k else FIRST, step)
        if found is None or winding(found.mesh) > (before if best is None else winding(best.mesh)) - WORTH:
            break
        fell = max(windings(current)) - max(windings(found.mesh))
        best = found
        if outside is None and (max(windings(found.mesh)) <= CLOSED or (k and fell < WORTH)):
            break
        current = found.mesh
        flags = current.topology.edge_flags(found.lines)
        if held is not None:
            # Held borders keep their points, so that their edges are found by place.
            far = cKDTree(mesh.points[np.unique(mesh.topology.edge_points[held])]).query(current.points)[0]
            at = far < 1e-9 * max(float(np.ptp(mesh.points)), 1e-300)
            fixed = at[current.topology.edge_points].all(axis=1) & (current.topology.edge_uses == 1)
    return best


def _step_lengths(mesh: PolyMesh) -> Floats:
    """(V,) the mean length of the edges at each point."""
    ends = mesh.topology.edge_points
    total = np.bincount(ends.ravel(), np.repeat(edge_lengths(mesh), 2), minlength=mesh.n_points)
    return np.asarray(total / np.maximum(np.bincount(ends.ravel(), minlength=mesh.n_points), 1))


def taken_apart(
    mesh: PolyMesh, lines: Bools, held: Bools | None = None, aim: Floats | None = None, progress: Progress = silent
) -> Apart | None:
    """A jacket taken apart for a search, or None where there is nothing to choose; `aim` (E,) as in `strain_metric`."""
    progress(0.0, "tracing the rows")
    tm = t_mesh(mesh, lines)
    if tm is None:
        return None
    plan = layout(tm, held)
    free = plan.basis.shape[1]
    if free == 0 or free > MOST_FREE:
        return None
    progress(0.1, "weighing what other rows would cost")
    try:
        form, centre = strain_metric(tm, plan, np.zeros(mesh.topology.n_edges) if aim is None else aim)
    except (SolveError, np.linalg.LinAlgError):
        return None
    change, form = reduced(form)
    basis = plan.basis @ np.rint(change).astype(np.int64)
    return Apart(tm, plan, basis, form, np.asarray(np.linalg.solve(change, centre), float))


def _one_round(
    origin: PolyMesh, apart: Apart, held: Bools | None, closeness: float, wanted: int, outside: PolyMesh | None, effort: Effort,
    progress: Progress,
) -> Unwound | None:  # fmt: skip
    progress(0.3, "seeking rows that close")
    for one in _candidates(apart, wanted, closeness, _links(apart.tm, held, outside), effort, progress):
        new, pairs = pairs_merged(*rebuilt(apart.tm, apart.plan, one.lengths, held))
        if _sound(new, origin):
            return Unwound(new, pairs, one.strain)
    return None


def _candidates(apart: Apart, n_quads: int, closeness: float, links: Ints, effort: Effort, progress: Progress) -> list[Found]:
    """What searches with several seeds found, best first: many short ones, the best of which go on."""
    plan = apart.plan
    start = np.zeros(len(apart.basis), np.int64)
    start[plan.of] = plan.lengths
    net: Wiring = wiring(apart.tm, plan, links)
    low, high = lowest(apart.tm, plan, start), 2 * start + 2
    weight = NEAR_STRAIN * 16.0 ** (1.0 - 2.0 * float(np.clip(closeness, 0.0, 1.0)))

    def one(task: tuple[int, Whole | None]) -> Found:
        steps = effort.steps if task[1] is None else effort.more
        return searched(net, start, apart.basis, apart.form, apart.centre, n_quads, steps, task[0], weight, low, high, task[1])

    every: list[Found] = []
    # Every unit lies on two sides.
    fewer = min(1.0, LARGE / max(int(plan.lengths.sum()) // 2, 1))
    tasks: list[tuple[int, Whole | None]] = [(seed, None) for seed in range(max(round(effort.seeds * fewer), 4))]
    most = max(round(effort.kept * fewer), 2)
    done, everything = 0, len(tasks) + most * sum(effort.again)
    with ThreadPoolExecutor(THREADS) as pool:
        for ways in (*effort.again, 0):
            for found in pool.map(one, tasks):
                done += 1
                progress(0.3 + 0.65 * done / everything, "seeking rows that close")
                if not any(np.array_equal(found.change, k.change) for k in every):
                    every.append(found)
            every.sort(key=lambda f: f.score)
            tasks = [(effort.seeds + done + k, f.change) for k, f in enumerate(f for f in every[:most] for _ in range(ways))]
    return every[:TRIED]


def put_together(rest: PolyMesh, mesh: PolyMesh, reach: float) -> tuple[PolyMesh, Ints]:
    """Two meshes as one, border points within reach of one another joined; and which they were (K, 2), of the second and of
    the first."""
    ours, theirs = np.flatnonzero(mesh.topology.border_points), np.flatnonzero(rest.topology.border_points)
    whole = put_side_by_side([rest, mesh])
    if len(ours) == 0 or len(theirs) == 0:
        return whole, np.zeros((0, 2), np.int32)
    far, near = cKDTree(rest.points[theirs]).query(mesh.points[ours])
    on = far <= reach
    pairs = np.stack([ours[on], theirs[near[on]]], axis=1).astype(np.int32)
    return points_welded(whole, pairs + [rest.n_points, 0]).mesh if len(pairs) else whole, pairs


def _links(tm: TMesh, held: Bools | None, outside: PolyMesh | None) -> Ints:
    """(L, 5) as in `Wiring`: the rows outside that leave a mesh over its held borders."""
    if held is None or outside is None or not held.any():
        return np.zeros((0, 5), np.int64)
    found, rim = rings(outside), outside.topology.border_edges
    middles = outside.points[outside.topology.edge_points[rim]].mean(axis=1)
    ends: dict[int, list[tuple[int, int]]] = {}
    for k, chain in enumerate(tm.chains):
        if not held[chain.edges].all():
            continue
        own = tm.mesh.points[tm.mesh.topology.edge_points[chain.edges]].mean(axis=1)
        near = cKDTree(middles).query(own)[1]
        for place, e in enumerate(rim[near].tolist()):
            ends.setdefault(int(found.of_edge[e]), []).append((k, place))
    rows = []
    for ring, units in ends.items():
        back = units[1] if len(units) > 1 else (-1, -1)
        rows.append((*units[0], *back, int(found.crossings[ring])))
    return np.array(rows, np.int64).reshape(-1, 5)


def _sound(mesh: PolyMesh, origin: PolyMesh) -> bool:
    """Whether a mesh laid anew is manifold, of the old topology, without repeated points and no more irregular."""
    topology = mesh.topology
    if (
        mesh.n_faces == 0
        or len(topology.nonmanifold_edges)
        or euler_characteristic(mesh) != euler_characteristic(origin)
    ):
        return False
    rows = np.sort(mesh.as_quads(), axis=1)
    inner = ~topology.border_points & (topology.valence > 0)
    return (
        not bool((rows[:, 1:] == rows[:, :-1]).any())
        and not bool((topology.valence[inner] < 3).any())
        and len(topology.border_loops) == len(origin.topology.border_loops)
        and irregular_count(mesh) <= irregular_count(origin)
    )
