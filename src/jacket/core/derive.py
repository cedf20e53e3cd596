"""What follows from sources and jackets, each made once: hierarchies, light copies, health, islands, stretch, gaps."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.bake.cage import found_reach
from jacket.core.flatten.stretch import StretchFigures, face_angles, face_stretch, measure_stretch
from jacket.core.layout.margins import close_islands
from jacket.core.layout.twins import Twins, find_twins
from jacket.core.mesh.geometry import dihedral_angles, edge_lengths, point_normals
from jacket.core.mesh.polymesh import UV, Bools, Floats, Ints, PolyMesh
from jacket.core.mesh.walks import face_parts
from jacket.core.rows.measure import Rings, rings
from jacket.core.seams.foreseen import Present, faces_at, lying_now
from jacket.core.seams.kept import put_on, set_names
from jacket.core.seams.measure import SetFigures, set_figures
from jacket.core.seams.reasons import Reason, reasons
from jacket.core.seams.sight import Sight, shown_from
from jacket.core.seams.sky import open_sky
from jacket.core.seams.turning import Turning, path_lengths
from jacket.core.seams.ways import way_costs
from jacket.core.source.crossings import crossing_pairs
from jacket.core.source.health import Health, examine, welded_copy
from jacket.core.source.simplify import clustered_copy
from jacket.core.source.symmetry import Plane, difference
from jacket.core.space.bvh import Bvh
from jacket.core.space.rays import RayTree
from jacket.core.store import STORE, Grounds
from jacket.core.uv.identity import island_numbers
from jacket.core.uv.islands import Islands
from jacket.core.uv.sets import cut_flags, piece_labels
from jacket.core.uv.sheets import ONE_SHEET, Sheets
from jacket.progress import Progress

HEAVY = 150_000
"""Faces from which on a source is made ready to draw and to pick in the background."""

LARGE = 1_000_000
"""Faces from which on the connectivity of a source is not kept once it has been read off."""

HEAT_POINTS = 240_000
"""Triangles of the copy on which the mirror difference of larger sources is measured."""


def form_of(mesh: PolyMesh) -> Grounds:
    """What results stand on that follow from the places of faces in space."""
    return (mesh.aspect("points"), mesh.aspect("faces"))


def sheet_of(mesh: PolyMesh) -> Grounds:
    """What results stand on that follow from the active UV set alone."""
    return (mesh.aspect("faces"), mesh.aspect("uv"), mesh.aspect("cuts"))


def layout_of(mesh: PolyMesh) -> Grounds:
    """What results stand on that follow from the active UV set and the places of faces in space."""
    return (mesh.aspect("points"), *sheet_of(mesh))


def normals_of(mesh: PolyMesh) -> Floats:
    """(V, 3) unit normals at the points."""
    return STORE.get(form_of(mesh), "normals", lambda: point_normals(mesh))


# ---- picking --------------------------------------------------------------------------------------------------


def surface_of(mesh: PolyMesh) -> Bvh:
    """The hierarchy over a mesh's triangles."""
    return STORE.get(form_of(mesh), "surface", lambda: Bvh.build(mesh.points, mesh.triangle_points))


def moved_surface(mesh: PolyMesh, old: PolyMesh) -> Bvh:
    """The hierarchy of a mesh that has the triangles of `old` elsewhere: refitting is ten times as quick."""
    before = STORE.peek(form_of(old), "surface")
    if before is None or mesh.n_points != old.n_points or len(before.triangles) != len(mesh.triangle_points):
        return surface_of(mesh)
    return STORE.get(form_of(mesh), "surface", lambda: before.refit(mesh.points))


def pickable(mesh: PolyMesh) -> bool:
    """Whether a source can be picked without making the window wait."""
    return mesh.n_faces < HEAVY or STORE.peek(form_of(mesh), "surface") is not None


# ---- sources --------------------------------------------------------------------------------------------------


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

    return STORE.get((mesh,), "health", make)


def known_health(mesh: PolyMesh) -> Health | None:
    """The health of a source where it has been examined already."""
    known: Health | None = STORE.peek((mesh,), "health")
    return known


