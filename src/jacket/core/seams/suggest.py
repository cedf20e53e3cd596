"""Seams found by themselves, as a tailor cuts: rings where limbs join, lines along hidden sides, a carton along its edges.

Each connected piece is cut for itself: rings round the necks of limbs and handles, borders joined by lines, tips of long
limbs reached, then every part is laid flat and judged; a part that does not open well gets one more ring, a dart or is cut
in two. In the end chains that need not be cut are sewn again and all is laid flat once more.
"""

from __future__ import annotations

from copy import copy
from dataclasses import dataclass, replace

import numpy as np

from jacket.core.beside import pool
from jacket.core.flatten.descent import FULL_STEPS
from jacket.core.mesh.geometry import dihedral_angles, edge_lengths, face_areas
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.mesh.walks import face_parts
from jacket.core.seams.cloth import Watch, unwatched
from jacket.core.seams.cost import edge_costs
from jacket.core.seams.foreseen import why_closed
from jacket.core.seams.joining import HINGE, sew, sew_scraps
from jacket.core.seams.laying import QUICK, Laid
from jacket.core.seams.patches import patch_seams
from jacket.core.seams.sky import open_sky
from jacket.core.seams.tailor import NONE, Tailor
from jacket.core.seams.work import USUAL, Limits, SuggestSettings, Work
from jacket.core.uv.chart import chart_of
from jacket.core.uv.sets import cut_flags
from jacket.progress import Progress, part, silent

SHARP = 35.0
"""Degrees over which edges of a carton are cut."""
CARTON = 0.6
"""Share of Σ length · |angle| that lies on sharp edges from which on a form is only cut along them."""
BOTH = 0.25
"""The same, from which on that is tried beside cutting by limbs."""
MANY, SPECK = 100, 4
"""Parts of a carton up to which every wall counts, and faces up to which a wall is a speck where there are more."""
FOLDED = 12
"""Walls up to which a carton stays in one piece where it can, as a box is folded from a cross; of more walls islands are to be compact."""
COMPACT = 0.85
"""Share of its hull that an island of a carton of many walls fills at least once it is sewn."""
UNCUT = 0.25
"""What a sharp edge costs that is not cut, by its length: shading breaks there."""
TRIAL = 5
"""Steps after which a cut that is only tried is judged: it starts from where the part lay."""
FULL = 0.75
"""Share of a square sheet that islands are taken to fill where it is told how long one may be."""
ACTS = 80
"""Cuts after which a piece that still does not open is left to the patches."""


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
    long = settings.longest * float(np.sqrt(face_areas(mesh).sum() / FULL))
    for k in range(count):
        faces = order[bounds[k] : bounds[k + 1]]
        share = len(faces) / mesh.n_faces

        def told(fraction: float, what: str, done: int = done, share: float = share) -> None:
            progress(0.05 + 0.95 * (done / mesh.n_faces + share * fraction), what)

        piece = chart_of(mesh, faces, nothing)
        edges = np.empty(piece.mesh.topology.n_edges, np.int32)
        edges[piece.mesh.topology.edge] = topology.edge[piece.corners]
        flags = _piece(piece.mesh, cost[edges], keep[edges], settings, long, told, watch)
        out[edges[flags]] = True
        done += len(faces)
    out &= topology.edge_uses > 1
    return mesh.with_cuts(topology.edge_points[out])


def _piece(
    mesh: PolyMesh, cost: Floats, keep: Bools, settings: SuggestSettings, long: float, progress: Progress, watch: Watch
) -> Bools:
    """(E,) where one connected piece is cut: by limbs, along its edges, or as comes out better where it has both."""
    mates, side, along = _mates(mesh, settings.mirror)
    tailor = Tailor(mesh, _even(cost, mates, along), mates, watch)
    tailor.side = side
    tailor.cut |= keep
    tailor.keep |= keep
    work = Work(tailor, settings, Limits(settings.stretch, 1.8, 0.55, long), progress, Limits(1.05, 1.7, 0.68, long))
    whole = np.arange(mesh.n_faces, dtype=np.int32)
    if not keep.any() and work.open.keeps(tailor.lay(whole, QUICK)) and work.open.keeps(tailor.lay(whole, FULL_STEPS)):
        return tailor.cut
    tailor.find_limbs()
    progress(0.1, "looking for limbs")
    network = sharp_network(mesh) & np.isfinite(cost)
    share = network_share(mesh, network)
    ways = ([True] if share > BOTH else []) + ([False] if share < CARTON else [])
    # Where so few rings leave what does not open, more of them make fewer islands than patches do.
    rings = [settings.most, *([USUAL] if settings.most < USUAL else [])]
    best, least = None, np.inf
    for k, most in enumerate(rings):
        work.settings = replace(settings, most=most)
        for n, carton in enumerate(ways):
            from_, to = ((k * len(ways) + n + more) / (len(rings) * len(ways)) for more in (0, 1))
            work.progress = part(progress, from_, to)
            worth = _cut_one_way(work, network if carton else None, keep)
            if worth < least:
                best, least = tailor.cut.copy(), worth
        if best is not None:
            return best
    return _by_patches(mesh, keep)


