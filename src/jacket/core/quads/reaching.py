"""The end of a part: quads pulled to what they leave uncovered, and corners opened as far as that loses nothing."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from jacket.core.fit.opening import opened
from jacket.core.mesh.geometry import scaled_jacobian
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.base import Base
from jacket.core.quads.ends import farthest_pulled, off_quads
from jacket.core.quads.fitting import fold_count, lines_over
from jacket.core.space.bvh import Bvh
from jacket.core.space.rays import RayTree
from jacket.core.space.sample import places_seen

SHORT = 1.1
"""Largest gap in % of the diagonal that an end may be short by before it is pulled to once more."""
PRICE, FAIR = 0.01, 0.8
"""By how much the 1st percentile of corners may fall for that, or to what."""


def ends_held(laid: PolyMesh, base: Base, surface: Bvh, eyes: Callable[[], RayTree]) -> PolyMesh:
    """Quads pulled to the places that they leave uncovered by more than `SHORT`, where that costs no fold and hardly a corner."""
    own, size = base.asked if len(base.asked) else base.form.points, base.mesh.diagonal
    off = 100 * off_quads(laid, own)[0] / size
    if not (off > SHORT).any():
        return laid
    # Walls of pockets that nothing sees cost corners for nothing.
    own = own[places_seen(own, off, eyes, size)]
    lines = lines_over(laid, base)
    first = min(float(np.percentile(scaled_jacobian(laid), 1)) - PRICE, FAIR)
    pulled = farthest_pulled(laid, own, surface, lines, 0.01 * SHORT * size, first=first)
    return pulled if fold_count(pulled) <= fold_count(laid) else laid


def opened_still(laid: PolyMesh, base: Base, surface: Bvh) -> PolyMesh:
    """Quads with their thin corners opened once more, as far as that draws none off an end that they reach."""
    own, quads = base.asked if len(base.asked) else base.form.points, laid.as_quads()
    least = np.maximum(off_quads(laid, own)[0], 0.01 * SHORT * base.mesh.diagonal)
    stay, lines = np.zeros(laid.n_points, bool), lines_over(laid, base)
    for _ in range(3):
        new = opened(laid, surface, stay, lines)
        off, face = off_quads(new, own)
        if not (off > least).any():
            return new
        # The quads at what was lost, and those beside them, stay.
        stay[quads[face[off > least]]] = True
        stay[quads[stay[quads].any(axis=1)]] = True
    return laid