def parts_of(mesh: PolyMesh) -> tuple[int, Ints]:
    """Number of loose parts of a source and (F,) the part of each face."""

    def make() -> tuple[int, Ints]:
        parts = face_parts(welded_copy(mesh))
        forget_connectivity(mesh)
        return parts

    return STORE.get(form_of(mesh), "parts", make)


def light_of(mesh: PolyMesh, wanted: int) -> tuple[PolyMesh, Ints]:
    """The light copy of a source with its mean colours, and (V,) which of its points each point went into; a mesh that
    is light enough comes back detached."""

    def make() -> tuple[PolyMesh, Ints]:
        points, triangles, to = clustered_copy(mesh.points, mesh.triangle_points, wanted)
        if points is mesh.points:
            return mesh.detached(), to
        data: dict[str, Any] = {}
        colour = mesh.point_data.get("colour")
        if colour is not None:
            count = np.maximum(np.bincount(to, minlength=len(points)), 1)
            sums = [np.bincount(to, colour[:, k], len(points)) / count for k in range(4)]
            data["colour"] = np.stack(sums, axis=1).round().astype(np.uint8)
        starts = np.arange(0, 3 * len(triangles) + 1, 3, dtype=np.int32)
        return PolyMesh(points, triangles.ravel(), starts, point_data=data), to

    return STORE.get((*form_of(mesh), mesh.aspect("point_data")), ("light", wanted), make)


def mirror_difference(mesh: PolyMesh, plane: Plane) -> NDArray[np.float64]:
    """(V,) distance of each mirrored point to the source in % of its diagonal; of large sources at the points of
    a light copy."""
    key = ("difference", tuple(plane.normal.tolist()), plane.offset)

    def make() -> NDArray[np.float64]:
        light, to = light_of(mesh, HEAT_POINTS)
        values = difference(light, surface_of(mesh), plane) * light.diagonal / max(mesh.diagonal, 1e-300)
        return values[to]

    return STORE.get(form_of(mesh), key, make)


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
    found: Ints | None = STORE.peek(form_of(mesh), "crossings")
    return found


def count_crossings(mesh: PolyMesh, progress: Progress) -> Ints:
    """Count self-intersections of a source, once."""

    def make() -> Ints:
        joined = welded_copy(mesh)
        surface = surface_of(mesh) if joined is mesh else Bvh.build(joined.points, joined.triangle_points)
        return crossing_pairs(surface, progress)

    return STORE.get(form_of(mesh), "crossings", make)


# ---- jackets --------------------------------------------------------------------------------------------------


FEW_ISLANDS = 40
"""So many islands are compared at once; more are looked over beside the window, with the checks."""


def close_of(mesh: PolyMesh, sheets: Sheets, stacks: Ints) -> Ints:
    """Pairs of islands that come too close."""
    islands = islands_of(mesh, sheets)
    return STORE.get(layout_of(mesh), ("close", sheets, tuple(stacks.tolist())), lambda: close_islands(islands, stacks))


def known_close(mesh: PolyMesh, sheets: Sheets, stacks: Ints) -> Ints | None:
    """The same where it is known or quickly found, else None."""
    if islands_of(mesh, sheets).count <= FEW_ISLANDS:
        return close_of(mesh, sheets, stacks)
    return STORE.peek(layout_of(mesh), ("close", sheets, tuple(stacks.tolist())))


def twins_of(mesh: PolyMesh, sheets: Sheets, tolerance: float, mirrored: bool) -> list[Twins]:
    """Islands of one shape: how they lie on the sheets is no matter, only how they are cut."""
    islands = islands_of(mesh, sheets)
    key = ("twins", islands.borders.tobytes(), islands.mapped.tobytes(), tolerance, mirrored)
    return STORE.get(form_of(mesh), key, lambda: find_twins(islands, tolerance, mirrored))


def islands_of(mesh: PolyMesh, sheets: Sheets = ONE_SHEET) -> Islands:
    """The islands of a jacket over its active UV set, on sheets."""
    return STORE.get(layout_of(mesh), ("islands", sheets), lambda: Islands.of(mesh.detached(), sheets))