def _cut_one_way(work: Work, network: Bools | None, keep: Bools) -> float:
    """Cut a piece along a network of sharp edges, or by its limbs; what the result is worth, less is better, inf for none."""
    tailor = work.tailor
    tailor.cut = keep.copy()
    tailor.places[:] = np.nan
    work.good.clear()
    work.acts, work.rings = 0, np.zeros_like(keep)
    if network is not None:
        tailor.cut |= network
        tailor.watch("line", tailor.mesh.points[tailor.mesh.topology.edge_points[network]])
    else:
        tailor.ring_rounds(work.settings.most)
        work.rings = tailor.cut & ~keep
    if not _open_all(work, QUICK):
        return np.inf
    if network is not None:
        # Of walls that had to be cut themselves, as too long ones are, a box is folded no more. Who wants few islands gets those that
        # fill their hulls less.
        walls = face_parts(tailor.mesh, network)[0]
        compact = work.settings.most >= USUAL and (walls > FOLDED or len(tailor.parts()) > walls)
        work.sew = Limits(1.004, 1.06, COMPACT if compact else 0.62, work.open.long)
        work.hinge = HINGE if compact else 0.0
    else:
        work.sew = Limits(min(1.05, work.settings.stretch), 1.7, 0.68, work.open.long)
        work.hinge = 0.0
    sew(work)
    # Laid flat anew, as Flatten will: what only came out from where it lay is cut once more.
    tailor.places[:] = np.nan
    tailor.laid.clear()
    before = None
    while before is None or (before != tailor.cut).any():
        before = tailor.cut.copy()
        work.good.clear()
        if not _open_all(work, FULL_STEPS):
            return np.inf
        sew_scraps(work)
    excess, root = 0.0, float(np.sqrt(tailor.whole))
    for faces in tailor.parts():
        laid = tailor.lay(faces, FULL_STEPS)
        excess += float(tailor.area[faces].sum()) / tailor.whole * (laid.energy - 1 if laid is not None else 1.0)
    sharp = dihedral_angles(tailor.mesh) > SHARP
    return (
        float(np.minimum(tailor.cost, 1e12)[tailor.cut].sum()) / root + ISLAND * len(tailor.parts()) + EXCESS * excess
        + UNCUT * float(tailor.length[sharp & ~tailor.cut].sum()) / root
    )  # fmt: skip


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


def sharp_network(mesh: PolyMesh) -> Bools:
    """(E,) edges over 35° but for rows that end loosely: the edges of a carton. Where it would fall into very many parts
    specks of a few faces, as noise on a scan makes them, are no walls."""
    flags = _without_loose_ends(mesh, dihedral_angles(mesh) > SHARP)
    topology = mesh.topology
    for _ in range(4):
        count, labels = face_parts(mesh, flags)
        speck = np.bincount(labels)[labels] <= SPECK
        if count <= MANY or not speck.any():
            break
        gone = np.zeros(topology.n_edges, bool)
        gone[topology.edge[speck[mesh.face_of_corner]]] = True
        flags = _without_loose_ends(mesh, flags & ~gone)
    return flags


def network_share(mesh: PolyMesh, network: Bools) -> float:
    """Share of Σ length · |angle| over all edges that lies on a network: near 1 on cartons, small on organic forms."""
    bent = edge_lengths(mesh) * dihedral_angles(mesh)
    return float(bent[network].sum()) / max(float(bent.sum()), 1e-300)


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


def _without_loose_ends(mesh: PolyMesh, flags: Bools) -> Bools:
    flags = flags & (mesh.topology.edge_uses > 1)
    ends = mesh.topology.edge_points
    while True:
        count = np.bincount(ends[flags].ravel(), minlength=mesh.n_points)
        loose = (count == 1) & ~mesh.topology.border_points
        gone = flags & loose[ends].any(axis=1)
        if not gone.any():
            return np.asarray(flags)
        flags = flags & ~gone


def _key(tailor: Tailor, faces: Ints) -> bytes:
    return faces.tobytes() + np.flatnonzero(tailor.within(faces) & tailor.cut).tobytes()


def _open_all(work: Work, steps: int) -> bool:
    """Cut parts that do not open well until all do; False where one cannot be helped."""
    tailor = work.tailor
    while True:
        parts = tailor.parts()
        bad = next((p for p in parts if _key(tailor, p) not in work.good), None)
        if bad is None:
            return True
        sound = sum(len(p) for p in parts if _key(tailor, p) in work.good)
        work.progress(0.1 + 0.5 * sound / tailor.mesh.n_faces + (0.35 if steps > QUICK else 0), "opening what is cut")
        if not _act(work, bad, steps):
            return False


