"""Sewing: seams that need not be cut are closed again, and scraps joined to their neighbours."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import wait
from functools import partial

import numpy as np

from jacket.core.beside import pool
from jacket.core.flatten.descent import FULL_STEPS
from jacket.core.mesh.polymesh import Bools, Ints
from jacket.core.mesh.walks import face_parts
from jacket.core.seams.laying import QUICK
from jacket.core.seams.sewing import chains, hinge_share, sides_of
from jacket.core.seams.tailor import Tailor
from jacket.core.seams.work import Work

HINGE = 0.2
"""Share of the way round the smaller side that is sewn where nothing may hang on by less: what does is a tail, beside which nothing finds
room on the sheet."""
ABREAST = 3
"""Chains that are judged at a time, by two threads: some take much longer than others."""
SHORT, CROWD = 4, 16
"""Edges under which a chain comes last, and is asked once, of more chains than so many."""
SCRAP = 0.01
"""Share of a piece's area under which an island is a scrap."""


def sew(work: Work, known: Sequence[Ints] = ()) -> None:
    """Close chains that need not be cut, the dearest first; rings and kept cuts stay. What was refused is asked again once others are
    sewn; where there are many chains those of a few edges come last and are asked once, since little is gained by them. Chains between
    parts that are `known` were refused before."""
    rows = _to_sew(work)
    refused = _refused(work, rows, known)
    least = SHORT if len(rows) > CROWD else 0
    again, last, begun = False, False, 0.0
    while True:
        asked = [chain for chain in rows if len(chain) >= least and np.sort(chain).tobytes() not in refused]
        cut = _first(work, asked, refused, partial(_tell, work, begun, len(asked)))
        if cut is not None:
            _sewn(work, cut)
            again = True
        elif again and not last:
            # What was refused may do now that its sides are larger.
            refused.clear()
            again, begun = False, 0.25
        elif least:
            least, last, begun = 0, True, 0.3
        else:
            return
        rows = _to_sew(work)


def _to_sew(work: Work) -> list[Ints]:
    """Chains that may be sewn, the dearest first."""
    tailor = work.tailor
    rows = [c for c in chains(tailor.mesh, tailor.cut, work.corner) if not (work.rings[c] | tailor.keep[c]).any()]
    return sorted(rows, key=lambda c: -float(np.where(np.isfinite(tailor.cost[c]), tailor.cost[c], 0).sum()))


def _refused(work: Work, rows: list[Ints], known: Sequence[Ints]) -> set[bytes]:
    """The keys of chains that lie between parts that are known as they are."""
    same = {faces.tobytes() for faces in known}
    _, labels = face_parts(work.tailor.mesh, work.tailor.cut)
    settled = np.array([faces.tobytes() in same for faces in work.tailor.parts()])[labels]
    return {np.sort(chain).tobytes() for chain in rows if settled[work.tailor.faces[chain]].all()}


def _tell(work: Work, begun: float, count: int, done: int) -> None:
    work.progress(0.6 + begun + (0.35 - begun) * done / count, "sewing what need not be cut")


def _first(work: Work, asked: list[Ints], refused: set[bytes], tell: Callable[[int], None]) -> Bools | None:
    """(E,) what stays cut where the first of some chains is sewn that may be; those before it are refused. Some are judged side by
    side, as mostly all are."""
    begun = [pool(2, "sewing").submit(unsewn, work, chain) for chain in asked[:ABREAST]]
    try:
        for k, chain in enumerate(asked):
            tell(k)
            cut = begun[k].result()
            if cut is not None:
                return cut
            refused.add(np.sort(chain).tobytes())
            begun += [pool(2, "sewing").submit(unsewn, work, other) for other in asked[k + ABREAST : k + ABREAST + 1]]
    finally:
        # All are waited for, also behind one that may be sewn: what is remembered of how parts lie must not hang on who was quicker.
        wait(begun)
    return None


def sew_scraps(work: Work) -> None:
    """Join scraps, as cutting away what overlapped leaves them, to who has the most of their border in common, rings or not."""
    tailor = work.tailor
    refused: set[bytes] = set()
    while True:
        _, labels = face_parts(tailor.mesh, tailor.cut)
        share = np.bincount(labels, tailor.area) / tailor.whole
        sides = labels[tailor.faces]
        rows = [c for c in chains(tailor.mesh, tailor.cut & (share[sides].min(axis=1) < SCRAP)) if not tailor.keep[c].any()]
        hinges = [hinge_share(tailor.mesh, tailor.faces, tailor.cut, c, tailor.length) for c in rows]
        for k in np.argsort([-h for h in hinges], kind="stable").tolist():
            key = np.sort(rows[k]).tobytes()
            if hinges[k] < HINGE or key in refused:
                continue
            work.progress(0.95, "sewing scraps")
            cut = unsewn(work, rows[k], FULL_STEPS)
            if cut is not None:
                _sewn(work, cut)
                break
            refused.add(key)
        else:
            return


def unsewn(work: Work, edges: Ints, steps: int = QUICK) -> Bools | None:
    """(E,) what stays cut where a chain is sewn, and its image, if all that it joins lies flat as one; judged after more steps than usual
    only where it does after those. None where it does not."""
    tailor = work.tailor
    pair = sides_of(tailor.mesh, tailor.faces, tailor.cut, edges)
    if pair is None or (work.hinge > 0 and hinge_share(tailor.mesh, tailor.faces, tailor.cut, edges, tailor.length) < work.hinge):
        return None
    image = tailor.mates[edges] if tailor.mates is not None else None
    both = edges if image is None or (image < 0).any() else np.union1d(edges, image[tailor.cut[image]])
    trial = tailor.cut.copy()
    trial[both] = False
    for faces in _joined(tailor, trial, both):
        for judged in dict.fromkeys((QUICK, steps)):
            if not work.sew.keeps(tailor.lay(faces, judged, trial, afresh=True)):
                return None
    return trial


def _sewn(work: Work, cut: Bools) -> None:
    """Sew what is cut no more."""
    tailor = work.tailor
    closed = tailor.cut & ~cut
    tailor.cut = cut
    tailor.watch("sewn", tailor.mesh.points[tailor.mesh.topology.edge_points[closed]])
    for faces in _joined(tailor, cut, np.flatnonzero(closed)):
        laid = tailor.lay(faces, QUICK)
        if laid is not None:
            tailor.take(laid)


def _joined(tailor: Tailor, cut: Bools, edges: Ints) -> list[Ints]:
    """The parts that some edges lie in."""
    _, labels = face_parts(tailor.mesh, cut)
    return [np.flatnonzero(labels == k).astype(np.int32) for k in np.unique(labels[tailor.faces[edges]]).tolist()]
