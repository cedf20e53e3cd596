"""What is done on the sheet to one side of a mirrored form, done to the other side as well.

Two islands whose faces are mirror images of each other, and that lie on the sheet as images (mirrored or turned, at any place
and size), follow each other; so do the halves of one island that is its own image.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jacket.core.flatten.overlap import flipped_faces
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.uv.islands import Islands

ALIKE = 0.01
"""By how much of their size the images of islands may lie beside each other and still follow."""


@dataclass(frozen=True, eq=False)
class Images:
    """(C,) the corner that mirrors each, −1 where there is none; of each corner's island the map onto its image as complex
    numbers: times `turn` and plus `shift`, after taking the conjugate where `flips`."""

    corner: Ints
    turn: np.ndarray
    shift: np.ndarray
    flips: Bools

    def image(self, uv: Floats, corners: Ints) -> Floats:
        """(K, 2) where the images of corners lie when they lie at uv (C, 2)."""
        z = uv[corners] @ np.array([1.0, 1.0j])
        w = self.turn[corners] * np.where(self.flips[corners], z.conj(), z) + self.shift[corners]
        return np.stack([w.real, w.imag], axis=1)


def mirrored_corners(mesh: PolyMesh, table: Ints) -> Ints:
    """(C,) the corner of the mirrored face at the mirrored point, by the table (V,) of points; −1 where face or point has none."""
    wanted = np.where((table[mesh.corners] >= 0), table[mesh.corners], -1)
    known: dict[tuple[int, ...], int] = {}
    starts, corners = mesh.starts, mesh.corners.tolist()
    for f in range(mesh.n_faces):
        known[tuple(sorted(corners[starts[f] : starts[f + 1]]))] = f
    out = np.full(mesh.n_corners, -1, np.int64)
    rows = wanted.tolist()
    for f in range(mesh.n_faces):
        other = rows[starts[f] : starts[f + 1]]
        face = -1 if min(other) < 0 else known.get(tuple(sorted(other)), -1)
        if face >= 0:
            at = {p: c for c, p in enumerate(corners[starts[face] : starts[face + 1]], int(starts[face]))}
            out[starts[f] : starts[f + 1]] = [at[p] for p in other]
    return out


def images_of(mesh: PolyMesh, islands: Islands, table: Ints) -> Images | None:
    """What follows what on the sheet; None where nothing does. table (V,) is the point that mirrors each."""
    partner = mirrored_corners(mesh, table)
    uv, label = islands.uv, islands.corner_labels
    turn, shift, flips = np.ones(mesh.n_corners, complex), np.zeros(mesh.n_corners, complex), np.zeros(mesh.n_corners, bool)
    known = np.zeros(mesh.n_corners, bool)
    for island in range(islands.count):
        mine = np.flatnonzero((label == island) & (partner >= 0))
        if len(mine) < 3 or not islands.mapped[island]:
            continue
        others = label[partner[mine]]
        other = int(np.bincount(others).argmax())
        mine = mine[others == other]
        if not islands.mapped[other]:
            continue
        z, w = uv[mine] @ np.array([1.0, 1.0j]), uv[partner[mine]] @ np.array([1.0, 1.0j])
        best, fit = np.inf, (1.0 + 0j, 0j, False)
        for flip in (True, False):
            a = z.conj() if flip else z
            off, spread = a - a.mean(), float((np.abs(a - a.mean()) ** 2).sum())
            times = complex((off.conj() * (w - w.mean())).sum() / max(spread, 1e-300))
            moved = complex(w.mean() - times * a.mean())
            error = float(np.sqrt((np.abs(times * a + moved - w) ** 2).mean()))
            if error < best:
                best, fit = error, (times, moved, flip)
        if best <= ALIKE * float(np.sqrt((np.abs(w - w.mean()) ** 2).mean())):
            turn[mine], shift[mine], flips[mine] = fit
            known[mine] = True
    partner = np.where(known, partner, -1)
    return Images(partner, turn, shift, flips) if known.any() else None


def followed(mesh: PolyMesh, images: Images, fans: Ints, before: Floats, after: Floats, pinned: Bools,
             side: Bools | None = None) -> Floats:  # fmt: skip
    """Coordinates (C, 2) `after` an edit with the images of what moved since `before` moved alike, flat point by flat point: fans
    (C,) are those of the corners, `pinned` (P,) stay. Where both of a pair moved, the one on the `side` (C,)
    leads, without one the one that moved further. `after`
    itself where a face would turn over."""
    far = np.nan_to_num(np.abs(after - before).max(axis=1), nan=0.0)
    partner = images.corner
    there = np.maximum(partner, 0)
    further = (far > far[there]) | ((far == far[there]) & (np.arange(len(far)) < partner))
    if side is not None:
        further = np.where(side != side[there], side, further)
    lead = (partner >= 0) & (far > 0) & further
    ids = np.flatnonzero(lead & ~pinned[fans[there]])
    if len(ids) == 0:
        return after
    place = images.image(after, ids)
    # On the line between the halves of one island a place is its own image.
    own = fans[ids] == fans[partner[ids]]
    place[own] = (place[own] + after[ids[own]]) / 2
    goal = np.full((len(pinned), 2), np.nan)
    goal[fans[partner[ids]]] = place
    follows = np.isfinite(goal[fans, 0])
    out = np.where(follows[:, None], goal[fans], after)
    return out if len(flipped_faces(mesh, out)) <= len(flipped_faces(mesh, after)) else after
