"""Moving, turning and scaling points with a falloff along the mesh."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_array

from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh

FALLOFFS = ("smooth", "round", "pointed", "even")
"""How a weight falls from 1 to 0 on the way out."""


def falloff(share: Floats, curve: str) -> Floats:
    """Weights for the share 0..1 of the way out: smooth (1 − s²)², round √(1 − s²), pointed (1 − s)², even 1."""
    s = np.clip(share, 0.0, 1.0)
    if curve == "round":
        out = np.sqrt(1 - s * s)
    elif curve == "pointed":
        out = (1 - s) ** 2
    elif curve == "even":
        out = np.ones_like(s)
    else:
        out = (1 - s * s) ** 2
    return np.where(share >= 1.0, 0.0, out)


def step_weights(mesh: PolyMesh, ids: Ints, steps: int, curve: str = "smooth") -> Floats:
    """(V,) 1 on points `ids`, falling off over `steps` edges away from them, 0 beyond."""
    far = np.full(mesh.n_points, np.inf)
    far[np.asarray(ids)] = 0.0
    if steps > 0 and mesh.topology.n_edges:
        a, b = mesh.topology.edge_points.T
        n = mesh.n_points
        near = coo_array(
            (np.ones(2 * len(a), np.int32), (np.concatenate([a, b]), np.concatenate([b, a]))), shape=(n, n)
        ).tocsr()
        reached = far == 0.0
        for k in range(1, steps + 1):
            fresh = ((near @ reached.astype(np.int32)) > 0) & ~reached
            far[fresh] = k
            reached |= fresh
    out = np.zeros(mesh.n_points)
    inside = np.isfinite(far)
    out[inside] = falloff(far[inside] / (steps + 1), curve)
    out[np.asarray(ids)] = 1.0
    return out


@dataclass(frozen=True, eq=False)
class Shift:
    """move (3,); turn by `angle` (radians) about `axis` (3,) through `pivot`; scale (3,) about the pivot along the
    rows of `frame` (3, 3)."""

    pivot: Floats
    move: Floats
    axis: Floats
    angle: float = 0.0
    scale: Floats | None = None
    frame: Floats | None = None


def shifted(points: Floats, weight: Floats, shift: Shift) -> Floats:
    """Points (N, 3) scaled, turned and moved, each as far as its weight (N,) says: part of the angle, part of the
    way, part of the growth."""
    w = weight[:, None]
    arm = points - shift.pivot
    if shift.scale is not None:
        frame = np.eye(3) if shift.frame is None else shift.frame
        local = arm @ frame.T
        arm = (local * (1 + (shift.scale - 1) * w)) @ frame
    if shift.angle:
        axis = shift.axis / np.linalg.norm(shift.axis)
        c, s = np.cos(shift.angle * w), np.sin(shift.angle * w)
        along = (arm @ axis)[:, None]
        # Rodrigues' rotation formula.
        arm = arm * c + np.cross(axis, arm) * s + axis * along * (1 - c)
    return shift.pivot + arm + shift.move * w
