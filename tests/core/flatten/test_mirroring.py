"""Images on the sheet: known transforms are found, halves and pairs follow each other, and what differs does not."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.flatten.mirroring import followed, images_of, mirrored_corners
from jacket.core.mesh.pieces import mirrored_copy, put_side_by_side
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.islands import Islands
from jacket.core.uv.sets import flat_points
from jacket.stages.flatten.tools.brushes import FlatNudge, with_pins
from jacket.stages.flatten.tools.carrying import Carry
from jacket.stages.flatten.tools.sliding import Slide
from jacket.tools.base import ToolSettings
from jacket.tools.mirror import partners
from tests.conftest import grid
from tests.stages.flatten.test_flat_tools import document, drag, mesh_of


def pair(turn: complex = 1.0, flips: bool = True) -> PolyMesh:
    """A plate of 4 × 4 on either side of the plane x = 0; the left one lies on the sheet, the right one as its image, turned."""
    plate = grid(4).with_points(grid(4).points - [5.0, 0, 0])
    both = put_side_by_side([plate, mirrored_copy(plate, 0)])
    z = (both.points[both.corners][:, :2] @ np.array([1.0, 1.0j])) * 0.08
    left = both.points[both.corners][:, 0] < 0
    mirror = -z.conj()  # where the left one's point is, from the right one's
    w = np.where(left, z + 0.45 + 0.3j, turn * (mirror.conj() if flips else mirror) + 0.55 + 0.6j)
    return both.with_uv(np.stack([w.real, w.imag], axis=1))


@pytest.mark.parametrize(("turn", "flips"), [(1.0, True), (0.7j, True), (np.exp(0.4j), False)])
def test_the_map_between_images_is_found(turn: complex, flips: bool) -> None:
    mesh = pair(turn, flips)
    table = partners(mesh, "x")
    corner = mirrored_corners(mesh, table)
    assert (corner >= 0).all() and np.array_equal(corner[corner], np.arange(mesh.n_corners))
    assert np.array_equal(mesh.corners[corner], table[mesh.corners])
    images = images_of(mesh, Islands.of(mesh), table)
    assert images is not None
    every = np.arange(mesh.n_corners)
    assert np.allclose(images.image(mesh.uv, every), mesh.uv[corner], atol=1e-12)
    assert images.flips.all() == flips


def test_what_is_no_image_does_not_follow() -> None:
    mesh = pair()
    bent = mesh.uv.copy()
    right = mesh.points[mesh.corners][:, 0] > 0
    bent[right] *= [1.3, 1.0]
    assert images_of(mesh, Islands.of(mesh.with_uv(bent)), partners(mesh, "x")) is None
    assert (mirrored_corners(mesh, np.full(mesh.n_points, -1)) == -1).all()


def test_moved_points_lead_pinned_ones_stay() -> None:
    mesh = pair()
    islands, table = Islands.of(mesh), partners(mesh, "x")
    images, (fans, first) = images_of(mesh, islands, table), flat_points(mesh)
    assert images is not None
    after = mesh.uv.copy()
    after[mesh.corners == 12] += [0.01, 0.02]  # the middle of the left plate
    out = followed(mesh, images, fans, mesh.uv, after, np.zeros(len(first), bool))
    other = mesh.corners == table[12]
    assert np.allclose(out[other] - mesh.uv[other], [0.01, -0.02]) and (np.abs(out - mesh.uv).max(axis=1) > 0).sum() == 8
    pinned = np.zeros(len(first), bool)
    pinned[fans[other]] = True
    assert np.array_equal(followed(mesh, images, fans, mesh.uv, after, pinned), after)


def test_gestures_do_the_same_on_the_other_island_and_on_the_other_half() -> None:
    doc = document(pair())
    doc.state = doc.state.with_(mirror="x")
    before = mesh_of(doc).uv.copy()
    table = partners(mesh_of(doc), "x")
    images = images_of(mesh_of(doc), Islands.of(mesh_of(doc)), table)
    assert images is not None
    for tool, start, end in ((FlatNudge(doc, ToolSettings(brush=40)), (0.21, 0.46), (0.22, 0.48)), (Carry(doc, ToolSettings()), (0.21, 0.46), (0.22, 0.44)),
                             (Slide(doc, ToolSettings()), (0.21, 0.42), (0.225, 0.42))):  # fmt: skip
        drag(tool, start, end)
        now = mesh_of(doc).uv
        assert np.abs(now - before).max() > 0.005
        assert np.allclose(images.image(now, np.arange(len(now))), now[images.corner], atol=1e-9)
        doc.undo()
    # One island across the plane: halves follow, the middle stays in the middle.
    plate = grid(4).with_points(grid(4).points - [2.0, 0, 0])
    whole = plate.with_uv(0.1 * plate.points[plate.corners][:, :2] + [0.5, 0.3])
    doc = document(whole)
    doc.state = doc.state.with_(mirror="x")
    drag(Carry(doc, ToolSettings()), (0.4, 0.5), (0.42, 0.52))
    now = mesh_of(doc).uv
    at = {tuple(np.round(p, 6)): uv for p, uv in zip(whole.points[whole.corners], now, strict=True)}
    assert np.allclose(at[1.0, 2.0, 0.0] - at[-1.0, 2.0, 0.0], [0.2 - 0.04, 0.0]) and at[1.0, 2.0, 0.0][1] == pytest.approx(0.52)
    drag(Carry(doc, ToolSettings()), (0.5, 0.5), (0.53, 0.52))
    assert np.allclose(mesh_of(doc).uv[(whole.points[whole.corners] == [0, 2, 0]).all(axis=1)][:, 0], 0.5)
    assert with_pins(whole, np.zeros(whole.n_corners)) is not whole
