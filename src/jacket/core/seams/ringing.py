"""Rings where limbs join: found round the necks of a form, the best cut first."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jacket.core.mesh.polymesh import Ints
from jacket.core.mesh.walks import face_parts
from jacket.core.seams.cloth import Cloth, Ring
from jacket.core.seams.limbs import faces_between, necks
from jacket.core.seams.turning import cheapest_ring
from jacket.core.uv.chart import chart_of

AREA_LEAST = 0.02
"""Share of the surface that a ring has to part off at least."""
RING_WORTH = 1.15
"""Cost of a ring over √ the area that it parts off, up to which it is cut at once."""
SPARE_WORTH = 3.0
"""The same, up to which it is kept for a part that does not open."""

@dataclass(eq=False)
class Ringer(Cloth):
    """Cuts rings."""

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
