"""Draft: points, quads, pulled borders, loops and welds, all with the left button."""

from __future__ import annotations

from typing import Any

import numpy as np

from jacket.core.fit.lifted import lifted_points
from jacket.core.mesh.edits import (
    border_pulled_targets,
    borders_pulled,
    faces_removed,
    points_removed,
    points_welded,
)
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.errors import EditRefused
from jacket.stages.topology.tools.closing import closing_quads, closing_triangles, corner_fills
from jacket.stages.topology.tools.drafted import (
    held_to_plane,
    mirrored_pull,
    moved_with_mirror,
    on_source,
    with_loop,
    with_point,
    with_quad,
)
from jacket.stages.topology.tools.offers import (
    NOTHING_OFFERED,
    Offer,
    closing_offer,
    edge_offers,
    face_offer,
    point_offer,
)
from jacket.tools.base import Option, Tool
from jacket.tools.events import Ghost, Pointer
from jacket.tools.mirror import partner_faces, partners
from jacket.tools.pick import (
    Pick,
    nearest_points,
    occluder,
    open_points,
    pick,
    screen_points,
    segment_distance,
    slack_for,
    source_hit,
)


class Draft(Tool):
    """Quads drawn on the source; the ghost shows what will happen before it does."""

    id, label, stage, key = "draft", "Draft", "topology", "D"
    options = (Option("triangles", "Offer triangles too", "switch"),)
    legend = (
        ("click", "point, or close a quad"),
        ("drag edge", "pull a new quad"),
        ("drag point", "move along the source"),
    )

    def __init__(self, *arguments) -> None:
        super().__init__(*arguments)
        self.offers: list[Offer] = []
        self.turn = 0
        self.dragging: Offer | None = None
        self.start: Pointer | None = None
        self.moved = False
        self.pixel = 0.0
        self.triangles = False

    @property
    def busy(self) -> bool:
        return self.dragging is not None

    @property
    def offer(self) -> Offer:
        """What a click would do now."""
        return self.offers[self.turn % len(self.offers)] if self.offers else NOTHING_OFFERED

    def _mesh(self) -> PolyMesh:
        jacket = self.document.state.jacket
        return jacket.mesh if jacket is not None else PolyMesh.empty()

    # ---- looking ------------------------------------------------------------------------------
    def hover(self, pointer: Pointer) -> None:
        before = [(o.kind, o.pick.id, o.face) for o in self.offers]
        self.offers = self._offers(pointer)
        if [(o.kind, o.pick.id, o.face) for o in self.offers] != before:
            self.turn = 0
        self.ghost = self.offer.ghost

    def step(self) -> None:
        self.turn += 1
        self.ghost = self.offer.ghost

    def leave(self) -> None:
        super().leave()
        self.offers = []

    def _offers(self, pointer: Pointer) -> list[Offer]:
        if pointer.form is None:
            return []
        mesh = self._mesh()
        hiding = occluder(self.document.state)
        self.pixel = pointer.form.pixel_size(pointer.form.distance)
        found = pick(mesh, pointer, self.settings.reach, hiding)
        if found.kind == "point":
            return [point_offer(mesh, found)]
        if found.kind == "edge":
            return edge_offers(mesh, found, pointer)
        if found.kind == "face":
            return [face_offer(mesh, found)]
        hit = source_hit(self.document.state, pointer)
        if hit is None:
            return []
        place = Offer("point", Ghost(marks=hit.position[None], what="Put a point", how="click"), position=hit.position)
        if pointer.ctrl:
            return [place]
        offers = []
        quads = closing_quads(mesh, pointer, hit.position, hiding)
        for three, fourth in corner_fills(mesh, pointer, hiding):
            place4 = on_source(self.document.state, fourth[None])[0]
            near = self._open_point_near(mesh, place4, pointer)
            if near >= 0 and near not in three:
                if {*three, near} not in [set(q) for q in quads]:
                    offers.append(closing_offer(mesh, (*three, near), hit.position, "Fill the corner"))
            else:
                offers.append(closing_offer(mesh, three, place4, "Fill the corner with a quad"))
        closing = [closing_offer(mesh, q, hit.position, "Close quad" if len(q) == 4 else "Add a point and close a quad")
                   for q in quads]  # fmt: skip
        offers = [*[o for o in closing if len(o.face) == 4], *offers, *[o for o in closing if len(o.face) == 3]]
        if self.triangles:
            for face, fresh in closing_triangles(mesh, pointer, hiding):
                what = "Add a point and close a triangle" if fresh else "Close triangle"
                offers.append(closing_offer(mesh, face, hit.position if fresh else None, what, "triangle"))
        return [*offers, place]

    def _open_point_near(self, mesh: PolyMesh, place: Floats, pointer: Pointer) -> int:
        """An open point within reach of a place, as seen on the screen."""
        assert pointer.form is not None
        ids = np.flatnonzero(open_points(mesh))
        if len(ids) == 0:
            return -1
        at = screen_points(mesh, pointer.form)[ids, :2]
        far = np.hypot(*(at - pointer.form.project(place)[0, :2]).T)
        k = int(np.nanargmin(far)) if np.isfinite(far).any() else 0
        return int(ids[k]) if far[k] <= self.settings.reach * 1.3 else -1

    # ---- doing --------------------------------------------------------------------------------
    def press(self, pointer: Pointer) -> None:
        if not self.offers:
            self.hover(pointer)
        names = {
            "point": "put a point",
            "close": "close a quad",
            "triangle": "close a triangle",
            "loop": "insert a loop",
            "pull": "pull an edge",
        }
        name = names.get(
            self.offer.kind, f"move a{'n' if self.offer.pick.kind == 'edge' else ''} {self.offer.pick.kind}"
        )
        self.document.begin(name)
        # Only now: a press that is refused has no release.
        self.dragging, self.start, self.moved = self.offer, pointer, False

    def move(self, pointer: Pointer) -> None:
        offer, start = self.dragging, self.start
        if offer is None or start is None:
            return
        if not self.moved and np.hypot(pointer.x - start.x, pointer.y - start.y) < 3:
            return
        self.moved = True
        base = self.document.gesture_base.jacket
        if base is None:
            return
        if offer.kind == "move" and offer.edges is not None:
            self._drag_points(base.mesh, offer.edges, start, pointer)
        elif offer.kind == "pull" and offer.edges is not None:
            self._drag_border(base.mesh, offer, start, pointer)
        elif offer.kind == "loop":
            share = self._slid(base.mesh, offer, pointer)
            self.document.edit_jacket("insert a loop", with_loop(self.document.state, base.mesh, offer.pick.id, share))

    def release(self, pointer: Pointer) -> None:
        offer = self.dragging
        self.dragging = None
        if offer is None:
            return
        try:
            self._finish(offer, pointer)
        except EditRefused:
            self.document.rollback()
            raise
        finally:
            self.hover(pointer)

    def cancel(self) -> bool:
        had = super().cancel()
        # Or it would be taken for busy until the next click, and checks would wait for it.
        self.dragging = self.start = None
        return had

    def _finish(self, offer: Offer, pointer: Pointer) -> None:
        mesh = self._mesh()
        if self.document.state.jacket is None:
            self.document.rollback()
            self.document.require_jacket()
        name = None
        if not self.moved:
            if offer.kind == "point" and offer.position is not None:
                self.document.edit_jacket(
                    "put a point", with_point(self.document.state, mesh, offer.position, self._plane_reach())
                )
            elif offer.kind in ("close", "triangle"):
                self.document.edit_jacket(
                    "close a face", with_quad(self.document.state, mesh, offer, self._plane_reach())
                )
            elif offer.kind == "loop":
                self.document.edit_jacket(
                    "insert a loop", with_loop(self.document.state, mesh, offer.pick.id, offer.pick.share)
                )
        elif offer.kind == "move" and offer.pick.kind == "point" and not pointer.ctrl:
            try:
                name = self._weld_after_drag(mesh, offer.pick.id, pointer)
            except EditRefused as reason:
                self.note = f"Moved but not welded: {reason}"
        self.document.commit(name)

    def _plane_reach(self) -> float:
        """How near to the mirror plane a point is held on it: the reach in pixels, in space."""
        return self.settings.reach * self.pixel

    def _slid(self, mesh: PolyMesh, offer: Offer, pointer: Pointer) -> float:
        """The share along the picked edge that lies nearest to the pointer."""
        assert pointer.form is not None
        ends = screen_points(mesh, pointer.form)[mesh.topology.edge_points[offer.pick.id], :2]
        share, _ = segment_distance(np.array([pointer.x, pointer.y]), ends[:1], ends[1:])
        return float(np.clip(share[0], 0.05, 0.95))

    def _drag_points(self, mesh: PolyMesh, ids: Ints, start: Pointer, pointer: Pointer) -> None:
        moved = self._followed(mesh.points[ids], start, pointer, lifted_points(mesh)[ids])
        self.document.edit_jacket("move", moved_with_mirror(self.document.state, mesh, ids, moved))
        ring = moved if len(moved) > 1 else np.repeat(moved, 2, axis=0)
        lines = np.stack([ring, np.roll(ring, -1, axis=0)], axis=1)
        self.ghost = Ghost(lines=lines, what="Move along the source", how="let go")
        if len(ids) == 1 and not pointer.ctrl:
            near = self._weld_target(self._mesh(), int(ids[0]), pointer)
            if near >= 0:
                self.ghost = Ghost(marks=self._mesh().points[[near]], what="Weld the points", how="let go")

    def _followed(self, points: Floats, start: Pointer, pointer: Pointer, lifted: Any = False) -> Floats:
        """Points carried with the pointer and laid onto the source, lifted ones excepted."""
        assert pointer.form is not None
        camera = pointer.form
        if len(points) == 1:
            hit = source_hit(self.document.state, pointer)
            if hit is not None and not np.any(lifted):
                return hit.position[None].copy()
        depth = float(np.nanmean(camera.project(points)[:, 2]))
        size = camera.pixel_size(depth)
        right, up, _ = camera.rotation
        shift = right * (pointer.x - start.x) * size - up * (pointer.y - start.y) * size
        return np.where(np.reshape(lifted, (-1, 1)), points + shift, on_source(self.document.state, points + shift))

    def _weld_target(self, mesh: PolyMesh, point: int, pointer: Pointer) -> int:
        if point >= mesh.n_points:
            return -1
        others = np.ones(mesh.n_points, bool)
        others[point] = False
        hiding = occluder(self.document.state)
        near = nearest_points(mesh, pointer, self.settings.reach * 1.3, hiding, slack_for(mesh, hiding), 1, others)
        return int(near[0]) if len(near) else -1

    def _weld_after_drag(self, mesh: PolyMesh, point: int, pointer: Pointer) -> str | None:
        target = self._weld_target(mesh, point, pointer)
        if target < 0:
            return None
        axis = self.document.state.mirror
        pairs = [[point, target]]
        if axis:
            base = self.document.gesture_base.jacket
            table = partners(base.mesh, axis) if base is not None else np.zeros(0, np.int32)
            a, b = int(table[point]), int(table[target])
            if a >= 0 and b >= 0 and a != point and {a, b} != {point, target}:
                pairs.append([a, b])
        self.document.edit_jacket("weld points", points_welded(mesh, pairs).mesh)
        return "weld points"

    def _drag_border(self, mesh: PolyMesh, offer: Offer, start: Pointer, pointer: Pointer) -> None:
        assert offer.edges is not None and pointer.form is not None
        ids = np.unique(mesh.topology.edge_points[offer.edges])
        moved = self._followed(mesh.points[ids] + 0.0, start, pointer)
        moved = held_to_plane(self.document.state, moved, self._plane_reach())
        targets = {int(p): moved[k] for k, p in enumerate(ids.tolist())}
        if not pointer.ctrl:
            joins = border_pulled_targets(mesh, ids, pointer.form.project(moved)[:, :2],
                                          pointer.form.project(mesh.points)[:, :2], self.settings.reach * 1.3)  # fmt: skip
            targets.update(joins)
        self.note = ""
        try:
            new = borders_pulled(mesh, offer.edges, targets).mesh
        except EditRefused as reason:
            self.note = f"Not joined: {reason}"
            targets = {int(p): moved[k] for k, p in enumerate(ids.tolist())}
            new = borders_pulled(mesh, offer.edges, targets).mesh
        new = mirrored_pull(self.document.state, mesh, new, offer.edges, ids, targets)
        self.document.edit_jacket("pull an edge", new)
        joined = [int(t) for t in targets.values() if np.ndim(t) == 0]
        what = self.note or (f"Pull, welding {len(joined)} points" if joined else "Pull a quad")
        self.ghost = Ghost(marks=mesh.points[joined], what=what, how="let go")

    # ---- removing -----------------------------------------------------------------------------
    def remove(self, pointer: Pointer) -> None:
        """Remove the point, edge (with its faces) or face under the pointer."""
        mesh = self._mesh()
        found = pick(mesh, pointer, self.settings.reach, occluder(self.document.state))
        axis = self.document.state.mirror
        if found.kind == "point":
            ids = [found.id]
            if axis and partners(mesh, axis)[found.id] >= 0:
                ids.append(int(partners(mesh, axis)[found.id]))
            self.document.edit_jacket("remove a point", points_removed(mesh, ids).mesh)
        elif found.kind:
            faces = self._faces_at(mesh, found)
            if axis:
                faces = np.union1d(faces, partner_faces(mesh, faces, axis))
            self.document.edit_jacket(f"remove a{'n' if found.kind == 'edge' else ''} {found.kind}",
                                      faces_removed(mesh, faces).mesh)  # fmt: skip
        self.hover(pointer)

    @staticmethod
    def _faces_at(mesh: PolyMesh, found: Pick) -> Ints:
        if found.kind == "face":
            return np.array([found.id], np.int32)
        corners = np.flatnonzero(mesh.topology.edge == found.id)
        return np.unique(mesh.face_of_corner[corners])
