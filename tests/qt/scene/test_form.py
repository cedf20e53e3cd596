"""Scenes of both views: what is in them and in which colours."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from jacket.commands.display import Display
from jacket.core.flatten.unwrap import unwrap
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.seams.cuts import cut_edges, sharp_edges
from jacket.document.state import Held, JacketObject, SourceObject, State
from jacket.qt.scene.form import form_scene
from jacket.qt.scene.seams import form_seams, zoom_step
from jacket.qt.scene.sheet import flat_scene
from jacket.qt.scene.tints import heat
from jacket.qt.theme import DAY, NIGHT, rgb
from tests.conftest import cube, grid, icosphere


def boxed() -> State:
    flat, _ = unwrap(cut_edges(cube(), sharp_edges(cube(), 45)))
    return State((SourceObject(1, "s", icosphere(2)),), (JacketObject(2, "j", flat),), active=2)


def test_scenes_follow_the_chips() -> None:
    state, display = boxed(), Display()
    scene = form_scene(state, display, DAY, "topology")
    assert len(scene.base) == 1 and len(scene.layers) == 3  # faces, and the stitch in two layers
    display = replace(display, source=False, seams=False, wire=False)
    scene = form_scene(state, display, DAY, "topology")
    assert not scene.base and len(scene.layers) == 1 and scene.layers[0].wire[3] == 0
    display = replace(display, jacket=False)
    assert not form_scene(state, display, DAY, "topology").layers
    assert form_scene(state, Display(), NIGHT, "topology").ground != scene.ground


def test_what_is_held_is_in_both_scenes() -> None:
    state = boxed()
    plain = (
        len(form_scene(state, Display(), DAY, "seams").layers),
        len(flat_scene(state, Display(), DAY).layers),
    )
    for kind, ids in (("faces", [1, 2]), ("edges", [0]), ("points", [3])):
        held = state.with_(held=Held(kind, np.array(ids, np.int32)))
        form = form_scene(held, Display(), DAY, "seams").layers
        assert len(form) == plain[0] + 1
        if kind != "points":
            # A held edge of a seam is joined to its other side by a thread and its ends.
            more = 3 if kind == "edges" else 1
            assert len(flat_scene(held, Display(), DAY).layers) == plain[1] + more
    gone = state.with_(held=Held("faces", np.array([99], np.int32)))
    assert len(form_scene(gone, Display(), DAY, "seams").layers) == plain[0]  # stale ids draw nothing


def test_unmapped_faces_stay_off_the_sheet() -> None:
    state = boxed()
    mesh = state.jacket.mesh
    uv = mesh.uv.copy()
    uv[:4] = np.nan
    less = flat_scene(state.with_jacket_mesh(mesh.with_uv(uv)), Display(), DAY)
    more = flat_scene(state, Display(), DAY)
    assert len(more.layers[1].fill) - len(less.layers[1].fill) == 6
    empty = flat_scene(State(), Display(), DAY)
    assert len(empty.layers) == 1 and len(empty.layers[0].fill) == 6


def test_heat_runs_from_violet_over_paper_to_green() -> None:
    colours = heat(np.array([-5.0, 0.0, 5.0, np.nan]), DAY.squeezed, DAY.paper, DAY.stretched, 1.0)
    for row, colour in zip(colours[:3], (DAY.squeezed, DAY.paper, DAY.stretched), strict=True):
        assert np.allclose(row, rgb(colour))
    assert np.allclose(colours[3, :3], 0.6)


def test_odd_faces_are_marked_in_their_colours() -> None:
    from jacket.qt.scene.jacket import face_colours

    odd = PolyMesh.from_faces(grid(2).points, [[0, 1, 4, 3], [1, 2, 5], [3, 4, 5, 8, 7]])
    state = State(jackets=(JacketObject(1, "j", odd),), active=1)
    colours = face_colours(odd, state, Display(), DAY)
    assert len(np.unique(colours, axis=0)) == 3


def test_stitches_within_a_step_of_nearing_are_as_wide() -> None:
    """What is kept while the view comes a little nearer looks as what is drawn anew there."""
    mesh = cube().with_cuts(cube().topology.edge_points)
    state = State((), (JacketObject(1, "j", mesh),), active=1)

    def widths(per_unit: float) -> np.ndarray:
        return np.concatenate([x.lines[:, -1] for x in form_seams(mesh, mesh.points, state, per_unit, DAY, 0.0)])

    base = 1.3**13
    assert zoom_step(base) == zoom_step(base * 1.1) and np.array_equal(widths(base), widths(base * 1.1))
    assert not np.array_equal(widths(base), widths(base * 1.3**4))
