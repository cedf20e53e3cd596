"""Relax, Nudge and Unpick, driven by plain events."""

from __future__ import annotations

import numpy as np

from jacket.core.mesh.polymesh import PolyMesh
from jacket.stages.topology.tools.brushes import Nudge, Relax, Unpick
from jacket.stages.topology.tools.draft import Draft
from jacket.tools.base import ToolSettings
from tests.hands import at, drag, mesh_of, sheet_document


def test_backspace_removes_what_is_under_the_pointer() -> None:
    document = sheet_document(3)
    draft = Draft(document, ToolSettings())
    for place, left in (((0.0, 0.0), 8), ((-0.3, 0.15), 6), ((0.45, 0.45), 5)):
        draft.remove(at(*place))
        assert mesh_of(document).n_faces == left, place


def test_relax_evens_and_leaves_borders_when_told() -> None:
    document = sheet_document(8)
    rng = np.random.default_rng(3)
    rough = mesh_of(document).points + np.concatenate([rng.normal(scale=0.05, size=(81, 2)), np.zeros((81, 1))], axis=1)
    document.edit_jacket("rough", mesh_of(document).with_points(rough))
    settings = ToolSettings(brush=400, strength=1.0, which="inside")
    relax = Relax(document, settings)
    before = mesh_of(document)
    for _ in range(4):
        drag(relax, (0.0, 0.0), (0.02, 0.0))
    after = mesh_of(document)
    border = before.topology.border_points
    assert np.array_equal(after.points[border], before.points[border])

    def unevenness(mesh: PolyMesh) -> float:
        from jacket.core.mesh.geometry import face_areas

        inner = ~border[mesh.corners.reshape(-1, 4)].any(axis=1)
        return float(np.std(face_areas(mesh)[inner]))

    assert unevenness(after) < 0.5 * unevenness(before) and np.abs(after.points[:, 2]).max() < 1e-12


def test_nudge_carries_only_what_hangs_together() -> None:
    document = sheet_document(2)
    two = mesh_of(document)
    apart = PolyMesh.from_faces(
        np.concatenate([two.points, two.points + [0.62, 0, 0]]),
        np.concatenate([two.corners.reshape(-1, 4), two.corners.reshape(-1, 4) + 9]),
    )
    document.edit_jacket("two sheets", apart)
    nudge = Nudge(document, ToolSettings(brush=150, strength=1.0))
    drag(nudge, (0.2, 0.0), (0.2, 0.2))
    moved = np.abs(mesh_of(document).points - apart.points).max(axis=1)
    assert moved[:9].max() > 0.05 and moved[9:].max() == 0


def test_unpick_sweeps() -> None:
    document = sheet_document(4)
    drag(Unpick(document, ToolSettings()), (-0.45, -0.45), (0.45, -0.45))
    assert 16 - mesh_of(document).n_faces >= 3 and len(document.history.done) == 1
