"""One connected piece of a form being cut: what is cut so far, and what a part of it is."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from jacket.core.mesh.geometry import edge_lengths, face_areas
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.mesh.walks import face_parts
from jacket.core.seams.laying import Laid, lay
from jacket.core.seams.limbs import remoteness, tips, ways_over
from jacket.core.seams.turning import TURN, Turning, cheapest_path
from jacket.core.uv.chart import Chart, chart_of

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
class Cloth:
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
        """A part laid flat, from nowhere or going on from where it lies; remembered."""
        cut = self.cut if cut is None else cut
        inside = self.within(faces) & cut
        key = b"".join([faces.tobytes(), np.flatnonzero(inside).tobytes(), f"{steps}{afresh}".encode()])
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

    side: Floats = field(init=False, default_factory=lambda: np.zeros(0))
    """(E,) on which side of the mirror the middle of each edge lies."""

    def _points(self, edges: Ints) -> Ints:
        return np.unique(self.mesh.topology.edge_points[edges])

    def _face_at(self, point: int) -> int:
        topology = self.mesh.topology
        return int(self.mesh.face_of_corner[topology.ring[topology.ring_start[point]]])
