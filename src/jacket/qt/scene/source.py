"""Sources as they are drawn: in full, as light copies, in heat, cut away; what is picked on them; the mirror plane."""

from __future__ import annotations

import numpy as np

from jacket.commands.display import Display, Heat
from jacket.core.derive import HEAVY, form_of, light_of, pickable, surface_of
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.source.mend import triangles_of
from jacket.core.source.symmetry import Plane
from jacket.core.store import STORE, Grounds
from jacket.document.state import State
from jacket.progress import Progress, silent
from jacket.qt.scene.rows import triangle_rows
from jacket.qt.scene.tints import heat_tints
from jacket.qt.theme import Palette, rgb
from jacket.render.scene import Layer, line_rows
from jacket.render.surfaces import Look, Surface, surface_of_mesh

LIGHTS = (40_000, 600_000)
"""Triangles of the copies drawn while the view moves: the first under software rendering, the others where the
measured rate of a graphics card allows it."""


def drawing_of(mesh: PolyMesh) -> Grounds:
    """What the look of a source stands on."""
    return (*form_of(mesh), mesh.aspect("point_data"), mesh.aspect("face_data"), mesh.aspect("corner_data"))


def drawn_source(mesh: PolyMesh) -> Surface:
    """A source as it is drawn when the view stands still."""
    return STORE.get(drawing_of(mesh), "drawn", lambda: surface_of_mesh(mesh))


def drawn_light(mesh: PolyMesh, wanted: int) -> Surface:
    """A light copy as it is drawn in motion."""

    def make() -> Surface:
        light, _ = light_of(mesh, wanted)
        return drawn_source(mesh) if len(light.corners) == len(mesh.corners) else surface_of_mesh(light)

    return STORE.get(drawing_of(mesh), ("drawn light", wanted), make)


def is_shown(mesh: PolyMesh) -> bool:
    """Whether at least the light copy of a source can be drawn at once."""
    return mesh.n_faces < HEAVY or STORE.peek(drawing_of(mesh), ("drawn light", LIGHTS[0])) is not None


def is_drawable(mesh: PolyMesh) -> bool:
    """Whether a source can be drawn as it is."""
    return mesh.n_faces < HEAVY or (STORE.peek(drawing_of(mesh), "drawn") is not None and is_shown(mesh))


def is_whole(mesh: PolyMesh) -> bool:
    """Whether a source can be drawn and picked as it is."""
    return is_drawable(mesh) and pickable(mesh)


def prepare_light(mesh: PolyMesh) -> None:
    """Derive what the first picture of a source needs; for the background."""
    # Both are kept by the mesh; found here they cost the window nothing.
    _ = mesh.diagonal, mesh.is_triangles
    drawn_light(mesh, LIGHTS[0])


def prepare_drawing(mesh: PolyMesh, software: bool, progress: Progress = silent) -> None:
    """Derive everything that drawing and picking a source need; for the background."""
    progress(0.0, "making a light copy")
    prepare_light(mesh)
    if not software:
        drawn_light(mesh, LIGHTS[1])
    progress(0.25, "making ready to draw")
    drawn_source(mesh)
    progress(0.5, "making ready to pick")
    surface_of(mesh)
    progress(1.0, "ready")


def heated(mesh: PolyMesh, heat: Heat, palette: Palette) -> tuple[Surface, Surface]:
    """A source and its light copy in heat colours."""

    def make() -> tuple[Surface, Surface]:
        tints = heat_tints(heat.values, heat.reach, palette)
        full = surface_of_mesh(mesh.with_(point_data={"colour": tints}, materials=(), face_data={}))
        light, to = light_of(mesh, LIGHTS[0])
        if light.n_faces == mesh.n_faces:
            return full, full
        count = np.maximum(np.bincount(to, minlength=light.n_points), 1)
        mean = np.bincount(to, heat.values, light.n_points) / count
        warm = light.with_(point_data={"colour": heat_tints(mean, heat.reach, palette)})
        return full, surface_of_mesh(warm)

    return STORE.get((*form_of(mesh), heat), ("heat", palette.paper), make)


def source_surfaces(
    state: State, display: Display, palette: Palette
) -> tuple[list[Surface], list[list[Surface]], Look]:
    """All visible sources, the tiers of their light copies, and how they are drawn."""
    base: list[Surface] = []
    tiers: list[list[Surface]] = [[] for _ in LIGHTS]
    warm = False
    for source in state.sources:
        mesh = source.mesh
        if not source.visible or mesh.n_faces == 0 or not is_shown(mesh):
            continue
        heat = display.heat
        if heat is not None and heat.mesh is mesh:
            full, light = heated(mesh, heat, palette)
            base.append(full)
            for tier in tiers:
                tier.append(light)
            warm = True
            continue
        base.append(drawn_source(mesh) if is_drawable(mesh) else drawn_light(mesh, LIGHTS[0]))
        for tier, wanted in zip(tiers, LIGHTS, strict=True):
            lighter = wanted if STORE.peek(drawing_of(mesh), ("drawn light", wanted)) is not None or wanted == LIGHTS[0] else LIGHTS[0]
            tier.append(drawn_light(mesh, lighter))
    look = Look("heat" if warm else display.shade, rgb(palette.source)[:3], cut_plane(state, display))
    return base, tiers, look


def cut_plane(state: State, display: Display) -> tuple[float, float, float, float]:
    """The plane beyond which sources are cut away; all nought for none."""
    source = state.chosen_source
    if not display.cut_axis or source is None or source.mesh.n_points == 0:
        return (0.0, 0.0, 0.0, 0.0)
    axis = "xyz".index(display.cut_axis)
    low, high = source.mesh.box
    normal = [0.0, 0.0, 0.0]
    normal[axis] = 1.0
    return (*normal, float(low[axis] + display.cut_share * (high[axis] - low[axis])))  # type: ignore[return-value]


def picked_layers(state: State, palette: Palette, pull: float) -> list[Layer]:
    """Faces of the source that are picked, in magenta."""
    source, picked = state.chosen_source, state.picked.ids
    if source is None or not source.visible or len(picked) == 0 or picked.max() >= source.mesh.n_faces:
        return []
    corner = triangles_of(source.mesh, picked)
    return [Layer(triangle_rows(corner, rgb(palette.held, 0.62)), pull=pull, lit=True)]


def plane_layers(mesh: PolyMesh, plane: Plane, palette: Palette) -> list[Layer]:
    """The mirror plane as a frame round the source."""
    low, high = mesh.box
    middle = (low + high) / 2
    middle = middle - (middle @ plane.normal - plane.offset) * plane.normal
    across = np.cross(plane.normal, [0.0, 1.0, 0.0] if abs(plane.normal[1]) < 0.9 else [1.0, 0.0, 0.0])
    across /= np.linalg.norm(across)
    along = np.cross(across, plane.normal)
    half = 0.4 * mesh.diagonal
    ring = [middle + half * (a * across + b * along) for a, b in ((-1, -1), (1, -1), (1, 1), (-1, 1))]
    segments = np.array([[ring[k], ring[(k + 1) % 4]] for k in range(4)])
    return [Layer(lines=line_rows(segments, rgb(palette.look), 1.8), stitch=9.0)]
