"""Cutting a piece in one way: along edges or by its limbs, opened, sewn, laid flat and judged."""

from __future__ import annotations

from collections.abc import Sequence
from copy import copy
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from jacket.core.beside import pool
from jacket.core.flatten.descent import FULL_STEPS
from jacket.core.mesh.geometry import dihedral_angles
from jacket.core.mesh.polymesh import Bools, Ints
from jacket.core.mesh.walks import face_parts
from jacket.core.seams.cloth import unwatched
from jacket.core.seams.filling import use_of
from jacket.core.seams.joining import HINGE, sew, sew_scraps
from jacket.core.seams.laying import QUICK, Laid
from jacket.core.seams.sewing import CORNER
from jacket.core.seams.tailor import NONE, Tailor
from jacket.core.seams.work import USUAL, Limits, Way, Work

SHARP = 35.0
"""Degrees over which edges of a carton are cut."""
FOLDED = 12
"""Walls up to which a carton stays in one piece where it can, as a box is folded from a cross; of more walls islands are to be compact."""
COMPACT = 0.85
"""Share of its hull that an island of a carton of many walls fills at least once it is sewn."""
SOFT, BESIDE = (1.035, 1.6), 0.3
"""Mean energy and its 99th percentile up to which walls between rounded edges are sewn, and where at least such a share of their way
round: an end wall that hangs on by less makes its island as wide again."""
FOLDING = 1.012, 1.2
"""The same where walls are flat, though rough: two fold open along an edge, three round a corner do not."""
UNCUT = 0.25
"""What a sharp or rounded edge costs that is not cut, by its length: shading breaks there, and walls are looked for between them."""
ISLAND, EXCESS = 0.15, 25.0
"""What one island more costs, in √area of seam that is fully seen."""
TOO_LONG = 0.5
"""How bad it is to be twice as long as may be, where energy counts from 1."""
WASTE = 2.5
"""What one sheet more costs, in √area of seam that is fully seen: of what is cut otherwise the same, .69 of a sheet used for .58 are worth
.7 of that."""
LITTLE, MOST = 0.16, 0.32
"""Shares of a square as wide as an island may span: a quarter of all there is, under which a piece's own use of the sheet is no matter, and
half of it, from which on nothing else is there to fill what a hollow island leaves empty."""
LARGE, HOLLOW = 0.06, 0.3
"""What share of a piece is large, and the least share of it that large islands are which fill less of their hulls than they are to."""
NEAR = 0.5
"""How much less a way may be worth than the best for its islands to be cut once more: where many are worth the same, that decides."""
TRIAL = 5
"""Steps after which a cut that is only tried is judged: it starts from where the part lay."""
ACTS = 80
"""Cuts after which a piece that still does not open is left to the patches."""


class Rule(NamedTuple):
    """When islands are cut once more: how little of a sheet is used; whether they may span no more than that; the share of its hull that
    a large one is to fill."""

    use: float
    spans: bool
    full: float


RULES = Rule(1.0, True, 0.0), Rule(0.66, False, 0.72), Rule(0.62, True, 0.8)
"""What is tried one after the other: what is too wide is cut; rings and forks; and both where much is still empty."""


@dataclass(frozen=True, eq=False)
class Cut:
    """In which way a piece is cut; where (E,), and where of that rings are; what that is worth, less is better, but for the sheet; how far
    its widest island spans; its parts, flat."""

    way: Way
    flags: Bools
    rings: Bools
    worth: float
    span: float
    parts: list[tuple[Ints, Laid]]


def cut_one_way(work: Work, way: Way, keep: Bools) -> Cut | None:
    """Cut a piece along a network of edges, or by its limbs; None where it does not open so."""
    tailor, network = work.tailor, way.network
    _begun(work, keep, np.zeros_like(keep), np.inf)
    if network is not None:
        tailor.cut |= network
        tailor.watch("line", tailor.mesh.points[tailor.mesh.topology.edge_points[network]])
    else:
        tailor.ring_rounds(work.settings.most)
        work.rings = tailor.cut & ~keep
    return _opened_and_sewn(work, way)


def _begun(work: Work, cut: Bools, rings: Bools, wide: float, full: float = 0.0) -> None:
    """Cut so far, with nothing known yet; how wide islands may span, and the share of its hull that a large one is to fill."""
    work.tailor.cut, work.rings = cut.copy(), rings.copy()
    work.tailor.places[:] = np.nan
    work.good.clear()
    work.acts = 0
    work.open = replace(work.open, wide=wide, full=full, large=LARGE * work.tailor.whole)


def _opened_and_sewn(work: Work, way: Way, known: Sequence[Ints] = ()) -> Cut | None:
    """Cut on until all opens, sew what need not be cut, and lay all flat; None where it does not open. Between parts that are `known` as
    they are everything was asked already."""
    tailor = work.tailor
    if not _open_all(work, QUICK):
        return None
    work.sew, work.hinge = _sewing(work, way)
    work.corner = 180.0 if way.rounded else CORNER
    sew(work, known)
    # Laid flat anew, as Flatten will: what only came out from where it lay is cut once more.
    before = None
    while before is None or (before != tailor.cut).any():
        before = tailor.cut.copy()
        work.good.clear()
        if not _open_all(work, FULL_STEPS):
            return None
        sew_scraps(work)
    return _judged(work, way)


