"""Results that follow from meshes, kept while the mesh they came from lives."""

from __future__ import annotations

import threading
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
from jacket.core.mesh.geometry import edge_lengths
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.source.crossings import crossing_pairs
from jacket.core.source.health import Health, examine, part_labels, welded_copy
from jacket.core.source.simplify import clustered_copy
from jacket.core.source.symmetry import Plane, difference
from jacket.core.space.bvh import Bvh
from jacket.document.state import State
from jacket.progress import Progress

T = TypeVar("T")
_locks = threading.Lock()
_cache: WeakKeyDictionary[PolyMesh, dict[Any, Any]] = WeakKeyDictionary()


def kept(mesh: PolyMesh, key: Any, make: Callable[[], T]) -> T:
    """`make()` once for each mesh and key; meshes never change, so it is never stale. A thread that asks for what
    another is making waits for it."""
    store = _cache.setdefault(mesh, {})
    if key not in store:
        with _locks:
            lock = store.setdefault(("lock", key), threading.RLock())
        with lock:
            if key not in store:
                store[key] = make()
    value: T = store[key]
    return value


def has_kept(mesh: PolyMesh, key: Any) -> bool:
    """Whether something has been derived already."""
    return key in _cache.get(mesh, {})


def surface_of(mesh: PolyMesh) -> Bvh:
    """The hierarchy over a mesh's triangles."""
    return kept(mesh, "surface", lambda: Bvh.build(mesh.points, mesh.triangle_points))


def moved_surface(mesh: PolyMesh, old: PolyMesh) -> Bvh:
    """The hierarchy of a mesh that has the triangles of `old` elsewhere: refitting is ten times as quick."""
    before = _cache.get(old, {}).get("surface")
    if before is None or mesh.n_points != old.n_points or len(before.triangles) != len(mesh.triangle_points):
        return surface_of(mesh)
    return kept(mesh, "surface", lambda: before.refit(mesh.points))


HEAVY = 150_000
"""Faces from which on a source is made ready to draw and to pick in the background."""


def pickable(mesh: PolyMesh) -> bool:
    """Whether a source can be picked without making the window wait."""
    return mesh.n_faces < HEAVY or has_kept(mesh, "surface")


LARGE = 1_000_000
"""Faces from which on the connectivity of a source is not kept once it has been read off."""


def forget_connectivity(mesh: PolyMesh) -> None:
    """Give back the memory of a large mesh's connectivity; it is derived again where it is needed."""
    if mesh.n_faces >= LARGE:
        for name in ("topology", "triangles", "triangle_faces", "face_of_corner", "sizes"):
            mesh.__dict__.pop(name, None)


def health_of(mesh: PolyMesh) -> Health:
    """What `examine` says of a source."""

    def make() -> Health:
        health = examine(mesh)
        forget_connectivity(mesh)
        return health

    return kept(mesh, "health", make)


def parts_of(mesh: PolyMesh) -> tuple[int, Ints]:
    """Number of loose parts of a source and (F,) the part of each face."""

    def make() -> tuple[int, Ints]:
        parts = part_labels(welded_copy(mesh))
        forget_connectivity(mesh)
        return parts

    return kept(mesh, "parts", make)


def light_of(mesh: PolyMesh, wanted: int) -> tuple[PolyMesh, Ints]:
    """The light copy of a source with its mean colours, and (V,) which of its points each point went into."""

    def make() -> tuple[PolyMesh, Ints]:
        points, triangles, to = clustered_copy(mesh.points, mesh.triangle_points, wanted)
        if points is mesh.points:
            return mesh, to
        data: dict[str, Any] = {}
        colour = mesh.point_data.get("colour")
        if colour is not None:
            count = np.maximum(np.bincount(to, minlength=len(points)), 1)
            sums = [np.bincount(to, colour[:, k], len(points)) / count for k in range(4)]
            data["colour"] = np.stack(sums, axis=1).round().astype(np.uint8)
        return PolyMesh(points, triangles.ravel(), np.arange(0, 3 * len(triangles) + 1, 3, dtype=np.int32),
                        point_data=data), to  # fmt: skip

    return kept(mesh, ("light", wanted), make)


HEAT_POINTS = 240_000
"""Triangles of the copy on which the mirror difference of larger sources is measured."""


def mirror_difference(mesh: PolyMesh, plane: Plane) -> NDArray[np.float64]:
    """(V,) distance of each mirrored point to the source in % of its diagonal; of large sources at the points of
    a light copy."""
    key = ("difference", tuple(plane.normal.tolist()), plane.offset)

    def make() -> NDArray[np.float64]:
        light, to = light_of(mesh, HEAT_POINTS)
        values = difference(light, surface_of(mesh), plane) * light.diagonal / max(mesh.diagonal, 1e-300)
        return values[to]

    return kept(mesh, key, make)


def uncovered_values(mesh: PolyMesh, jackets: list[PolyMesh]) -> tuple[NDArray[np.float64], float]:
    """(V,) distance of a source's points to the nearest jacket, of large ones at the points of a light copy, and the
    distance from which on a place counts as not covered: over half of the jackets' middling edge."""
    light, to = light_of(mesh, HEAT_POINTS)
    far = np.full(light.n_points, np.inf)
    lengths = []
    for jacket in jackets:
        far = np.minimum(far, surface_of(jacket).closest(light.points)[2])
        lengths.append(edge_lengths(jacket))
    reach = 0.6 * float(np.median(np.concatenate(lengths))) if lengths else 1.0
    # Half a reach is still well covered: heat begins there.
    return np.maximum(far - 0.5 * reach, 0.0)[to], reach


def crossings_of(mesh: PolyMesh) -> Ints | None:
    """Pairs of triangles that cross, if they have been counted; see `count_crossings`."""
    found: Ints | None = _cache.get(mesh, {}).get("crossings")
    return found


def count_crossings(mesh: PolyMesh, progress: Progress) -> Ints:
    """Count self-intersections of a source, once."""

    def make() -> Ints:
        joined = welded_copy(mesh)
        surface = surface_of(mesh) if joined is mesh else Bvh.build(joined.points, joined.triangle_points)
        return crossing_pairs(surface, progress)

    return kept(mesh, "crossings", make)


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
        chosen = state.chosen_source
        return [] if chosen is None else source_checks(health_of(chosen.mesh), crossings_of(chosen.mesh))
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
    source, jacket = state.chosen_source, state.jacket
    if source is not None:
        health = health_of(source.mesh)
        word = "sound" if health.sound else ("holes" if health.borders else "look")
        count = sum(len(s.mesh.triangle_points) for s in state.sources)
        out["source"] = f"{count:,} tris · {word}"
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
