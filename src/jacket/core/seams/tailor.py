"""The cuts that a tailor knows.

A ring where a limb joins, a line from border to border or to a tip, a dart to where it warps, a part in two.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from scipy import sparse
from scipy.sparse.csgraph import breadth_first_order, dijkstra, minimum_spanning_tree

from jacket.core.mesh.means import means_over
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.mesh.walks import euler_characteristic, face_parts
from jacket.core.seams.cloth import Part
from jacket.core.seams.laying import Laid
from jacket.core.seams.ringing import Ringer
from jacket.core.seams.turning import cheapest_ring

LONG_LIMB = 2.5
"""Distance of a tip from the border, in radii of the border, from which a line leads to it before anything is tried."""


@dataclass(eq=False)
class Tailor(Ringer):
    """A connected piece under the scissors."""

    # ---- opening -----------------------------------------------------------------------------------------------

    def make_disk(self, faces: Ints) -> bool:
        """Cut a part so that it is a disk: handles first, then its borders joined; False where there is no way."""
        for _ in range(200):
            part = self.part(faces)
            borders = len(part.chart.border)
            handles = 2 - borders - euler_characteristic(part.mesh)
            if borders == 1 and handles <= 0:
                return True
            if handles > 0:
                edges = self._handle(part)
            elif borders == 0:
                edges = self._across(part)
            else:
                edges = self._joined(part)
            if len(edges) == 0:
                return False
            # Only here: the image of what opens one part may fall into what opens it already.
            self.commit(edges, "ring" if handles > 0 else "line", mirrored=handles <= 0 and borders == 0)
        return False

    def _handle(self, part: Part) -> Ints:
        """The cheapest ring round a handle: of all rings that cross one of the loops over faces that no tree holds (Eppstein,
        "Dynamic generators of topologically embedded graphs", 2003)."""
        best, least = NONE, np.inf
        for across in loops_over_faces(part.mesh, part.cost):
            use = across[np.isfinite(part.cost[across])]
            if len(use):
                edges, total = cheapest_ring(part.turning, part.cost, use, part.outline, self.turn)
                if len(edges) and total < least:
                    best, least = part.edges[edges], total
        return best

    def _across(self, part: Part) -> Ints:
        """A line over a part without a border, between the tips farthest from each other."""
        here = np.flatnonzero(np.isin(part.at, self.tips))
        own = here if len(here) else np.arange(part.mesh.n_points)
        first = int(own[np.argmax(self.remote[part.at[own]])])
        away = dijkstra(self.ways, directed=False, indices=int(part.at[first]))[part.at]
        rest = here[here != first] if len(here) > 1 else np.delete(np.arange(part.mesh.n_points), first)
        last = int(rest[np.argmax(np.where(np.isfinite(away[rest]), away[rest], -1))])
        return part.way(np.array([first]), np.array([last]), self.turn)[0]

    def _joined(self, part: Part) -> Ints:
        """The cheapest line from one border to another."""
        best, least = NONE, np.inf
        loops = part.chart.border
        for k, loop in enumerate(loops[:-1]):
            goals = np.setdiff1d(np.concatenate(loops[k + 1 :]), loop)
            edges, total = part.way(loop, goals, self.turn)
            if len(edges) and total < least:
                best, least = edges, total
        return best

    def lines_to_tips(self, faces: Ints) -> None:
        """A line from the border of a part to each tip that lies far inside it, the farthest first."""
        for _ in range(12):
            part = self.part(faces)
            if not part.chart.border:
                return
            border = np.flatnonzero(part.outline)
            around = max(float(np.linalg.norm(np.diff(part.mesh.points[loop], axis=0), axis=1).sum()) for loop in part.chart.border)
            here = np.flatnonzero(np.isin(part.at, self.tips) & ~part.outline)
            if len(here) == 0:
                return
            away = dijkstra(self.ways, directed=False, indices=np.unique(part.at[border]), min_only=True)[part.at]
            tip = int(here[np.argmax(away[here])])
            if away[tip] < LONG_LIMB * around / (2 * np.pi):
                return
            edges, _ = part.way(border, np.array([tip]), self.turn)
            if len(edges) == 0:
                return
            self.commit(edges)

    def rings_inside(self, faces: Ints) -> list[Ints]:
        """The kept rings that lie inside a part and part it well, the cheapest for what they part off first."""
        inner = self.within(faces) & ~self.cut
        return [r.edges for r in self.spares if inner[r.edges].all() and self._parts_well(r)]

    def darts(self, faces: Ints, laid: Laid, most: int) -> list[Ints]:
        """Ways from the border of a part to where it warps most, and to tips inside."""
        part = self.part(faces)
        at, inner = part.at, ~part.outline
        border = np.flatnonzero(part.outline)
        heat = np.zeros(self.mesh.n_faces)
        heat[laid.chart.faces] = laid.face_excess()
        weight = np.repeat(heat / np.maximum(self.mesh.sizes, 1), self.mesh.sizes)
        at_points = np.bincount(self.mesh.corners, weight, self.mesh.n_points)
        own = np.zeros(self.mesh.n_points, bool)
        own[at] = True
        near = self._near()
        for _ in range(5):
            at_points = near @ (at_points * own)
        away = dijkstra(self.ways, directed=False, indices=np.unique(at[border]), min_only=True)[at]
        good = inner & (away >= 2.5 * self.step)
        if not good.any():
            return []
        # Far inside a dart does more.
        merit = np.where(good, at_points[at] * np.sqrt(np.minimum(away, 10 * self.step)), 0.0)
        goals = np.flatnonzero(np.isin(at, self.tips) & good)[: most // 2].tolist()
        apart = max(4 * self.step, 0.12 * float(np.sqrt(self.area[faces].sum())))
        points = part.mesh.points
        for p in np.argsort(-merit, kind="stable")[:400].tolist():
            if len(goals) >= most or merit[p] <= 0:
                break
            if all(np.linalg.norm(points[p] - points[g]) > apart for g in goals):
                goals.append(p)
        deepest = int(np.argmax(np.where(good, away, -1)))
        if deepest not in goals:
            goals.append(deepest)
        found = [part.way(border, np.array([goal]), self.turn)[0] for goal in goals]
        return [edges for edges in found if len(edges)]

    def _near(self) -> sparse.csr_array:
        """(V, V) means over a point and its neighbours."""
        if self._means is None:
            both = (self.ways + self.ways.T).tocsr()
            both.data = np.ones_like(both.data)
            self._means = means_over(both)
        return self._means

    _means: sparse.csr_array | None = field(init=False, default=None)

    def halvings(self, faces: Ints) -> list[Ints]:
        """Ways from border to border that part a piece in two, from each of some stretches of its border to those opposite; the
        cheapest for the smaller area they part off first."""
        part = self.part(faces)
        if not part.chart.border:
            return []
        loop = max(part.chart.border, key=len)
        n = len(loop)
        if n < 4:
            return []
        arcs = 8 if n >= 16 else 4
        cuts = np.linspace(0, n, arcs + 1).astype(int)
        found: list[tuple[float, Ints]] = []
        for k in range(arcs // 2):
            one = loop[cuts[k] : cuts[k + 1]]
            far = range(k + arcs // 4 + 1, k + arcs - arcs // 4)
            other = np.concatenate([loop[cuts[j % arcs] : cuts[j % arcs + 1]] for j in far])
            if len(one) == 0 or len(other) == 0:
                continue
            edges, total = part.way(one, np.setdiff1d(other, one), self.turn)
            if len(edges) == 0:
                continue
            flags = self.cut.copy()
            flags[edges] = True
            _, labels = face_parts(self.mesh, flags)
            sides = np.unique(labels[faces])
            if len(sides) >= 2:
                smaller = min(float(self.area[faces[labels[faces] == s]].sum()) for s in sides)
                found.append((total / max(smaller, 1e-300), edges))
        found.sort(key=lambda row: row[0])
        return [edges for _, edges in found]


NONE = np.zeros(0, np.int32)


def loops_over_faces(mesh: PolyMesh, cost: Floats) -> list[Ints]:
    """Closed ways over the faces of a connected mesh that no cut leaves in pieces, each as the edges that it crosses: one for
    every edge that is neither in a cheap tree over the points, all borders taken for one each, nor in one over the faces
    (tree and cotree)."""
    topology = mesh.topology
    inner = np.flatnonzero(topology.edge_uses == 2)
    outline = topology.border_edges
    ends = topology.edge_points[np.concatenate([outline, inner])]
    weight = np.concatenate([np.full(len(outline), 1e-12), np.minimum(cost[inner], 1e12) + 1e-9])
    n = mesh.n_points
    tree = minimum_spanning_tree(sparse.csr_array((weight, (ends[:, 0], ends[:, 1])), shape=(n, n))).tocoo()
    in_tree = np.zeros(topology.n_edges, bool)
    found = topology.find_edges(np.sort(np.stack([tree.row, tree.col], axis=1), axis=1))
    in_tree[found[found >= 0]] = True
    rest = inner[~in_tree[inner]]
    corner = topology.edge_corner[rest]
    one, other = mesh.face_of_corner[corner], mesh.face_of_corner[topology.twin[corner]]
    f = mesh.n_faces
    graph = sparse.csr_array((np.ones(len(rest)), (one, other)), shape=(f, f))
    _, before = breadth_first_order(graph, 0, directed=False)
    edge_of: dict[tuple[int, int], int] = {}
    spare = []
    for e, i, j in zip(rest.tolist(), one.tolist(), other.tolist(), strict=True):
        key = (min(i, j), max(i, j))
        if key not in edge_of and (before[i] == j or before[j] == i):
            edge_of[key] = e
        else:
            spare.append((e, i, j))
    out = []
    for e, i, j in spare[:24]:
        rows = []
        for start in (i, j):
            row, here = [], start
            while before[here] >= 0:
                up = int(before[here])
                row.append(edge_of[(min(here, up), max(here, up))])
                here = up
            rows.append(row)
        out.append(np.array([e, *np.setxor1d(rows[0], rows[1]).astype(int).tolist()], np.int32))
    return out
