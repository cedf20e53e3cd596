"""Seams found by themselves, as a tailor cuts: rings where limbs join, lines along hidden sides, a carton along its edges.

Each connected piece is cut for itself: rings round the necks of limbs and handles, borders joined by lines, tips of long
limbs reached, then every part is laid flat and judged; a part that does not open well gets one more ring, a dart or is cut
in two. In the end chains that need not be cut are sewn again and all is laid flat once more.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from jacket.core.flatten.descent import FULL_STEPS
from jacket.core.mesh.geometry import edge_lengths, face_areas
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.mesh.walks import face_parts
from jacket.core.seams.cloth import Watch, unwatched
from jacket.core.seams.cost import edge_costs
from jacket.core.seams.cutting import Cut, best_of, cut_one_way
from jacket.core.seams.foreseen import why_closed
from jacket.core.seams.laying import QUICK, SLENDER
from jacket.core.seams.networks import ways_of
from jacket.core.seams.patches import patch_seams
from jacket.core.seams.sky import open_sky
from jacket.core.seams.tailor import NONE, Tailor
from jacket.core.seams.work import USUAL, Limits, SuggestSettings, Work
from jacket.core.uv.chart import chart_of
from jacket.core.uv.sets import cut_flags
from jacket.progress import Progress, part, silent

BETWEEN_WALLS = 0.4
"""What a seam between the walls of a boxy form costs at most, by its length: there one expects it, and rounded or not it hides a break."""
FULL = 0.75
"""Share of a square sheet that islands are taken to fill where it is told how long one may be."""


@dataclass(frozen=True, eq=False)
class Wishes:
    """Where seams are wanted: edges (E,) that stay cut, that are never cut, that are cut gladly, and (V,) how much each
    point is seen, from 0 to 1, in place of the open sky."""

    keep: Bools | None = None
    never: Bools | None = None
    gladly: Bools | None = None
    seen: Floats | None = None


def suggest_seams(
    mesh: PolyMesh, settings: SuggestSettings = SuggestSettings(), progress: Progress = silent,
    wishes: Wishes = Wishes(), watch: Watch = unwatched,
) -> PolyMesh:  # fmt: skip
    """The mesh with its seams replaced by suggested ones; every island opens without flips. `watch` is told tips, rings and
    lines as they are found, with their points."""
    topology = mesh.topology
    nothing = np.zeros(topology.n_edges, bool)
    seen = wishes.seen if wishes.seen is not None else open_sky(mesh)
    progress(0.05, "looking where it is hidden")
    cost = edge_costs(mesh, seen)
    if wishes.gladly is not None:
        cost = np.where(wishes.gladly, 0.25 * cost, cost)
    if wishes.never is not None:
        cost = np.where(wishes.never, np.inf, cost)
    keep = wishes.keep if wishes.keep is not None else nothing
    out = keep.copy()
    count, labels = face_parts(mesh, nothing)
    order = np.argsort(labels, kind="stable")
    bounds = np.searchsorted(labels[order], np.arange(count + 1))
    done = 0
    # A strip longer than the sheet makes everything smaller.
    sheet = float(np.sqrt(face_areas(mesh).sum() / FULL))
    for k in range(count):
        faces = order[bounds[k] : bounds[k + 1]]
        share = len(faces) / mesh.n_faces

        def told(fraction: float, what: str, done: int = done, share: float = share) -> None:
            progress(0.05 + 0.95 * (done / mesh.n_faces + share * fraction), what)

        piece = chart_of(mesh, faces, nothing)
        edges = np.empty(piece.mesh.topology.n_edges, np.int32)
        edges[piece.mesh.topology.edge] = topology.edge[piece.corners]
        flags = _piece(piece.mesh, cost[edges], keep[edges], settings, sheet, told, watch)
        out[edges[flags]] = True
        done += len(faces)
    out &= topology.edge_uses > 1
    return mesh.with_cuts(topology.edge_points[out])


def _piece(
    mesh: PolyMesh, cost: Floats, keep: Bools, settings: SuggestSettings, sheet: float, progress: Progress, watch: Watch
) -> Bools:
    """(E,) where one connected piece is cut: by limbs, along its edges, or as comes out better where it has both."""
    mates, side, along = _mates(mesh, settings.mirror)
    tailor = Tailor(mesh, _even(cost, mates, along), mates, watch)
    tailor.side = side
    tailor.cut |= keep
    tailor.keep |= keep
    long = settings.longest * sheet
    work = Work(tailor, settings, Limits(settings.stretch, 1.8, 0.55, long), progress, Limits(1.05, 1.7, 0.68, long),
                widest=SLENDER * long)  # fmt: skip
    whole = np.arange(mesh.n_faces, dtype=np.int32)
    if not keep.any() and work.open.keeps(tailor.lay(whole, QUICK)) and work.open.keeps(tailor.lay(whole, FULL_STEPS)):
        return tailor.cut
    ways = ways_of(mesh, np.isfinite(cost))
    for way in ways:
        if way.flat and way.network is not None:
            tailor.cost = np.where(way.network, np.minimum(tailor.cost, BETWEEN_WALLS * tailor.length), tailor.cost)
    tailor.find_limbs()
    progress(0.1, "looking for limbs")
    work.bevels = next((np.flatnonzero(way.network).astype(np.int32) for way in ways if way.rounded and way.network is not None), NONE)
    # Where so few rings leave what does not open, more of them make fewer islands than patches do.
    rings = [settings.most, *([USUAL] if settings.most < USUAL else [])]
    for k, most in enumerate(rings):
        work.settings = replace(settings, most=most)
        steps = part(progress, k / len(rings), (k + 1) / len(rings))
        cuts = list[Cut]()
        for n, way in enumerate(ways):
            work.progress = part(steps, n / (len(ways) + 1), (n + 1) / (len(ways) + 1))
            cut = cut_one_way(work, way, keep)
            cuts += [cut] if cut is not None else []
        if cuts:
            work.progress = part(steps, len(ways) / (len(ways) + 1), 1.0)
            return best_of(work, cuts).flags
    return _by_patches(mesh, keep)


def opened(mesh: PolyMesh, mirror: str = "", seen: Floats | None = None) -> tuple[PolyMesh, int]:
    """The mesh with the cheapest cuts more that make a disk of every piece that is none: rings round handles, lines from border
    to border and over closed pieces; and how many pieces those were. What is cut stays, what lies in a plane too."""
    topology = mesh.topology
    tailor = Tailor(mesh, edge_costs(mesh, seen if seen is not None else open_sky(mesh)), _mates(mesh, mirror)[0], unwatched)
    tailor.cut = cut_flags(mesh)
    tailor.find_limbs()
    todo = [p for p in tailor.parts() if why_closed(tailor.part(p).chart)]
    for faces in todo:
        tailor.make_disk(faces)
    return mesh.with_cuts(topology.edge_points[tailor.cut & (topology.edge_uses > 1)]), len(todo)


def _mates(mesh: PolyMesh, axis: str) -> tuple[Ints | None, Floats, Bools]:
    """(E,) the edge that mirrors each edge, −1 for none, (E,) on which side of the plane its middle lies, and (E,) whether
    it lies in the plane."""
    topology = mesh.topology
    if not axis:
        return None, np.zeros(topology.n_edges), np.zeros(topology.n_edges, bool)
    from scipy.spatial import cKDTree

    k = "xyz".index(axis)
    image = mesh.points.copy()
    image[:, k] *= -1
    far, found = cKDTree(mesh.points).query(image)
    length = edge_lengths(mesh)
    found = np.where(far <= 0.05 * float(length.mean()), found, -1)
    pairs = found[topology.edge_points]
    known = (pairs >= 0).all(axis=1)
    mates = np.full(topology.n_edges, -1, np.int32)
    mates[known] = topology.find_edges(pairs[known])
    middle = mesh.points[topology.edge_points].mean(axis=1)[:, k]
    side = np.where(np.abs(middle) < 1e-3 * float(length.mean()), 0.0, np.sign(middle))
    return (mates if known.any() else None), side, np.asarray((pairs == topology.edge_points).all(axis=1))


def _even(cost: Floats, mates: Ints | None, along: Bools) -> Floats:
    """Costs alike on both sides of the mirror, and a little lower along it."""
    if mates is None:
        return cost
    known = mates >= 0
    out = cost.copy()
    out[known] = (cost[known] + cost[mates[known]]) / 2
    return np.where(along, 0.6 * out, out)


def _by_patches(mesh: PolyMesh, keep: Bools) -> Bools:
    """Where all else fails: flat-ish patches, joined."""
    return np.asarray(mesh.topology.edge_flags(patch_seams(mesh).cuts) | keep)