def _sewing(work: Work, way: Way) -> tuple[Limits, float]:
    """What islands have to keep when seams are sewn, and the least share of the way round the smaller side that is."""
    room = work.open.long, work.open.wide, work.open.full, work.open.large
    if way.network is None:
        return Limits(min(1.05, work.settings.stretch), 1.7, 0.68, *room), 0.0
    if way.rounded:
        return Limits(*(FOLDING if way.flat else SOFT), COMPACT, *room), BESIDE
    # Of walls that had to be cut themselves, as too long ones are, a box is folded no more. Who wants few islands gets those that
    # fill their hulls less.
    walls = face_parts(work.tailor.mesh, way.network)[0]
    compact = work.settings.most >= USUAL and (walls > FOLDED or len(work.tailor.parts()) > walls)
    return Limits(1.004, 1.06, COMPACT if compact else 0.62, *room), HINGE if compact else 0.0


def _judged(work: Work, way: Way) -> Cut:
    tailor = work.tailor
    excess, root, span = 0.0, float(np.sqrt(tailor.whole)), 0.0
    parts = [(faces, tailor.lay(faces, FULL_STEPS, afresh=True)) for faces in tailor.parts()]
    for faces, laid in parts:
        excess += float(tailor.area[faces].sum()) / tailor.whole * (laid.energy - 1 if laid is not None else 1.0)
        span = max(span, laid.span if laid is not None else 0.0)
    sharp = dihedral_angles(tailor.mesh) > SHARP
    sharp[work.bevels] = True
    worth = (
        float(np.minimum(tailor.cost, 1e12)[tailor.cut].sum()) / root + ISLAND * len(parts) + EXCESS * excess
        + UNCUT * float(tailor.length[sharp & ~tailor.cut].sum()) / root
    )  # fmt: skip
    return Cut(way, tailor.cut.copy(), work.rings.copy(), worth, span, [(faces, laid) for faces, laid in parts if laid is not None])


def best_of(work: Work, cuts: list[Cut]) -> Cut:
    """The one that is worth most, what it makes of a sheet among it. Of those that come near it islands that span more than the sheet, or
    leave much of it empty since they fill little of their hulls, are cut once more, as long as no more islands are wanted, and kept so
    where the sheet gains more by that than it costs."""
    if len(cuts) == 1 and not any(_cut_more(work, cuts[0], 0.0, rule) for rule in RULES):
        return cuts[0]
    # What comes of cutting once more stands beside what it was cut from: where that is not enough it is done anew.
    ranked = [(*_with_sheet(work, cut), cut, cut) for cut in cuts]
    for rule in RULES:
        ranked.sort(key=lambda row: row[0])
        near = [row for row in ranked if row[0] <= ranked[0][0] + NEAR] if rule is RULES[0] else ranked[:1]
        for _, use, _, cut in near:
            if _cut_more(work, cut, use, rule):
                _begun(work, cut.flags, cut.rings, work.widest if rule.spans else np.inf, rule.full)
                other = _opened_and_sewn(work, cut.way, [faces for faces, _ in cut.parts])
                if other is not None and not any((other.flags == row[2].flags).all() for row in ranked):
                    ranked.append((*_with_sheet(work, other), other, cut))
    return min(ranked, key=lambda row: row[0])[2]


def _cut_more(work: Work, cut: Cut, use: float, rule: Rule) -> bool:
    """Whether islands that use so much of a sheet may be worth cutting once more: one of them is too wide, or many are too hollow."""
    if len(cut.parts) >= work.settings.most or not np.isfinite(work.widest) or use > rule.use:
        return False
    whole = work.tailor.whole
    hollow = sum(laid.area for _, laid in cut.parts if laid.area >= LARGE * whole and laid.solidity < rule.full)
    return hollow > HOLLOW * whole > HOLLOW * MOST * work.widest**2 if rule.full else cut.span > work.widest


def _with_sheet(work: Work, cut: Cut) -> tuple[float, float]:
    """What a cut is worth, with what it makes of the sheet where the piece is much of what lies on that, and that use."""
    if work.tailor.whole < LITTLE * work.widest**2:
        return cut.worth, 1.0
    use = use_of(work.tailor.mesh, cut.flags, cut.parts)
    return cut.worth + WASTE / max(use, 1e-3), use


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


def _badness(work: Work, laid: Laid | None, faces: Ints) -> float:
    """How far an island is from what is wanted, times its area."""
    area = float(work.tailor.area[faces].sum())
    if laid is None:
        return 2.0 * area
    return area * (
        max(laid.energy - 1, 0.0) + 0.1 * max(laid.p99 - work.open.p99, 0) + 0.2 * laid.crosses
        + 0.5 * max(work.open.filled(laid) - laid.solidity, 0) + TOO_LONG * max(laid.strip / work.open.long - 1, laid.span / work.open.wide - 1, 0)
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


