"""The cage as a glass hull over the jacket, in colour where rays fail."""

from __future__ import annotations

import numpy as np

from jacket.core.bake.cage import REACH, cage_ways, found_reach
from jacket.core.bake.failing import failing_faces
from jacket.core.bake.made import Bake
from jacket.core.derive import surface_of
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.store import STORE
from jacket.document.state import JacketObject, State
from jacket.qt.theme import Palette, rgb
from jacket.render.scene import Layer, fill_rows


def reach_of(layer: JacketObject, state: State, baked: Bake | None, percent: float) -> float:
    """How far rays go outwards from a layer, in units: as set, as the last bake found, or as the gap says."""
    mesh = layer.mesh
    if percent > 0:
        return 0.01 * percent * mesh.diagonal
    if baked is not None and layer.name in baked.reach:
        return float(baked.reach[layer.name])
    if state.source is None:
        return 0.0
    source = state.source.mesh
    detached = mesh.detached()
    found: float = STORE.get((mesh.aspect("points"), mesh.aspect("faces"), source.aspect("points")), "found reach",
                             lambda: found_reach(detached, surface_of(source)))  # fmt: skip
    return found


def cage_layers(state: State, baked: Bake | None, percent: float, palette: Palette, pull: float) -> list[Layer]:
    """The hull of the active layer, pulled towards the eye like the jacket that it goes around."""
    layer = state.jacket
    if layer is None or not layer.visible or layer.mesh.n_faces == 0:
        return []
    mesh = layer.mesh
    colours = np.tile(np.array(rgb(palette.card, 0.22)), (mesh.n_faces, 1))
    if baked is not None and baked.whole and baked.sheets:
        missed, behind = failing_faces(mesh, baked)
        colours[behind] = rgb(palette.look, 0.6)
        colours[missed] = rgb(palette.accent, 0.6)
    hull = hull_of(mesh, reach_of(layer, state, baked, percent))
    return [Layer(fill_rows(hull, colours), pull=pull, wire=rgb(palette.card, 0.35), lit=True)]


def hull_of(mesh: PolyMesh, reach: float) -> PolyMesh:
    """The jacket moved outwards along its cage directions, averaged at each point, as far as rays go there."""
    ways = np.zeros((mesh.n_points, 3))
    np.add.at(ways, mesh.corners, cage_ways(mesh))
    ways /= np.maximum(np.linalg.norm(ways, axis=1, keepdims=True), 1e-12)
    factor = np.asarray(mesh.point_data.get(REACH, np.ones(mesh.n_points)), np.float64)[:, None]
    return mesh.detached().with_points(mesh.points + ways * factor * reach)
