"""Why islands warp: what pulls them out of shape, each judged by trying the mend."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from jacket.core.flatten.descent import Descent
from jacket.core.flatten.editing import only
from jacket.core.mesh.geometry import dihedral_angles, edge_lengths, scaled_jacobian
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.quads.field import corner_angles
from jacket.core.seams.cloth import unwatched
from jacket.core.seams.cost import edge_costs
from jacket.core.seams.foreseen import why_closed
from jacket.core.seams.laying import QUICK, lay
from jacket.core.seams.tailor import Tailor
from jacket.core.uv.chart import Chart
from jacket.core.uv.sets import cut_flags
from jacket.progress import Progress, silent

WARPED = 1.005
"""Mean energy from which on it is asked why."""
WORTH = 0.1
"""Share of what is too much that a mend has to take away to be told."""
TINY = 0.08
"""Edges shorter than this share of the island's middling edge are tiny."""
SLIVER, FOLD, CONE = 0.12, 150.0, 50.0
"""Least sine of corners under which faces are slivers; degrees between faces from which an edge is a fold; degrees by which the
angles at a point miss a full turn from which it is told as a cone point."""


@dataclass(frozen=True, eq=False)
class Reason:
    """What pulls an island.

    kind    "closed", "cut", "cone", "tiny", "sliver" or "fold";  says a sentence about it
    gain    by how much the island's mean energy falls when it is mended, NaN where it does not open at all
    cut     edges whose cutting mends it, none where cutting does not;  faces where it is, to look at
    """

    kind: str
    island: int
    says: str
    gain: float
    cut: Ints = field(default_factory=lambda: np.zeros(0, np.int32))
    faces: Ints = field(default_factory=lambda: np.zeros(0, np.int32))


def reasons(
    mesh: PolyMesh, seen: Floats, name: Callable[[Ints], str], progress: Progress = silent, most: int = 3
) -> tuple[Reason, ...]:
    """Why the pieces of a mesh, as they are cut, warp, the largest gain first; up to `most` of a piece. seen (V,) as for
    suggestions; `name` gives the word for a piece by its faces."""
    tailor = Tailor(mesh, edge_costs(mesh, seen), None, unwatched)
    tailor.cut = cut_flags(mesh)
    tailor.find_limbs()
    out: list[Reason] = []
    parts = tailor.parts()
    for k, faces in enumerate(parts):
        progress(k / len(parts), "looking why islands warp")
        out += _of_piece(tailor, k, faces, name(faces), most)
    return tuple(sorted(out, key=lambda r: -(r.gain if np.isfinite(r.gain) else np.inf)))


def _of_piece(tailor: Tailor, number: int, faces: Ints, name: str, most: int) -> list[Reason]:
    problem = why_closed(tailor.part(faces).chart)
    if problem:
        before = tailor.cut.copy()
        done = tailor.make_disk(faces)
        cut = np.flatnonzero(tailor.cut & ~before).astype(np.int32)
        tailor.cut = before
        what = problem[0].lower() + problem[1:].rstrip(".")
        return [Reason("closed", number, f"{name} does not open; {what}", np.nan, cut if done else cut[:0], faces)]
    laid = tailor.lay(faces, QUICK)
    if laid is None or laid.energy < WARPED:
        return []
    tailor.take(laid)
    found: list[Reason] = []
    for edges in tailor.darts(faces, laid, 5):
        trial = tailor.cut.copy()
        trial[edges] = True
        after = lay(tailor.mesh, faces, trial, QUICK, tailor.places)
        if after is not None and not after.crosses:
            gain = laid.energy - after.energy
            length = len(edges)
            cone = _cone_at(tailor, edges)
            what = f"a cone point of {abs(cone):.0f}°{' too much' if cone < 0 else ''}: " if cone else ""
            says = f"{name}: {what}cut {length} edge{'s' if length > 1 else ''}, {laid.energy:.3f} → {after.energy:.3f}"
            found.append(Reason("cone" if cone else "cut", number, says, gain, edges, _beside(tailor, edges)))
    for kind, word, bad in (("tiny", "tiny edge", _tiny(tailor, faces)), ("sliver", "sliver", _slivers(tailor.mesh, faces)),
                            ("fold", "fold", _folds(tailor, faces))):  # fmt: skip
        found += _pulling(kind, word, *bad, number, faces, name, laid.chart, laid.uv, laid.energy)
    found.sort(key=lambda r: -r.gain)
    return [r for r in found if r.gain > WORTH * (laid.energy - 1)][:most]


def _beside(tailor: Tailor, edges: Ints) -> Ints:
    sides = np.unique(tailor.faces[edges])
    return sides[sides >= 0].astype(np.int32)


def _cone_at(tailor: Tailor, edges: Ints) -> float:
    """Degrees by which the angles at the inner end of a cut miss a full turn, less than nought where there is more; 0 where that is
    little or the cut ends nowhere inside."""
    mesh = tailor.mesh
    ends, count = np.unique(mesh.topology.edge_points[edges], return_counts=True)
    uses = np.bincount(mesh.topology.edge_points[tailor.cut].ravel(), minlength=mesh.n_points)
    inner = ends[(count == 1) & (uses[ends] == 0) & ~mesh.topology.border_points[ends]]
    if len(inner) != 1:
        return 0.0
    here = mesh.corners == inner[0]
    missing = 360.0 - float(np.degrees(corner_angles(mesh)[here].sum()))
    return missing if abs(missing) > CONE else 0.0


Found = tuple[int, Ints]
"""How many there are, and the faces they are at."""


def _tiny(tailor: Tailor, faces: Ints) -> Found:
    """Tiny edges, as in lips and seams of a scan."""
    length = edge_lengths(tailor.mesh)
    own = np.unique(tailor.mesh.topology.edge[np.isin(tailor.mesh.face_of_corner, faces)])
    tiny = own[length[own] < TINY * float(np.median(length[own]))]
    return len(tiny), np.intersect1d(_beside(tailor, tiny), faces)


def _slivers(mesh: PolyMesh, faces: Ints) -> Found:
    """Faces with a corner of almost no angle."""
    bad = faces[scaled_jacobian(mesh)[faces] < SLIVER]
    return len(bad), bad


def _folds(tailor: Tailor, faces: Ints) -> Found:
    """Edges within an island over which the form turns back onto itself."""
    mesh = tailor.mesh
    sharp = np.flatnonzero((dihedral_angles(mesh) > FOLD) & (mesh.topology.edge_uses == 2) & ~tailor.cut)
    bad = np.intersect1d(_beside(tailor, sharp), faces)
    return int(np.isin(tailor.faces[sharp], faces).all(axis=1).sum()), bad


def _pulling(
    kind: str, word: str, count: int, bad: Ints, number: int, faces: Ints, name: str, chart: Chart, uv: Floats, energy: float
) -> list[Reason]:
    """Faces that pull, judged by how the island lies when they do not count."""
    if len(bad) == 0 or count == 0:
        return []
    counts = np.ones(chart.mesh.n_points, bool)
    counts[chart.mesh.corners[np.isin(chart.faces, bad)[chart.mesh.face_of_corner]]] = False
    if not counts.any():
        return []
    part, used = only(chart, counts)
    rest = Descent(part, uv[used])
    rest.run(QUICK, False, 1e-3)
    moved = uv.copy()
    moved[used] = rest.uv
    whole = Descent(chart, moved).energy
    gain = energy - min(rest.energy, whole)
    some = f"{count} {word}s pull" if count > 1 else f"a {word} pulls"
    return [Reason(kind, number, f"{name}: {some} by {max(gain, 0):.3f}", gain, faces=bad.astype(np.int32))]
