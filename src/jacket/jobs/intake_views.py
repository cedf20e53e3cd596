"""A delivery beside the dense mesh as both are seen from four sides."""

from __future__ import annotations

import numpy as np

from jacket.core.bake.compare import Delivered
from jacket.core.bake.dense import Dense
from jacket.core.bake.seen import Project, Seen, compared, dense_look, heated, light_look, lit_grey
from jacket.core.mesh.polymesh import Floats
from jacket.core.mesh.tables import bounds
from jacket.formats.deliver.intake import Folder
from jacket.jobs.intake_normals import rebuilt
from jacket.jobs.taken import Views

SIDES = ((0.0, 10.0), (120.0, 10.0), (240.0, 10.0), (30.0, 60.0))
"""Yaw and pitch of the views, degrees."""
WIDE = 300
NEAR = 0.03
"""Diagonals that what is compared may lie apart."""
MOST = 20.0
"""Degrees that are drawn in full colour."""


def from_side(yaw: float, pitch: float, seen: Floats, size: int) -> Project:
    """Points to pixels as seen from far away, so that the points (N, 3) that are to be seen fill the picture."""
    y, p = np.radians(yaw), np.radians(pitch)
    rows = np.array([[np.cos(y), 0, -np.sin(y)], [-np.sin(y) * np.sin(p), np.cos(p), -np.cos(y) * np.sin(p)],
                     [np.sin(y) * np.cos(p), np.sin(p), np.cos(y) * np.cos(p)]])  # fmt: skip
    turned = seen @ rows.T
    low, high = bounds(turned)
    middle, half = (low + high) / 2, max(float((high - low).max()) / 2, 1e-300)

    def project(points: Floats) -> Floats:
        local = (points @ rows.T - middle) / half
        # A depth of a thousand sizes: what is nearer is nearer, and shares are as good as even.
        return np.stack([size / 2 * (1 + 0.94 * local[:, 0]), size / 2 * (1 - 0.94 * local[:, 1]), 1000.0 - local[:, 2]], axis=1)

    return project


def seen_from_sides(found: Folder, dense: Dense, size: int = WIDE) -> Views:
    """Both from four sides; coarser levels of detail are left out."""
    meshes = []
    for mesh in found.meshes:
        if mesh.name not in found.levels:
            given, picture = mesh.triangles, mesh.pictures.get("normal")
            if picture is not None and given.uv is not None and given.tangents is None:
                given = Delivered(given.places, given.normals, rebuilt(given), given.uv)
            meshes.append((given, picture))
    rows: list[Seen] = []
    for yaw, pitch in SIDES:
        project = from_side(yaw, pitch, dense.tree.points, size)
        rows.append(compared(light_look(meshes, project, size, size), dense_look(dense, project, size, size), NEAR * dense.diagonal))
    degrees = np.concatenate([s.degrees[np.isfinite(s.degrees)] for s in rows])
    only = sum(int((s.light.there ^ s.dense.there).sum()) for s in rows)
    whole = sum(int(s.dense.there.sum()) for s in rows)
    picture = np.concatenate([np.concatenate([lit_grey(s.dense), lit_grey(s.light), heated(s.degrees, MOST)], axis=1) for s in rows])
    mean, worst = (float(degrees.mean()), float(np.percentile(degrees, 95))) if len(degrees) else (float("nan"), float("nan"))
    return Views(mean, worst, only / max(whole, 1), np.asarray(picture, np.uint8), MOST)
