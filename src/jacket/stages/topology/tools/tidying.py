"""Tidy: levelling, straightening, spacing, rounding, flattening what is held; cleaning the layer."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from jacket.core.derive import rings_of, surface_of
from jacket.core.fit.lifted import lifted_points, settled
from jacket.core.fit.relax import untangled
from jacket.core.fit.tidy import (
    best_plane,
    evened_path,
    flattened,
    levelled,
    loops_spaced,
    made_planar,
    rounded,
    straightened,
)
from jacket.core.mesh.choosing import as_kind, chains, edge_paths, outline
from jacket.core.mesh.cleaning import idle_loops, near_merged, near_pairs, triangles_paired
from jacket.core.mesh.edits import loop_inserted
from jacket.core.mesh.geometry import dihedral_angles
from jacket.core.mesh.poles import is_pole, pair_cancelled, pole_moved
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.mesh.rows import edge_turned, edges_dissolved, row_collapsed
from jacket.core.mesh.walks import shortest_path
from jacket.core.quads.relay import pole_relaid
from jacket.core.space.bvh import Bvh
from jacket.document.document import Document
from jacket.errors import EditRefused
from jacket.stages.topology.tools.moving import held_points, moved_mesh, settled_at
from jacket.stages.topology.values import TopologyValues
from jacket.tools.events import NO_GHOST, Ghost
from jacket.tools.holding import Hold
from jacket.tools.mirror import reflected


@dataclass(frozen=True)
class Tidying:
    """id, label, words to find it by, what it is called when undone, and what it does: from the document and the
    card's values to the new mesh."""

    id: str
    label: str
    words: str
    step: str
    run: Callable[[Document, TopologyValues], PolyMesh]
    long: bool = False
    """Whether it may take more than a blink: then it works in the background."""
    shown: Callable[[Document, TopologyValues], PolyMesh] | None = None
    """What pointing at its button shows, where that is not simply what it does."""


class Tidy(Hold):
    """Holds as Hold does; its card tidies what is held. Pointing at a button shows what it would do."""

    id, label, stage, key = "tidy", "Tidy", "topology", "T"
    legend = (
        ("click, drag", "hold what to tidy"),
        ("Shift", "the loop, ring or path"),
        ("buttons", "point at one to see it"),
    )
    options = Hold.options[:1]
    pointed = ""

    @property
    def previews(self) -> bool:
        return bool(self.pointed)

    def preview(self, action: str, values: TopologyValues) -> None:
        """Show what a button of the card would do; nothing for ""."""
        self.ghost, self.pointed = NO_GHOST, action
        if not action:
            return
        tidying = TIDYINGS[action]
        try:
            self.show_result(action, (tidying.shown or tidying.run)(self.document, values))
        except EditRefused as reason:
            self.ghost = Ghost(what=str(reason))

    def show_result(self, action: str, new: PolyMesh) -> None:
        """Show what a button makes of the layer, while it is still pointed at."""
        if action == self.pointed:
            mesh = self.document.require_jacket().mesh
            self.ghost = Ghost(lines=changed_lines(mesh, new), what=TIDYINGS[action].label, how="click")

    def wants_time(self, action: str) -> bool:
        """Whether what a button would do is not shown yet because it takes more than a blink to find out."""
        return action in TIDYINGS and TIDYINGS[action].long and self.ghost.what == AHEAD


def changed_lines(old: PolyMesh, new: PolyMesh) -> Floats:
    """(S, 2, 3) edges of the new mesh that the old one does not have at that place; where edges only went, those."""
    ends = new.topology.edge_points
    if new.topology.edge_points is old.topology.edge_points or np.array_equal(ends, old.topology.edge_points):
        moved = (new.points != old.points).any(axis=1)
        return new.points[ends[moved[ends].any(axis=1)]]
    kept = {e.tobytes() for e in np.sort(new.points[ends].round(9), axis=1)}
    before = old.points[old.topology.edge_points]
    gone = [k for k, e in enumerate(np.sort(before.round(9), axis=1)) if e.tobytes() not in kept]
    return before[gone]


def _surface(document: Document, values: TopologyValues) -> Bvh | None:
    source = document.state.source
    return surface_of(source.mesh) if source is not None and values.tidy_stay else None