def _act(work: Work, faces: Ints, steps: int) -> bool:
    """One step for a part: found good, or cut once more. False where nothing helps."""
    tailor = work.tailor
    # In the end each comes out from nowhere, as it will when it is flattened, or is cut.
    afresh = steps > QUICK
    if tailor.lay(faces, steps, afresh=afresh) is None and not tailor.make_disk(faces):
        return False
    faces = next(p for p in tailor.parts() if faces[0] in p)
    if steps <= QUICK:
        tailor.lines_to_tips(faces)
    laid = tailor.lay(faces, steps, afresh=afresh)
    if work.open.keeps(laid) or (len(faces) <= 2 and laid is not None):
        if laid is not None:
            tailor.take(laid)
        work.good.add(_key(tailor, faces))
        return True
    work.acts += 1
    if work.acts > ACTS or len(faces) <= 1:
        return False
    if laid is not None:
        tailor.take(laid)
    edges, kind = _best_cut(work, faces, laid)
    if len(edges) == 0:
        return False
    tailor.commit(edges, kind)
    work.rings[edges] |= kind == "ring"
    return True


def _best_cut(work: Work, faces: Ints, laid: Laid | None) -> tuple[Ints, str]:
    """Of the rings, darts and ways in two that a part offers, the one after which it lies best for what it costs."""
    tailor = work.tailor
    halves = tailor.halvings(faces)
    if laid is None:
        return (halves[0] if halves else NONE), "line"
    before = _badness(work, laid, faces)
    root = float(np.sqrt(tailor.whole))
    best, most, kind = NONE, 0.0, "line"
    offers = [(e, "ring") for e in tailor.rings_inside(faces)[:4]] + [(e, "dart") for e in tailor.darts(faces, laid, 5)]
    # A part is cut in two only where nothing else helps.
    for offered in (offers, [(e, "line") for e in halves[:3]]):
        # Each is tried for itself, two at a time.
        others = pool(1, "cutting").submit(_after_each, work, faces, offered[1::2])
        found = [(0.0, 0.0)] * len(offered)
        found[::2], found[1::2] = _after_each(work, faces, offered[::2]), others.result()
        for (edges, what), (after, added) in zip(offered, found, strict=True):
            gain = (before - after) / before
            if gain < 0.1:
                continue
            paid = added / root + (0.0 if what == "dart" else ISLAND)
            if gain / paid > most:
                best, most, kind = edges, gain / paid, what
        if len(best):
            return best, kind
    return (halves[0] if halves else NONE), "line"


ISLAND, EXCESS = 0.15, 25.0
"""What one island more costs, in √area of seam that is fully seen."""
TOO_LONG = 0.5
"""How bad it is to be twice as long as may be, where energy counts from 1."""


def _badness(work: Work, laid: Laid | None, faces: Ints) -> float:
    """How far an island is from what is wanted, times its area."""
    area = float(work.tailor.area[faces].sum())
    if laid is None:
        return 2.0 * area
    return area * (
        max(laid.energy - 1, 0.0) + 0.1 * max(laid.p99 - work.open.p99, 0) + 0.2 * laid.crosses
        + 0.5 * max(work.open.solidity - laid.solidity, 0) + TOO_LONG * max(laid.strip / work.open.long - 1, 0)
    )  # fmt: skip


def _after_each(work: Work, faces: Ints, offered: list[tuple[Ints, str]]) -> list[tuple[float, float]]:
    return [_after(work, faces, edges) for edges, _ in offered]


def _after(work: Work, faces: Ints, edges: Ints) -> tuple[float, float]:
    """How bad a part would be with edges cut, all its pieces made disks, and what all that costs."""
    tailor, cut = copy(work.tailor), work.tailor.cut
    tailor.cut, tailor.watch = cut.copy(), unwatched
    tailor.commit(edges)
    own = np.zeros(tailor.mesh.n_faces, bool)
    own[faces] = True
    total = 0.0
    for piece in [p for p in tailor.parts() if own[p[0]]]:
        if tailor.lay(piece, TRIAL) is None and not tailor.make_disk(piece):
            return np.inf, 0.0
        total += _badness(work, tailor.lay(piece, TRIAL), piece)
    return total, float(tailor.cost[tailor.cut & ~cut].sum())


def _by_patches(mesh: PolyMesh, keep: Bools) -> Bools:
    """Where all else fails: flat-ish patches, joined."""
    return np.asarray(mesh.topology.edge_flags(patch_seams(mesh).cuts) | keep)

