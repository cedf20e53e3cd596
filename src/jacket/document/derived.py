"""Results that follow from meshes, kept while the mesh they came from lives."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar
from weakref import WeakKeyDictionary

import numpy as np
from numpy.typing import NDArray

from jacket.core.checks.layout import flatten_checks, layout_checks, seam_checks
from jacket.core.checks.model import Check
from jacket.core.checks.source import source_checks
from jacket.core.checks.topology import topology_checks
from jacket.core.flatten.stretch import face_stretch, measure_stretch
from jacket.core.layout.islands import Islands
from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.core.source.health import Health, examine
from jacket.core.space.bvh import Bvh
from jacket.document.state import State

T = TypeVar("T")
_cache: WeakKeyDictionary[PolyMesh, dict[Any, Any]] = WeakKeyDictionary()


def kept(mesh: PolyMesh, key: Any, make: Callable[[], T]) -> T:
    """`make()` once for each mesh and key; meshes never change, so it is never stale."""
    store = _cache.setdefault(mesh, {})
    if key not in store:
        store[key] = make()
    value: T = store[key]
    return value


def surface_of(mesh: PolyMesh) -> Bvh:
    """The hierarchy over a mesh's triangles."""
    return kept(mesh, "surface", lambda: Bvh.build(mesh.points, mesh.triangle_points))


def health_of(mesh: PolyMesh) -> Health:
    """What `examine` says of a source."""
    return kept(mesh, "health", lambda: examine(mesh))


def islands_of(mesh: PolyMesh) -> Islands:
    """The islands of a jacket over its first UV set."""
    return kept(mesh, "islands", lambda: Islands.of(mesh))


def stretch_of(mesh: PolyMesh) -> NDArray[np.float64]:
    """(F,) stretch of each face, NaN where unmapped."""
    uv = mesh.uv
    if uv is None:
        return np.full(mesh.n_faces, np.nan)
    return kept(mesh, "stretch", lambda: face_stretch(mesh, uv))


def gap_of(mesh: PolyMesh, source: PolyMesh) -> Floats:
    """(V,) distance of each point of a jacket to the source, % of the source's diagonal."""

    def make() -> Floats:
        return surface_of(source).closest(mesh.points)[2] / max(source.diagonal, 1e-300) * 100

    return kept(mesh, ("gap", id(source)), make)


def checks_of(state: State, stage: str) -> list[Check]:
    """The checks of a stage; slow ones are kept per mesh."""
    jacket, source = state.jacket, state.source
    if stage == "source":
        return [] if source is None else source_checks(health_of(source.mesh))
    if jacket is None or jacket.mesh.n_faces == 0:
        return []
    mesh = jacket.mesh
    if stage == "topology":
        key = ("topology", id(source.mesh) if source else 0)
        return kept(mesh, key, lambda: topology_checks(
            mesh, source.mesh if source else None, surface_of(source.mesh) if source else None))  # fmt: skip
    if stage == "seams":
        return kept(mesh, "seams", lambda: seam_checks(mesh))
    if stage == "flatten":
        return kept(mesh, "flatten", lambda: flatten_checks(mesh))
    if stage == "layout":
        sheet = state.sheet
        return kept(mesh, ("layout", sheet.size, sheet.margin), lambda: layout_checks(mesh, sheet.size, sheet.margin))
    every = [c for s in ("topology", "seams", "flatten", "layout") for c in checks_of(state, s)]
    return list({c.id: c for c in every}.values())


def key_numbers(state: State) -> dict[str, str]:
    """The line under each ticket."""
    out = {"source": "nothing open", "topology": "no quads", "seams": "not cut", "flatten": "not flat",
           "layout": "not packed", "deliver": "not ready"}  # fmt: skip
    source, jacket = state.source, state.jacket
    if source is not None:
        health = health_of(source.mesh)
        word = "sound" if health.sound else ("holes" if health.borders else "look")
        out["source"] = f"{health.triangles:,} tris · {word}"
    if jacket is None or jacket.mesh.n_faces == 0:
        return out
    mesh = jacket.mesh
    quads = int((mesh.sizes == 4).sum())
    odd = mesh.n_faces - quads
    out["topology"] = f"{quads:,} quads" + (f" · {odd} odd" if odd else "")
    count = islands_of(mesh).count
    out["seams"] = f"{count} island{'s' if count != 1 else ''}"
    uv = mesh.uv
    if uv is not None and np.isfinite(uv).any():
        figures = kept(mesh, "figures", lambda: measure_stretch(mesh, uv))
        if np.isfinite(figures.dirichlet):
            out["flatten"] = f"stretch {figures.dirichlet:.2f}"
        inside = np.nanmin(uv) > -1e-6 and np.nanmax(uv) < 1 + 1e-6
        out["layout"] = f"{100 * islands_of(mesh).sheet_area.sum():.0f} % of sheet" if inside else "not packed"
    checks = checks_of(state, "deliver")
    good = sum(c.level != "wrong" for c in checks)
    out["deliver"] = f"{good} of {len(checks)} ready"
    return out