def islands_moved(mesh: PolyMesh, islands: Islands, uv: Floats, sheets: Sheets = ONE_SHEET) -> None:
    """Keep the islands of a mesh that differs from another one only in that islands were moved as a whole."""
    STORE.put(layout_of(mesh), ("islands", sheets), islands.with_uv(uv))


def stretch_of(mesh: PolyMesh, sheets: Sheets = ONE_SHEET) -> NDArray[np.float64]:
    """(F,) stretch of each face over the active UV set, NaN where unmapped."""
    if mesh.uv is None:
        return np.full(mesh.n_faces, np.nan)
    return STORE.get(
        layout_of(mesh), ("stretch", sheets), lambda: face_stretch(mesh, islands_of(mesh, sheets).places)
    )


def angles_of(mesh: PolyMesh, sheets: Sheets = ONE_SHEET) -> NDArray[np.float64]:
    """(F,) distortion of angles of each face over the active UV set, 0 is true, NaN where unmapped."""
    if mesh.uv is None:
        return np.full(mesh.n_faces, np.nan)
    return STORE.get(layout_of(mesh), ("angles", sheets), lambda: face_angles(mesh, islands_of(mesh, sheets).places))


def stretch_figures(mesh: PolyMesh, sheets: Sheets = ONE_SHEET) -> StretchFigures | None:
    """Stretch over all islands of the active UV set; None where it maps nothing."""
    uv = mesh.uv
    if uv is None or not np.isfinite(uv).any():
        return None
    return STORE.get(
        layout_of(mesh), ("figures", sheets), lambda: measure_stretch(mesh, islands_of(mesh, sheets).places)
    )


def known_stretch_figures(mesh: PolyMesh, sheets: Sheets = ONE_SHEET) -> StretchFigures | None:
    """Stretch over all islands where it has been measured already."""
    return STORE.peek(layout_of(mesh), ("figures", sheets))


def ways_from(mesh: PolyMesh, start: int, kind: str = "short") -> tuple[Floats, Ints]:
    """All cheapest ways from a point by what they prefer (`way_costs`), as `path_lengths` gives them."""

    def make() -> tuple[Floats, Ints]:
        cost, turn = way_costs(mesh, kind, sky_of(mesh) if kind == "hidden" else None)
        return path_lengths(turning_of(mesh), cost, start, np.zeros(mesh.n_points, bool), turn)

    return STORE.get(form_of(mesh), ("ways", start, kind), make)


def lying_at(mesh: PolyMesh, edges: Ints) -> Present:
    """How the pieces at edges lie as they are cut, laid flat quickly."""
    _, labels = STORE.get((mesh.aspect("faces"), mesh.aspect("cuts")), "pieces", lambda: piece_labels(mesh))
    key = ("lying", *np.unique(labels[faces_at(mesh, edges)]).tolist())
    return STORE.get((*form_of(mesh), mesh.aspect("cuts")), key, lambda: lying_now(mesh, cut_flags(mesh), edges))


def sky_of(mesh: PolyMesh) -> Floats:
    """(V,) share of the sky over each point that the mesh itself leaves open."""
    return STORE.get(form_of(mesh), "sky", lambda: open_sky(mesh))


def known_shown(mesh: PolyMesh, sights: tuple[Sight, ...]) -> Floats | None:
    """(V,) what `shown_of` says where it has been worked out already."""
    found: Floats | None = STORE.peek(form_of(mesh), ("shown", sights) if sights else "sky")
    return found


def shown_of(mesh: PolyMesh, sights: tuple[Sight, ...]) -> Floats:
    """(V,) how much each point is seen: from sight lines where there are some, else by the open sky."""
    if not sights:
        return sky_of(mesh)
    tree = rays_of(mesh)
    return STORE.get(form_of(mesh), ("shown", sights), lambda: shown_from(mesh, sights, tree))


def rays_of(mesh: PolyMesh) -> RayTree:
    """The tree of a mesh for rays."""
    return STORE.get(form_of(mesh), "rays", lambda: RayTree.build(mesh.points, mesh.triangle_points))


