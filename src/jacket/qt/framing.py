"""Which places a view is moved to."""

from __future__ import annotations

from typing import Any

import numpy as np

from jacket.core.derive import HEAVY
from jacket.core.mesh.polymesh import Floats
from jacket.core.source.health import stray_flags
from jacket.document.state import State
from jacket.qt.scene.source import LIGHTS, drawn_light, is_shown


def held_corners(state: State) -> Any:
    """Corners of everything that is held, of every kind; None where nothing is."""
    jacket, held = state.jacket, state.held
    if jacket is None or not held.parts:
        return None
    mesh = jacket.mesh
    out = np.isin(mesh.face_of_corner, held.of("faces"))
    out |= np.isin(mesh.topology.edge, held.of("edges"))
    out |= np.isin(mesh.corners, held.of("points"))
    corners = np.flatnonzero(out)
    return corners if len(corners) else None


def whole_points(state: State) -> Floats:
    """(N, 3) points to frame everything by: visible sources, or the layer where there are none. Of large sources a light
    copy does as well; a stray point far from all others counts for nothing."""
    meshes = [s.mesh for s in state.sources if s.visible and s.mesh.n_points]
    if not meshes and state.jacket is not None and state.jacket.mesh.n_points:
        meshes = [state.jacket.mesh]
    rows = [drawn_light(m, LIGHTS[0]).points.astype(float) for m in meshes if m.n_faces >= HEAVY and is_shown(m)]
    rows += [m.points for m in meshes if m.n_faces < HEAVY]
    points = np.concatenate(rows) if rows else np.zeros((0, 3))
    return points[~stray_flags(points)]