def _moved(document: Document, values: TopologyValues, points: Floats) -> PolyMesh:
    """The layer with points moved, laid back onto the source where that is wanted; lifted ones stay as moved."""
    mesh = document.open_jacket().mesh
    touched = np.flatnonzero((points != mesh.points).any(axis=1)).astype(np.int32)
    return moved_mesh(document, mesh, points, touched, values.tidy_stay)


def _need_held(document: Document) -> Ints:
    if not document.state.held.parts:
        raise EditRefused("Hold what should be tidied first.")
    return held_points(document.state)


def held_paths(document: Document) -> list[tuple[Ints, bool]]:
    """What is held as paths of points: held edges, the outline of held faces, held points along edges, or the
    shortest path between two points."""
    mesh, held = document.require_jacket().mesh, document.state.held
    edges, points, faces = held.of("edges"), held.of("points"), held.of("faces")
    if len(faces):
        edges = np.union1d(edges, outline(mesh, "faces", faces))
    if len(edges):
        return edge_paths(mesh, edges)
    if len(points) == 2:
        return [(shortest_path(mesh, int(points[0]), int(points[1])), False)]
    if len(points) > 2:
        inner = as_kind(mesh, "points", points, "edges")
        if len(inner) >= len(points) - 1:
            found = edge_paths(mesh, inner)
            if len(found) == 1:
                return found
        return [(np.array(row, np.int32), False) for row in chains(mesh, "points", points) if len(row) > 2]
    raise EditRefused("Hold a path first: edges, the points along it, or its two ends.")


def level(document: Document, values: TopologyValues) -> PolyMesh:
    """Held points brought to the height of the last held element along an axis."""
    ids = _need_held(document)
    mesh, held = document.open_jacket().mesh, document.state.held
    axis = "xyz".index(values.level_axis)
    last = held.last if held.last >= 0 else int(held.ids[-1])
    height = float(mesh.points[as_kind(mesh, held.kind, np.array([last]), "points"), axis].mean())
    up = lifted_points(mesh)[ids]
    points = mesh.points.copy()
    points[ids[up], axis] = height
    low = ids[~up]
    if len(low):
        points[low] = levelled(mesh.points, low, axis, height, _surface(document, values))[low]
    return _moved(document, values, points)


def straighten(document: Document, values: TopologyValues) -> PolyMesh:
    """Held paths laid onto the straight line between their ends."""
    points = document.open_jacket().mesh.points
    for path, closed in held_paths(document):
        if closed:
            raise EditRefused("A closed loop cannot be straightened; hold a part of it, or round it.")
        points = straightened(points, path, values.tidy_even, _surface(document, values))
    return _moved(document, values, points)


def even_path(document: Document, values: TopologyValues) -> PolyMesh:
    """Points of held paths spread evenly along them."""
    points = document.open_jacket().mesh.points
    for path, closed in held_paths(document):
        points = evened_path(points, path, closed, _surface(document, values))
    return _moved(document, values, points)


def space_loops(document: Document, values: TopologyValues) -> PolyMesh:
    """Held loops spread evenly between the outermost two."""
    mesh = document.open_jacket().mesh
    return _moved(document, values, loops_spaced(mesh, document.state.held.of("edges"), _surface(document, values)))


def round_ring(document: Document, values: TopologyValues) -> PolyMesh:
    """Held closed loops, or the outline of held faces, laid onto their best circles."""
    points = document.open_jacket().mesh.points
    rings = [path for path, closed in held_paths(document) if closed]
    if not rings:
        raise EditRefused("Hold a closed loop, or faces with a round outline, to round it.")
    for ring in rings:
        points = rounded(points, ring, values.tidy_even, _surface(document, values))
    return _moved(document, values, points)


def flatten_held(document: Document, values: TopologyValues) -> PolyMesh:
    """Held points laid onto their own best plane. Where that leaves the source they are lifted."""
    ids = _need_held(document)
    mesh = document.open_jacket().mesh
    if len(ids) < 3:
        raise EditRefused("A plane needs three points or more; hold more.")
    points = flattened(mesh.points, ids, *best_plane(mesh.points[ids]))
    return moved_mesh(document, mesh, points, ids, stay=False)