def set_figures_of(mesh: PolyMesh, cut: Bools, sights: tuple[Sight, ...], known: bool = False) -> SetFigures | None:
    """Figures of a way to cut a mesh, flags (E,) of edges; with `known` only where they have been worked out."""
    key = ("set figures", np.packbits(cut).tobytes(), sights)
    if known:
        found: SetFigures | None = STORE.peek(form_of(mesh), key)
        return found
    return STORE.get(form_of(mesh), key, lambda: set_figures(mesh.detached(), cut, shown_of(mesh, sights)))


def tried_on(mesh: PolyMesh, name: str) -> PolyMesh:
    """The mesh as if it were cut as a seam set says, for looking at; itself where there is none of that name."""
    if name not in set_names(mesh):
        return mesh

    def make() -> PolyMesh:
        whole = mesh.detached()
        bare = whole.with_(corner_data={k: v for k, v in whole.corner_data.items() if k != UV + whole.active_uv})
        return put_on(bare, name)

    return STORE.get((*form_of(mesh), mesh.aspect("marks")), ("tried", name), make)


def reasons_of(mesh: PolyMesh, names: dict[int, str], progress: Progress) -> tuple[Reason, ...]:
    """Why the islands of a mesh warp, found once; `names` of islands by the number on their faces."""
    numbers = island_numbers(mesh)

    def name(faces: Ints) -> str:
        return names.get(int(numbers[faces[0]]), "the island") if numbers is not None else "the island"

    return STORE.get((*form_of(mesh), mesh.aspect("cuts")), "reasons", lambda: reasons(mesh.detached(), sky_of(mesh), name, progress))


def known_reasons(mesh: PolyMesh) -> tuple[Reason, ...] | None:
    """What `reasons_of` says where it has been found."""
    found: tuple[Reason, ...] | None = STORE.peek((*form_of(mesh), mesh.aspect("cuts")), "reasons")
    return found


def turning_of(mesh: PolyMesh) -> Turning:
    """How edges follow each other round the points of a mesh."""
    return STORE.get(form_of(mesh), "turning", lambda: Turning.of(mesh.detached()))


def gap_of(mesh: PolyMesh, source: PolyMesh) -> Floats:
    """(V,) distance of each point of a jacket to the source, % of the source's diagonal."""

    def make() -> Floats:
        return surface_of(source).closest(mesh.points)[2] / max(source.diagonal, 1e-300) * 100

    return STORE.get((mesh.aspect("points"), *form_of(source)), "gap", make)


AT_ONCE = 10_000
"""Points of a mesh up to which a view may wait for gaps."""


def known_gap(mesh: PolyMesh, source: PolyMesh) -> Floats | None:
    """What `gap_of` says where it has been found, or is found in a moment; None where that is worth working beside the window."""
    if mesh.n_points < AT_ONCE:
        return gap_of(mesh, source)
    found: Floats | None = STORE.peek((mesh.aspect("points"), *form_of(source)), "gap")
    return found


def cage_reach_of(mesh: PolyMesh, source: PolyMesh) -> float:
    """How far a cage reaches by itself, in units (core/bake/cage.py, found_reach)."""
    detached = mesh.detached()
    return STORE.get((mesh.aspect("points"), mesh.aspect("faces"), *form_of(source)), "cage reach",
                     lambda: found_reach(detached, surface_of(source)))  # fmt: skip


def known_cage_reach(mesh: PolyMesh, source: PolyMesh) -> float | None:
    """What `cage_reach_of` says where it has been found, or is found in a moment; None where that is worth working beside the
    window."""
    if mesh.n_points < AT_ONCE:
        return cage_reach_of(mesh, source)
    found: float | None = STORE.peek((mesh.aspect("points"), mesh.aspect("faces"), *form_of(source)), "cage reach")
    return found


def turns_of(mesh: PolyMesh) -> Floats:
    """(E,) angle between the faces of each edge, degrees (core/mesh/geometry.py, dihedral_angles)."""
    return STORE.get((mesh.aspect("points"), mesh.aspect("faces")), "turns", lambda: dihedral_angles(mesh))


def rings_of(mesh: PolyMesh) -> Rings:
    """The rings of edges: how rows run over the whole form."""
    return STORE.get((mesh.aspect("faces"),), "rings", lambda: rings(mesh))
