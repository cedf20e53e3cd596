"""Cheapest paths and rings of edges where turning costs too: what makes a seam run straight.

Paths are looked for over directed edges (a *dart* is an edge walked one way: 2·edge from the first of its two points, +1
back), so that what a turn costs can depend on where one came from. Dijkstra 1959; turns as costs between directed edges:
Caldwell, "On finding minimum routes in a network with turn penalties" (1961).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jacket.core.heap import heap_pop, heap_push
from jacket.core.jit import inline, kernel
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh

TURN = 2.5
"""What a turn by 90° costs, in middling edge lengths; it grows with the square of the angle."""


@dataclass(frozen=True, eq=False)
class Turning:
    """How edges follow each other round the points of a mesh.

    start, around   edges at each point: around[start[p] : start[p + 1]]
    angle           (2E,) beside `around`: where the edge leaves, as an angle round the point: corners of quads count alike,
                    others as they are
    full            (V,) the whole turn round each point, to which inner points are scaled: 2π; 0 at borders, where angles
                    do not come round; −1 where faces do not lie round the point in order
    ends            (E, 2) the points of each edge
    """

    start: Ints
    around: Ints
    angle: Floats
    full: Floats
    ends: Ints

    @staticmethod
    def of(mesh: PolyMesh) -> Turning:
        """The turning of a mesh of any faces."""
        topology = mesh.topology
        start, around = topology.point_edges
        angle, full = _angles(
            mesh.points, mesh.corners, mesh.starts, mesh.face_of_corner, topology.prev, topology.next, topology.twin,
            topology.edge, topology.ring_start, topology.ring, start, around,
        )  # fmt: skip
        return Turning(start, around, angle, full, topology.edge_points)

    def turn(self, point: int, one: int, other: int) -> float:
        """Radians by which a way through a point from one edge to another leaves the straight; 0 straight on."""
        return float(_turn(self.start, self.around, self.angle, self.full, point, one, other))


def cheapest_path(
    turning: Turning, cost: Floats, sources: Ints, goals: Bools, shut: Bools, turn: float
) -> tuple[Ints, float]:
    """Edges, in order, of the cheapest way from any of the points `sources` to any flagged in `goals` (V,), and what it
    costs; no edges and inf where there is none.

    cost   (E,) of each edge, above 0; inf where it may not go
    shut   (V,) points through which it may not go; it may begin and end at them
    turn   what a turn by 90° costs
    """
    into = np.zeros(len(turning.start) - 1, bool)
    into[sources] = True
    lengths, before, last = _search(turning, cost, into, goals, shut, turn)
    return (_row(before, last), float(lengths[last])) if last >= 0 else (np.zeros(0, np.int32), np.inf)


def _search(turning: Turning, cost: Floats, sources: Bools, goals: Bools, shut: Bools, turn: float) -> tuple[Floats, Ints, int]:
    lengths, before, last = _searched(
        turning.start, turning.around, turning.angle, turning.full, turning.ends, np.asarray(cost, np.float64),
        sources, np.asarray(goals, bool), np.asarray(shut, bool), float(turn),
    )  # fmt: skip
    return lengths, before, int(last)


def _row(before: Ints, dart: int) -> Ints:
    """Edges in order of the way that ends with a dart."""
    row = []
    while dart >= 0:
        row.append(dart >> 1)
        dart = int(before[dart])
    return np.array(row[::-1], np.int32)


def path_lengths(
    turning: Turning, cost: Floats, source: int, shut: Bools, turn: float
) -> tuple[Floats, Ints]:
    """(2E,) what the cheapest way from a point to the end of each dart costs, inf where there is none, and (2E,) the dart
    before, −1 for the first: all ways at once, for a pointer that moves. Arguments as in `cheapest_path`."""
    into = np.zeros(len(turning.start) - 1, bool)
    into[source] = True
    return _search(turning, cost, into, np.zeros_like(into), shut, turn)[:2]


def path_from(turning: Turning, lengths: Floats, before: Ints, end: int) -> Ints:
    """Edges in order of the cheapest of the ways in `path_lengths` to a point; none where there is none."""
    here = turning.around[turning.start[end] : turning.start[end + 1]]
    darts = 2 * here + (turning.ends[here, 1] != end)
    if len(darts) == 0 or not np.isfinite(lengths[darts]).any():
        return np.zeros(0, np.int32)
    return _row(before, int(darts[np.argmin(lengths[darts])]))


def cheapest_ring(turning: Turning, cost: Floats, across: Ints, shut: Bools, turn: float) -> tuple[Ints, float]:
    """Edges, in order, of the cheapest closed way that goes an odd number of times over the edges `across`, its turns
    counted all round, and what it costs; none and inf where there is none, or where it touches itself.

    A row of edges that a way over faces from one side to another crosses is gone over an odd number of times by just
    those closed ways that part the sides from each other. Arguments as in `cheapest_path`.
    """
    odd = np.zeros(len(cost), bool)
    odd[across] = True
    return _cheapest_ring(
        turning.start, turning.around, turning.angle, turning.full, turning.ends, np.asarray(cost, np.float64),
        np.asarray(across, np.int32), odd, np.asarray(shut, bool), float(turn),
    )  # fmt: skip


@kernel
def _angles(points, corners, starts, face, prev, following, twin, edge, ring_start, ring, start, around):
    n = len(ring_start) - 1
    angle = np.zeros(len(around))
    full = np.full(n, -1.0)
    for p in range(n):
        first, count = ring_start[p], ring_start[p + 1] - ring_start[p]
        if count == 0:
            continue
        begin = ring[first]
        for j in range(first, first + count):
            if twin[ring[j]] < 0:
                begin = ring[j]
        total, seen, c, closed = 0.0, 0, begin, False
        # Round the fan, each edge with the angle at which it leaves.
        while seen < count:
            for k in range(start[p], start[p + 1]):
                if around[k] == edge[c]:
                    angle[k] = total
            f = face[c]
            if starts[f + 1] - starts[f] == 4:
                total += np.pi / 2
            else:
                total += _corner_angle(points, corners[prev[c]], corners[c], corners[following[c]])
            seen += 1
            back = prev[c]
            if twin[back] < 0:
                for k in range(start[p], start[p + 1]):
                    if around[k] == edge[back]:
                        angle[k] = total
                break
            c = twin[back]
            if c == begin:
                closed = True
                break
        edges = start[p + 1] - start[p]
        if closed and seen == count and edges == count and total > 0:
            for k in range(start[p], start[p + 1]):
                angle[k] *= 2 * np.pi / total
            full[p] = 2 * np.pi
        elif not closed and seen == count and edges == count + 1:
            full[p] = 0.0
    return angle, full


@inline
def _corner_angle(points, a, b, c):
    ux, uy, uz = points[a, 0] - points[b, 0], points[a, 1] - points[b, 1], points[a, 2] - points[b, 2]
    vx, vy, vz = points[c, 0] - points[b, 0], points[c, 1] - points[b, 1], points[c, 2] - points[b, 2]
    x, y, z = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    return np.arctan2(np.sqrt(x * x + y * y + z * z), ux * vx + uy * vy + uz * vz)


@inline
def _turned(angle, full, p, k, j):
    """Radians off the straight from the edge in slot k to that in slot j."""
    if full[p] < 0:
        return np.pi / 2
    apart = abs(angle[k] - angle[j])
    if full[p] > 0 and apart > np.pi:
        apart = full[p] - apart
    return abs(np.pi - apart)


@kernel
def _turn(start, around, angle, full, point, one, other):
    a = b = -1
    for k in range(start[point], start[point + 1]):
        if around[k] == one:
            a = k
        if around[k] == other:
            b = k
    return _turned(angle, full, point, a, b)


@inline
def _slot(start, around, p, e):
    for k in range(start[p], start[p + 1]):
        if around[k] == e:
            return k
    return -1


@kernel
def _searched(start, around, angle, full, ends, cost, sources, goals, shut, turn):
    """What the cheapest way to the end of each dart costs, the dart before it, and the first dart to reach a goal, −1 for
    none: there the search ends."""
    darts = 2 * len(ends)
    best = np.full(darts, np.inf)
    before = np.full(darts, -1, np.int32)
    done = np.zeros(darts, np.bool_)
    heap = np.empty(8 * darts + 64)
    item = np.empty((8 * darts + 64, 4), np.int32)
    size = 0
    for p in range(len(sources)):
        if not sources[p]:
            continue
        for k in range(start[p], start[p + 1]):
            e = around[k]
            d = 2 * e if ends[e, 0] == p else 2 * e + 1
            if cost[e] < best[d]:
                best[d] = cost[e]
                size = heap_push(heap, item, size, cost[e], d, 0, 0, 0)
    last = -1
    while size > 0:
        c, d = heap[0], item[0, 0]
        size = heap_pop(heap, item, size)
        if done[d]:
            continue
        done[d] = True
        e = d >> 1
        p = ends[e, 1] if d & 1 == 0 else ends[e, 0]
        if goals[p]:
            last = d
            break
        if shut[p] or sources[p]:
            continue
        slot = _slot(start, around, p, e)
        for k in range(start[p], start[p + 1]):
            other = around[k]
            if other == e or cost[other] == np.inf:
                continue
            to = 2 * other if ends[other, 0] == p else 2 * other + 1
            bend = _turned(angle, full, p, slot, k) / (np.pi / 2)
            total = c + cost[other] + turn * bend * bend
            if total < best[to] and size < len(heap):
                best[to] = total
                before[to] = d
                size = heap_push(heap, item, size, total, to, 0, 0, 0)
    return best, before, last


@kernel
def _cheapest_ring(start, around, angle, full, ends, cost, across, odd, shut, turn):
    states = 4 * len(ends)
    best = np.full(states, np.inf)
    before = np.full(states, -1, np.int32)
    touched = np.empty(states, np.int32)
    heap = np.empty(8 * states + 64)
    item = np.empty((8 * states + 64, 4), np.int32)
    bound, ring = np.inf, np.zeros(0, np.int32)
    for first in across:
        if cost[first] == np.inf or shut[ends[first, 0]] or shut[ends[first, 1]]:
            continue
        # From the end of this dart until it is gone over again, the number of crossings then odd.
        begin, n, size = 2 * (2 * first), 0, 0
        best[begin] = 0.0
        touched[n] = begin
        n += 1
        size = heap_push(heap, item, size, 0.0, begin, 0, 0, 0)
        started = False
        while size > 0:
            c, s = heap[0], item[0, 0]
            size = heap_pop(heap, item, size)
            if c > best[s] or c >= bound:
                if c >= bound:
                    break
                continue
            d, parity = s >> 1, s & 1
            if started and d == 2 * first and parity == 1:
                bound = c
                count, t = 1, before[s]
                while t != begin:
                    count += 1
                    t = before[t]
                ring = np.empty(count, np.int32)
                t = s
                for k in range(count - 1, -1, -1):
                    ring[k] = (t >> 1) >> 1
                    t = before[t]
                break
            started = True
            e = d >> 1
            p = ends[e, 1] if d & 1 == 0 else ends[e, 0]
            slot = _slot(start, around, p, e)
            for k in range(start[p], start[p + 1]):
                other = around[k]
                if other == e or cost[other] == np.inf:
                    continue
                to = 2 * other if ends[other, 0] == p else 2 * other + 1
                q = ends[other, 1] if to & 1 == 0 else ends[other, 0]
                if shut[q]:
                    continue
                bend = _turned(angle, full, p, slot, k) / (np.pi / 2)
                total = c + cost[other] + turn * bend * bend
                state = 2 * to + (parity ^ (1 if odd[other] else 0))
                if total < best[state] and total < bound and size < len(heap):
                    if best[state] == np.inf:
                        touched[n] = state
                        n += 1
                    best[state] = total
                    before[state] = s
                    size = heap_push(heap, item, size, total, state, 0, 0, 0)
        for k in range(n):
            best[touched[k]] = np.inf
            before[touched[k]] = -1
    if len(ring) == 0:
        return ring, np.inf
    seen = np.zeros(len(start) - 1, np.int32)
    for e in ring:
        seen[ends[e, 0]] += 1
        seen[ends[e, 1]] += 1
    for e in ring:
        if seen[ends[e, 0]] != 2 or seen[ends[e, 1]] != 2:
            return np.zeros(0, np.int32), np.inf
    return ring, bound