def flatten_to_last(document: Document, values: TopologyValues) -> PolyMesh:
    """Held faces laid onto the plane of the one held last."""
    ids = _need_held(document)
    mesh, held = document.open_jacket().mesh, document.state.held
    if held.kind != "faces" or held.last < 0:
        raise EditRefused("Hold faces, the one whose plane counts last.")
    points = flattened(mesh.points, ids, *best_plane(mesh.points[mesh.face(held.last)]))
    return moved_mesh(document, mesh, points, ids, stay=False)


def planar(document: Document, values: TopologyValues) -> PolyMesh:
    """Held faces, or all, made flat each for itself."""
    mesh = document.open_jacket().mesh
    held = document.state.held
    faces = np.arange(mesh.n_faces)
    if held.parts:
        faces = np.unique(np.concatenate([as_kind(mesh, h.kind, h.ids, "faces") for h in held.parts]))
    if len(faces) == 0:
        raise EditRefused("Hold faces to make flat, or let go of everything to take them all.")
    ids = as_kind(mesh, "faces", faces, "points")
    return moved_mesh(document, mesh, made_planar(mesh, faces), ids, stay=False)


def untangle(document: Document, values: TopologyValues) -> PolyMesh:
    """Folded faces smoothed out, among what is held or everywhere."""
    mesh = document.open_jacket().mesh
    source = document.state.source
    new = untangled(mesh, surface_of(source.mesh if source is not None else mesh), None)
    allowed = np.zeros(mesh.n_points, bool)
    allowed[held_points(document.state)] = True
    points = np.where((allowed & ~lifted_points(mesh))[:, None], new.points, mesh.points)
    if np.array_equal(points, mesh.points):
        raise EditRefused("Nothing is folded here.")
    return _moved(document, values, points)


def pair_triangles(document: Document, values: TopologyValues) -> PolyMesh:
    """Triangles joined to quads, among held faces or everywhere."""
    mesh = document.open_jacket().mesh
    faces = document.state.held.of("faces")
    return triangles_paired(mesh, faces if len(faces) else None)


def dissolve_idle(document: Document, values: TopologyValues) -> PolyMesh:
    """Loops that carry no shape taken out, among held edges or everywhere; of held edges that form no such loop those
    that carry none, though faces with more corners are left."""
    mesh = document.open_jacket().mesh
    among = None
    if document.state.held.parts:
        among = np.zeros(mesh.topology.n_edges, bool)
        for h in document.state.held.parts:
            among[as_kind(mesh, h.kind, h.ids, "edges")] = True
    edges = idle_loops(mesh, values.idle_angle, among)
    own = document.state.held.of("edges")
    if len(edges) == 0 and len(own):
        flat = dihedral_angles(mesh)[own] <= values.idle_angle
        edges = own[flat & (mesh.topology.edge_uses[own] == 2)]
    if len(edges) == 0:
        raise EditRefused(f"No loop here turns by less than {values.idle_angle:g}° all the way; raise the angle.")
    return edges_dissolved(mesh, edges).mesh


def merge_distance(document: Document, values: TopologyValues) -> float:
    """The distance of merging; a hundredth of the mean edge until one is given."""
    mesh = document.require_jacket().mesh
    given = values.merge_distance
    if given > 0 or mesh.topology.n_edges == 0:
        return given
    from jacket.core.mesh.geometry import edge_lengths

    return 0.05 * float(edge_lengths(mesh).mean())


def merge_near(document: Document, values: TopologyValues) -> PolyMesh:
    """Points nearer than the distance merged, among what is held or everywhere."""
    mesh = document.open_jacket().mesh
    return near_merged(mesh, merge_distance(document, values), held_points(document.state))[0]


def merge_count(document: Document, values: TopologyValues) -> int:
    """How many points merging would take away."""
    jacket = document.state.jacket
    if jacket is None:
        return 0
    return len(near_pairs(jacket.mesh, merge_distance(document, values), held_points(document.state)))


