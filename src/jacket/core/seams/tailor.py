"""One connected piece of a form being cut: what is cut so far, what a part of it is, and the cuts that a tailor knows.

A ring where a limb joins, a line from border to border or to a tip, a dart to where it warps, a part in two.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from scipy import sparse
from scipy.sparse.csgraph import breadth_first_order, dijkstra, minimum_spanning_tree

from jacket.core.mesh.geometry import edge_lengths, face_areas
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.mesh.walks import euler_characteristic, face_parts
from jacket.core.seams.laying import Laid, lay
from jacket.core.seams.limbs import faces_between, necks, remoteness, tips, ways_over
from jacket.core.seams.turning import TURN, Turning, cheapest_path, cheapest_ring
from jacket.core.uv.chart import Chart, chart_of

AREA_LEAST = 0.02
"""Share of the surface that a ring has to part off at least."""
RING_WORTH = 1.15
"""Cost of a ring over √ the area that it parts off, up to which it is cut at once."""
SPARE_WORTH = 3.0
"""The same, up to which it is kept for a part that does not open."""
LONG_LIMB = 2.5
"""Distance of a tip from the border, in radii of the border, from which a line leads to it before anything is tried."""

Watch = Callable[[str, Floats], None]


def unwatched(kind: str, points: Floats) -> None:
    """Nobody looks."""


@dataclass(frozen=True, eq=False)
class Ring:
    """A closed way round a neck: its edges, in order, and what it costs for the area beyond."""

    edges: Ints
    worth: float


@dataclass(frozen=True, eq=False)
class Part:
    """A part as things are cut, as a mesh of its own in which both sides of a seam are apart.

    edges   (E',) the edge of the whole behind each of its edges
    at      (V',) the point of the whole behind each of its points
    cost    (E',) of cutting, inf on its outline
    """

    chart: Chart
    edges: Ints
    at: Ints
    turning: Turning
    cost: Floats

    @property
    def mesh(self) -> PolyMesh:
        """The part itself."""
        return self.chart.mesh

    @property
    def outline(self) -> Bools:
        """(V',) points on its borders."""
        return self.mesh.topology.border_points

    def way(self, sources: Ints, goals: Ints, turn: float) -> tuple[Ints, float]:
        """Edges of the whole along the cheapest way between points of the part, and what it costs; none and inf where
        there is none."""
        flags = np.zeros(self.mesh.n_points, bool)
        flags[goals] = True
        edges, total = cheapest_path(self.turning, self.cost, sources, flags, self.outline, turn)
        return self.edges[edges], total


@dataclass(eq=False)
class Tailor:
    """A connected piece under the scissors.

    cost    (E,) of cutting each edge, inf where it is not to be cut
    mates   (E,) the edge on the other side of the mirror, −1 for none; None without a mirror
    cut     (E,) what is cut
    keep    (E,) cuts that stay whatever happens
    places  (C, 2) where the corners lie flat at the moment, NaN where not known
    """

    mesh: PolyMesh
    cost: Floats
    mates: Ints | None
    watch: Watch
    cut: Bools = field(init=False)
    keep: Bools = field(init=False)
    places: Floats = field(init=False)

    def __post_init__(self) -> None:
        mesh = self.mesh
        self.cut = np.zeros(mesh.topology.n_edges, bool)
        self.keep = self.cut.copy()
        self.places = np.full((mesh.n_corners, 2), np.nan)
        self.turning = Turning.of(mesh)
        self.length = edge_lengths(mesh)
        self.step = float(self.length.mean())
        self.area = face_areas(mesh)
        self.whole = float(self.area.sum())
        self.turn = TURN * self.step
        self.spares: list[Ring] = []
        self.laid: dict[bytes, Laid | None] = {}
        topology = mesh.topology
        inner = topology.edge_uses == 2
        corner = topology.edge_corner
        self.faces = np.stack(
            [mesh.face_of_corner[corner], np.where(inner, mesh.face_of_corner[np.maximum(topology.twin[corner], 0)], -1)], 1
        )
        self.tips = np.zeros(0, np.int32)

    # ---- what is there -----------------------------------------------------------------------------------------

    def find_limbs(self) -> None:
        """Look for the tips of the form."""
        self.ways = ways_over(self.mesh)
        self.remote = remoteness(self.mesh, self.ways)
        self.tips = tips(self.mesh, self.ways, self.remote)
        self.watch("tips", self.mesh.points[self.tips])

    def parts(self) -> list[Ints]:
        """Faces of each part as things are cut."""
        count, labels = face_parts(self.mesh, self.cut)
        order = np.argsort(labels, kind="stable")
        bounds = np.searchsorted(labels[order], np.arange(count + 1))
        return [order[bounds[k] : bounds[k + 1]].astype(np.int32) for k in range(count)]

    def part(self, faces: Ints) -> Part:
        """A part as a mesh of its own."""
        chart = chart_of(self.mesh, faces, self.cut)
        topology = chart.mesh.topology
        edges = np.empty(topology.n_edges, np.int32)
        edges[topology.edge] = self.mesh.topology.edge[chart.corners]
        at = np.empty(chart.mesh.n_points, np.int32)
        at[chart.mesh.corners] = self.mesh.corners[chart.corners]
        cost = np.where(topology.edge_uses == 2, self.cost[edges], np.inf)
        return Part(chart, edges, at, Turning.of(chart.mesh), cost)

    def lay(self, faces: Ints, steps: int, cut: Bools | None = None, afresh: bool = False) -> Laid | None:
        """A part laid flat; remembered."""
        cut = self.cut if cut is None else cut
        inside = self.within(faces) & cut
        key = b"".join([faces.tobytes(), np.flatnonzero(inside).tobytes(), str(steps).encode()])
        if key not in self.laid:
            self.laid[key] = lay(self.mesh, faces, cut, steps, None if afresh else self.places)
        return self.laid[key]

    def take(self, laid: Laid) -> None:
        """Keep the places of a part to go on from."""
        self.places[laid.chart.corners] = laid.corner_uv()

    def within(self, faces: Ints) -> Bools:
        """(E,) edges between two of the faces."""
        own = np.zeros(self.mesh.n_faces + 1, bool)
        own[faces] = True
        own[-1] = False
        return np.asarray(own[self.faces].all(axis=1))

    # ---- cutting -----------------------------------------------------------------------------------------------

    def commit(self, edges: Ints, kind: str = "line", mirrored: bool = True) -> None:
        """Cut edges, and their mates where that makes no strip between a line and its image."""
        self.cut[edges] = True
        self.watch(kind, self.mesh.points[self.mesh.topology.edge_points[edges]])
        image = self._image(edges) if mirrored else None
        if image is None:
            return
        own = np.zeros(self.mesh.n_points, bool)
        own[self.mesh.topology.edge_points[edges].ravel()] = True
        apart = np.setdiff1d(image, edges)
        if len(apart) == 0 or len(apart) < len(image):
            self.cut[image] = True
            return
        touching = own[self.mesh.topology.edge_points[image]].any()
        if not touching:
            self.cut[image] = True
            self.watch(kind, self.mesh.points[self.mesh.topology.edge_points[image]])

    def _image(self, edges: Ints) -> Ints | None:
        if self.mates is None:
            return None
        image = self.mates[edges]
        return image if (image >= 0).all() else None

    def ring_rounds(self, most: int) -> None:
        """Cut the rings that are worth it, the best first, as long as there are fewer parts than `most`; the others are
        kept for parts that do not open."""
        found = self._rings()
        found.sort(key=lambda r: r.worth)
        self.spares = found
        for ring in found:
            if ring.worth > RING_WORTH or len(self.parts()) >= most or not self._parts_well(ring):
                continue
            self.commit(ring.edges, "ring")

    def _rings(self) -> list[Ring]:
        mesh, out = self.mesh, []
        known: set[bytes] = set()
        everywhere = np.ones(mesh.n_faces, bool)
        for tip in self.tips:
            rows = necks(mesh, self.ways, int(tip))
            if not rows:
                continue
            away = rows[0].away
            near, far = self._face_at(int(tip)), self._face_at(int(np.argmax(away)))
            across = faces_between(mesh, near, far, everywhere)
            for neck in rows:
                band = float(np.clip(neck.length / (2 * np.pi), 3 * self.step, 0.5 * max(neck.level, 6 * self.step)))
                outside = np.abs(away - neck.level) > band
                shut = outside | mesh.topology.border_points
                cost = np.where(shut[mesh.topology.edge_points].any(axis=1) | self.cut, np.inf, self.cost)
                inside = across[np.isfinite(cost[across])]
                if len(inside) == 0:
                    continue
                edges, total = cheapest_ring(self.turning, cost, inside, shut, self.turn)
                if len(edges) == 0 or np.sort(edges).tobytes() in known:
                    continue
                known.add(np.sort(edges).tobytes())
                smaller = self._smaller_side(edges)
                if smaller >= AREA_LEAST * self.whole:
                    worth = total / np.sqrt(smaller)
                    if worth <= SPARE_WORTH:
                        out.append(Ring(self._evened(edges), worth))
        return out

    def _face_at(self, point: int) -> int:
        topology = self.mesh.topology
        return int(self.mesh.face_of_corner[topology.ring[topology.ring_start[point]]])

    def _smaller_side(self, edges: Ints) -> float:
        flags = np.zeros_like(self.cut)
        flags[edges] = True
        count, labels = face_parts(self.mesh, flags)
        return float(np.bincount(labels, self.area, count).min()) if count == 2 else 0.0

    def _evened(self, edges: Ints) -> Ints:
        """A ring across the mirror plane as it should be: one of its halves and the image of that half."""
        if self.mates is None or (self.mates[edges] < 0).any():
            return edges
        image = self.mates[edges]
        if len(np.setdiff1d(image, edges)) == 0 or not np.intersect1d(self._points(image), self._points(edges)).size:
            return edges
        best, least = edges, np.inf
        for side in (1.0, -1.0):
            half = edges[self.side[edges] * side >= 0]
            whole = np.union1d(half, self.mates[half]).astype(np.int32)
            ends = np.bincount(self.mesh.topology.edge_points[whole].ravel())
            if len(half) and (ends[ends > 0] == 2).all() and self._smaller_side(whole) > 0:
                total = float(self.cost[whole].sum())
                if total < least:
                    best, least = whole, total
        return best

    side: Floats = field(init=False, default_factory=lambda: np.zeros(0))
    """(E,) on which side of the mirror the middle of each edge lies."""

    def _points(self, edges: Ints) -> Ints:
        return np.unique(self.mesh.topology.edge_points[edges])

    def _parts_well(self, ring: Ring) -> bool:
        """Whether a ring lies apart from what is cut and leaves no tube without a tip."""
        touched = np.zeros(self.mesh.n_points, bool)
        touched[self.mesh.topology.edge_points[self.cut].ravel()] = True
        if touched[self._points(ring.edges)].any() or not np.isfinite(self.cost[ring.edges]).all():
            return False
        before = len(self.parts())
        trial = self.cut.copy()
        trial[ring.edges] = True
        image = self._image(ring.edges)
        if image is not None and not np.intersect1d(self._points(image), self._points(ring.edges)).size:
            trial[image] = True
        count, labels = face_parts(self.mesh, trial)
        if count == before:
            return False
        area = np.bincount(labels, self.area, count)
        if area.min() < AREA_LEAST * self.whole:
            return False
        tip_parts = {int(labels[self._face_at(int(t))]) for t in self.tips}
        for k in set(labels[self.faces[ring.edges]].ravel().tolist()):
            if k in tip_parts:
                continue
            chart = chart_of(self.mesh, np.flatnonzero(labels == k), trial)
            if len(chart.border) <= 2:
                return False
        return True

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
            both = (both + sparse.identity(self.mesh.n_points)).tocsr()
            self._means = sparse.diags_array(1 / np.asarray(both.sum(axis=1)).ravel()) @ both
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
