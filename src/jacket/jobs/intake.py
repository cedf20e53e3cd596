"""Taking a delivery in as a receiver would, and saying in sentences what would go wrong there."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from jacket.core.bake.dense import Dense
from jacket.core.checks.model import Level
from jacket.core.derive import surface_of
from jacket.core.mesh.polymesh import Floats
from jacket.errors import MeshError
from jacket.formats.deliver.intake import Folder, read_folder
from jacket.jobs.bake import BakeLayer, dense_of
from jacket.jobs.intake_normals import shading
from jacket.jobs.intake_views import seen_from_sides
from jacket.jobs.taken import Finding, Taken
from jacket.progress import Progress, part, silent

FIGURE = 1.8
"""Metres that a person stands tall, to tell sizes by (common practice)."""


def take_in(folder: Path, sources: Sequence[BakeLayer] = (), progress: Progress = silent) -> Taken:
    """Read a delivered folder back and compare it with the dense sources. Raises FormatError where there is nothing to read."""
    progress(0.0, "reading the files")
    found = read_folder(folder)
    if not found.meshes:
        raise MeshError(f"The GLB in {folder.name} holds no mesh; deliver again.")
    rows = _whole_files(found) + _axes_of(found) + _nodes_of(found)
    if not sources:
        return Taken((*rows, *_sizes(found)))
    progress(0.2, "preparing the source")
    dense = dense_of([s for s in sources if s.mesh.n_faces])
    rows += _placed(found, sources, dense)
    if any(f.id in ("axes", "scale") and f.level == "wrong" for f in rows):
        return Taken(tuple(rows))
    figures, more = shading(found, dense, part(progress, 0.5, 0.9))
    progress(0.9, "looking at it from four sides")
    views = seen_from_sides(found, dense)
    return Taken((*rows, *more, *views.findings()), *figures, views)


# ---- what is there -------------------------------------------------------------------------------------------------------


def _whole_files(found: Folder) -> list[Finding]:
    rows = []
    if found.missing:
        rows.append(Finding("missing", "wrong", f"{found.missing[0]} is named but not there; deliver again, or bring it along.", len(found.missing)))
    for mesh in found.meshes:
        if "NORMAL" in mesh.lacking:
            rows.append(Finding("normals-remade", "wrong", f"{mesh.name} has no normals, so the receiver makes its own and the maps no longer fit."))
        if "TANGENT" in mesh.lacking and mesh.pictures.get("normal") is not None:
            rows.append(Finding("tangents-missing", "look", f"{mesh.name} has no tangents; the receiver has to make them by MikkTSpace."))
        if "TEXCOORD_0" in mesh.lacking and mesh.pictures:
            rows.append(Finding("unmapped", "wrong", f"{mesh.name} has pictures but no UVs to lay them by; flatten it first."))
    if len(found.points) and not found.has_normals:
        rows.append(Finding("obj-normals", "look", "The OBJ has no normals, so its reader makes its own."))
    return rows


def _sizes(found: Folder) -> list[Finding]:
    every = np.concatenate([m.triangles.places.reshape(-1, 3) for m in found.meshes])
    tall = float(np.ptp(every[:, 1]))
    level: Level = "good" if 0.01 <= tall <= 200 else "look"
    return [Finding("size", level, f"It stands {tall:.3g} m tall, {tall / FIGURE:.3g} times a person of {FIGURE} m.", tall)]


def _axes_of(found: Folder) -> list[Finding]:
    """The OBJ against the GLB, which is Y up in metres by its standard: is it turned and scaled as the profile says?"""
    axes = found.report.get("axes")
    if not isinstance(axes, dict) or len(found.points) == 0:
        return []
    every = np.concatenate([m.triangles.places.reshape(-1, 3) for m in found.meshes])
    mine = _boxes(found.points / float(axes.get("scale", 1.0)))
    theirs = every if axes.get("up") != "z" else np.stack([every[:, 0], -every[:, 2], every[:, 1]], axis=1)
    there = _boxes(theirs)
    size = max(float(np.linalg.norm(there[1] - there[0])), 1e-12)
    off = float(np.abs(mine - there).max()) / size
    unit = "a unit is a metre" if axes.get("scale", 1) == 1 else f"{axes.get('scale', 1):g} units a metre"
    if off < 1e-3:
        return [Finding("obj-axes", "good", f"The OBJ stands as the profile says: {'Y' if axes.get('up') != 'z' else 'Z'} up, {unit}.")]
    ratio = float(np.linalg.norm(mine[1] - mine[0])) / size
    if abs(ratio - 1) > 0.01:
        return [Finding("obj-scale", "wrong", f"The OBJ is {ratio:.3g} times as large as the profile says; deliver again.", ratio)]
    return [Finding("obj-axes", "wrong", "The OBJ does not stand as the profile says; deliver again.", off)]


def _nodes_of(found: Folder) -> list[Finding]:
    """Whether the sockets that the report names are in the GLB, where it says."""
    axes, rows = found.report.get("axes"), [s for n in found.told_nodes.values() for s in n.get("sockets", ())]
    scale, turned = (float(axes.get("scale", 1.0)), axes.get("up") == "z") if isinstance(axes, dict) else (1.0, False)
    for socket in rows:
        x, y, z = (float(v) / scale for v in socket["place"])
        place, there = np.array((x, z, -y) if turned else (x, y, z)), found.nodes.get(socket["name"])
        if there is None:
            return [Finding("sockets", "wrong", f"The socket {socket['name']} is not in the GLB; deliver again.")]
        if float(np.linalg.norm(there - place)) > 1e-4 * max(1.0, float(np.linalg.norm(place))):
            return [Finding("sockets", "wrong", f"The socket {socket['name']} is not where the report says; deliver again.")]
    return [Finding("sockets", "good", f"{len(rows)} socket{'s are' if len(rows) > 1 else ' is'} where the report says.")] if rows else []


def _boxes(points: Floats) -> Floats:
    return np.stack([points.min(axis=0), points.max(axis=0)])


# ---- where it stands -----------------------------------------------------------------------------------------------------


TURNS = {
    "as if Z were up": np.array([[1, 0, 0], [0, 0, 1], [0, -1, 0.0]]), "as if lying on its face": np.array([[1, 0, 0], [0, 0, -1], [0, 1, 0.0]]),
    "mirrored": np.diag([-1, 1, 1.0]), "turned half about": np.diag([-1, 1, -1.0]),
}  # fmt: skip


def _placed(found: Folder, sources: Sequence[BakeLayer], dense: Dense) -> list[Finding]:
    every = np.concatenate([m.triangles.places.reshape(-1, 3) for m in found.meshes])
    some = every[:: max(len(every) // 3000, 1)]

    def gap(points: Floats) -> float:
        return float(np.mean(np.min([surface_of(s.mesh).closest(points)[2] for s in sources], axis=0))) / dense.diagonal

    here = gap(some)
    rows = _sizes(found)
    if here < 0.02:
        return [*rows, Finding("place", "good", f"It lies on the dense mesh, {100 * here:.2f} % of its diagonal off on average.", here)]
    ratio = dense.diagonal / max(float(np.linalg.norm(np.ptp(every, axis=0))), 1e-12)
    nearest = min((1e-3, 1e-2, 0.1, 10.0, 100.0, 1e3), key=lambda k: abs(np.log(k / ratio)))
    if abs(np.log(nearest / ratio)) < 0.4 and gap(some * nearest) < 0.25 * here:
        return [*rows, Finding("scale", "wrong", f"It is {1 / nearest:g} times as large as the dense mesh; the unit is wrong.", 1 / nearest)]
    for said, turn in TURNS.items():
        if gap(some @ turn.T) < 0.25 * here:
            return [*rows, Finding("axes", "wrong", f"It stands {said}; the axes are wrong.", here)]
    return [*rows, Finding("place", "look", f"It lies {100 * here:.1f} % of the diagonal off the dense mesh on average.", here)]