def turn_edges(document: Document, values: TopologyValues) -> PolyMesh:
    """Held edges turned by one corner each: irregular points move or cancel, quads stay quads."""
    mesh = document.open_jacket().mesh
    edges = document.state.held.of("edges")
    if len(edges) == 0:
        raise EditRefused("Hold an edge between two quads to turn it.")
    for a, b in mesh.topology.edge_points[edges].tolist():
        e = mesh.topology.find_edge(a, b)
        if e >= 0:
            mesh = edge_turned(mesh, e).mesh
    return mesh


def cancel_pair(document: Document, values: TopologyValues) -> PolyMesh:
    """Two held irregular points that undo one another made regular, and their mirrored ones: by taking out the rows
    between them, or where those wind through the whole layer by laying the part around anew."""
    return _on_both_sides(document, _two_poles(document), _either(document, pair_cancelled))


def cancel_pair_shown(document: Document, values: TopologyValues) -> PolyMesh:
    """The layer without the rows between two held poles."""
    return _by_rows(document, _two_poles(document), pair_cancelled)


def move_pole(document: Document, values: TopologyValues) -> PolyMesh:
    """A held irregular point moved to the held neighbour, and its mirrored one likewise."""
    return _on_both_sides(document, _pole_and_goal(document), _either(document, pole_moved))


def move_pole_shown(document: Document, values: TopologyValues) -> PolyMesh:
    """The layer with the rows before and behind a held pole changed."""
    return _by_rows(document, _pole_and_goal(document), pole_moved)


Change = Callable[[PolyMesh, int, int], PolyMesh]


def _two_poles(document: Document) -> Ints:
    points = document.state.held.of("points")
    if len(points) != 2:
        raise EditRefused("Hold two irregular points, as one of three edges and one of five, to cancel them.")
    return points


def _pole_and_goal(document: Document) -> Ints:
    mesh, held = document.require_jacket().mesh, document.state.held
    points = held.of("points")
    if len(held.of("edges")) == 1 and len(points) == 0:
        points = mesh.topology.edge_points[held.of("edges")[0]]
    if len(points) != 2:
        raise EditRefused("Hold an irregular point and the neighbour it should move to, or the edge between them.")
    poles = [p for p in points.tolist() if is_pole(mesh, p)]
    if len(poles) != 1:
        raise EditRefused("One of the two held points has to be irregular, the other not.")
    return np.array([poles[0], int(points.sum()) - poles[0]])


def _either(document: Document, by_rows: Change) -> Change:
    """A change by whole rows, or where they wind too far the same by laying the part around anew."""
    source = document.state.source

    def change(mesh: PolyMesh, a: int, b: int) -> PolyMesh:
        try:
            return by_rows(mesh, a, b)
        except EditRefused as reason:
            if not mesh.is_quads or not is_pole(mesh, a):
                raise
            try:
                return pole_relaid(mesh, a, b, surface_of(source.mesh if source is not None else mesh))
            except EditRefused:
                raise EditRefused(
                    "The rows here wind too far to be taken out, and no grid fits without this point; take another one."
                ) from reason

    return change


def _by_rows(document: Document, points: Ints, change: Change) -> PolyMesh:
    mesh = document.open_jacket().mesh
    try:
        return change(mesh, int(points[0]), int(points[1]))
    except EditRefused as reason:
        if not is_pole(mesh, int(points[0])):
            raise
        raise EditRefused(AHEAD) from reason


AHEAD = "The rows here wind far: the part around is laid anew."


def _on_both_sides(document: Document, points: Ints, change: Change) -> PolyMesh:
    """What a change of two points makes of the layer, mirrored where the bench is; new points lie on the source."""
    mesh = document.open_jacket().mesh
    other = reflected(mesh.points[points], document.state.mirror) if document.state.mirror else None
    new = change(mesh, int(points[0]), int(points[1]))
    if other is not None:
        far, near = cKDTree(new.points).query(other)
        step = float(np.linalg.norm(mesh.points[points[0]] - mesh.points[points[1]]))
        # A pair on the plane, or whose rows ran through both sides, is done already.
        if (far < 0.3 * step).all() and is_pole(new, int(near[0])):
            new = change(new, int(near[0]), int(near[1]))
    return _laid(document, new)


