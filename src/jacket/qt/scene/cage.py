"""The cage as a glass hull over the jacket, in colour where rays fail."""

from __future__ import annotations

import numpy as np

from jacket.core.bake.cage import REACH, cage_ways
from jacket.core.bake.failing import failing_faces
from jacket.core.bake.made import Bake
from jacket.core.derive import known_cage_reach
from jacket.core.mesh.geometry import unit
from jacket.core.mesh.polymesh import PolyMesh
from jacket.document.state import JacketObject, State
from jacket.qt.theme import Palette, rgb
from jacket.render.scene import Layer, fill_rows


def reach_of(layer: JacketObject, state: State, baked: Bake | None, percent: float) -> float | None:
    """How far rays go outwards from a layer, in units: as set, as the last bake found, or as the gap says; None where that is
    still being found."""
    mesh = layer.mesh
    if percent > 0:
        return 0.01 * percent * mesh.diagonal
    if baked is not None and layer.name in baked.reach:
        return float(baked.reach[layer.name])
    return known_cage_reach(mesh, state.source.mesh) if state.source is not None else 0.0


def cage_layers(mesh: PolyMesh, reach: float, baked: Bake | None, palette: Palette, pull: float) -> list[Layer]:
    """The hull of a layer, pulled towards the eye like the jacket that it goes around."""
    colours = np.tile(np.array(rgb(palette.card, 0.22)), (mesh.n_faces, 1))
    if baked is not None and baked.whole and baked.sheets:
        missed, behind = failing_faces(mesh, baked)
        colours[behind] = rgb(palette.look, 0.6)
        colours[missed] = rgb(palette.accent, 0.6)
    return [Layer(fill_rows(hull_of(mesh, reach), colours), pull=pull, wire=rgb(palette.card, 0.35), lit=True)]


def hull_of(mesh: PolyMesh, reach: float) -> PolyMesh:
    """The jacket moved outwards along its cage directions, averaged at each point, as far as rays go there."""
    corners = cage_ways(mesh)
    ways = unit(np.stack([np.bincount(mesh.corners, corners[:, k], mesh.n_points) for k in range(3)], axis=1))
    factor = np.asarray(mesh.point_data.get(REACH, np.ones(mesh.n_points)), np.float64)[:, None]
    return mesh.detached().with_points(mesh.points + ways * factor * reach)