def _laid(document: Document, mesh: PolyMesh) -> PolyMesh:
    """Points that are not lifted laid back onto the source."""
    source = document.state.source
    return mesh if source is None else settled(mesh, surface_of(source.mesh), np.arange(mesh.n_points))


def collapse_rows(document: Document, values: TopologyValues) -> PolyMesh:
    """The rows across held edges taken out."""
    return _across_held(document, row_collapsed)


def add_rows(document: Document, values: TopologyValues) -> PolyMesh:
    """A row added through each held edge, beside the one that crosses it."""
    return _across_held(document, lambda mesh, edge: loop_inserted(mesh, edge, 0.5).mesh)


def _across_held(document: Document, change: Callable[[PolyMesh, int], PolyMesh]) -> PolyMesh:
    """What a change makes of the layer at each held edge in turn; points lie on the source after."""
    mesh = document.open_jacket().mesh
    edges = document.state.held.of("edges")
    if len(edges) == 0:
        raise EditRefused("Hold an edge that the row crosses.")
    # Edges that one row crosses stand for it together, however many are held.
    first = np.unique(rings_of(mesh).of_edge[edges], return_index=True)[1]
    for place in mesh.points[mesh.topology.edge_points[edges[np.sort(first)]]].mean(axis=1):
        if mesh.n_faces:
            mesh = change(mesh, _edge_at(mesh, place))
    return _laid(document, mesh)


def _edge_at(mesh: PolyMesh, place: Floats) -> int:
    """The edge whose middle is nearest to a place."""
    return int(np.argmin(np.linalg.norm(mesh.points[mesh.topology.edge_points].mean(axis=1) - place, axis=1)))


def settle_held(document: Document, values: TopologyValues) -> PolyMesh:
    """Held lifted points laid back onto the source."""
    return settled_at(document, document.open_jacket().mesh, held_points(document.state))


def settle_all(document: Document, values: TopologyValues) -> PolyMesh:
    """All lifted points laid back onto the source."""
    mesh = document.open_jacket().mesh
    return settled_at(document, mesh, np.arange(mesh.n_points))


_ROWS = (
    Tidying("level", "Level to the last held", "align flat height axis", "level points", level),
    Tidying("straighten", "Straighten", "line path", "straighten a path", straighten),
    Tidying("even-path", "Even the spacing", "space path distribute", "even a path", even_path),
    Tidying("space-loops", "Space the loops", "distribute rows even", "space loops", space_loops),
    Tidying("round-ring", "Round the ring", "circle loop", "round a ring", round_ring),
    Tidying("flatten-own", "Flatten", "plane planar", "flatten points", flatten_held),
    Tidying("flatten-last", "Flatten to the last held", "plane planar coplanar", "flatten faces", flatten_to_last),
    Tidying("planar-faces", "Make each face flat", "planar quads", "make faces flat", planar),
    Tidying("untangle", "Untangle", "crossed folded inset edges", "untangle", untangle),
    Tidying("turn-edge", "Turn the edge", "rotate spin flip irregular pole", "turn an edge", turn_edges),
    Tidying("cancel-pair", "Cancel two poles", "irregular points pair three five remove", "cancel two poles", cancel_pair, True, cancel_pair_shown),
    Tidying("move-pole", "Move the pole along", "irregular point row shift", "move a pole", move_pole, True, move_pole_shown),
    Tidying("collapse-row", "Take the row out", "collapse ring of quads", "take a row out", collapse_rows),
    Tidying("add-row", "Add a row", "insert loop ring of quads", "add a row", add_rows),
    Tidying("pair-triangles", "Pair triangles to quads", "tris to quads convert join", "pair triangles", pair_triangles),
    Tidying("dissolve-idle", "Take out idle loops", "needless edges simplify dissolve", "take out idle loops", dissolve_idle),
    Tidying("merge-near", "Merge near points", "weld by distance doubles", "merge near points", merge_near),
    Tidying("settle-held", "Settle what is held", "lifted project onto source", "settle points", settle_held),
    Tidying("settle-all", "Settle all lifted points", "lifted project onto source", "settle all points", settle_all),
)  # fmt: skip
TIDYINGS = {row.id: row for row in _ROWS}
