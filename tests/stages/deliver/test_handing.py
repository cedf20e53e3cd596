"""Pivots, sockets and levels of detail: what goes out beside the faces, read back by trimesh and turned by SciPy."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
import trimesh
from scipy.spatial.transform import Rotation

from jacket.core.mesh.geometry import face_normals
from jacket.core.mesh.nodes import ORIGIN, Socket
from jacket.core.uv.sheets import Sheet
from jacket.document.edits.nodes import drop_socket, put_level
from jacket.document.islands import with_island_numbers
from jacket.document.state import JacketObject, SourceObject, State
from jacket.errors import JacketError
from jacket.formats.project.records import load_project, save_project
from jacket.stages.deliver.commands import deliver_to
from jacket.stages.source.values import SourceValues
from tests.core.bake.forms import ball, boxed
from tests.host import Headless


def program(*more: JacketObject) -> Headless:
    jackets = (JacketObject(2, "box", boxed(4, True)), *more)
    state = State((SourceObject(1, "dense", ball(16)),), jackets, active=2, next_id=9, sheets=(Sheet(width=64, height=64, margin=1.0),))
    return Headless(with_island_numbers(State(), state), rays=4, samples=1)


def test_sockets_point_their_z_axis_along_the_surface() -> None:
    rng = np.random.default_rng(1)
    for towards in (*rng.normal(size=(20, 3)), (0, 0, 1.0), (0, 0, -1.0), (1, 0, 0.0)):
        unit = np.array(towards) / np.linalg.norm(towards)
        turn = Rotation.from_quat(Socket("s", ORIGIN, tuple(unit.tolist())).quaternion())
        assert np.allclose(turn.apply([0, 0, 1]), unit, atol=1e-12)


@pytest.mark.parametrize("profile", ["y-up-metres", "z-up-centimetres"])
def test_pivots_and_sockets_go_into_files_with_nodes_and_come_back(profile: str, tmp_path: Path) -> None:
    p = program()
    p.set(profile=profile)
    mesh = p.document.require_jacket().mesh
    face = int(np.argmax(mesh.points[mesh.corners].reshape(-1, 4, 3).mean(axis=1) @ (1.0, 0.2, 0.1)))
    with pytest.raises(JacketError, match="Hold"):
        p.commands["socket"].run(p)
    p.document.hold("faces", [face])
    p.front.answers = ["lid", "lid", "", None]
    p.do("socket", "socket", "pivot-base")
    with pytest.raises(JacketError, match="needs a name"):
        p.do("socket")
    p.do("socket")  # called off
    layer = p.document.require_jacket()
    assert [s.name for s in layer.nodes.sockets] == ["lid", "lid 2"]
    low, high = mesh.points.min(axis=0), mesh.points.max(axis=0)
    assert layer.nodes.pivot == pytest.approx(((low + high)[0] / 2, low[1], (low + high)[2] / 2))
    save_project(p.document.state, tmp_path / "a.jacket")
    assert load_project(tmp_path / "a.jacket").jackets[0].nodes == layer.nodes
    out = tmp_path / "out"
    deliver_to(p, out, "thing")
    scene = trimesh.load(out / "thing.glb")
    # Where its node puts it, the mesh is where it was, though its own points are about the pivot.
    whole = scene.to_geometry()
    assert whole.bounds == pytest.approx(np.stack([low, high]), abs=1e-6)
    assert np.asarray(next(iter(scene.geometry.values())).bounds)[0, 1] == pytest.approx(0.0, abs=1e-6)
    matrix, _ = scene.graph.get("lid")
    assert matrix[:3, 3] == pytest.approx(mesh.points[mesh.corners[4 * face : 4 * face + 4]].mean(axis=0), abs=1e-6)
    assert matrix[:3, 2] == pytest.approx(face_normals(mesh)[face], abs=1e-6)
    told = json.loads((out / "thing-report.json").read_text())["nodes"]["box"]
    x, y, z = layer.nodes.sockets[0].place
    assert told["sockets"][0]["place"] == pytest.approx((x, y, z) if profile.startswith("y") else (100 * x, -100 * z, 100 * y))
    p.do("take-in")
    assert [f.level for f in p.delivered.taken.findings if f.id == "sockets"] == ["good"]
    # The intake misses one that is not there any more.
    told = json.loads((out / "thing-report.json").read_text())
    told["nodes"]["box"]["sockets"][1]["name"] = "hook"
    (out / "thing-report.json").write_text(json.dumps(told))
    p.do("take-in")
    assert any(f.id == "sockets" and "hook" in f.sentence and f.level == "wrong" for f in p.delivered.taken.findings)
    p.document.undo()
    assert p.document.require_jacket().nodes.pivot == ORIGIN


def test_sockets_go_along_where_the_source_is_placed() -> None:
    p = program()
    p.document.hold("faces", [0])
    p.front.answers = ["top"]
    p.do("socket")
    before = p.document.require_jacket().nodes.sockets[0]
    p.put(SourceValues, "factor", 2.0)
    p.do("scale-factor")
    after = p.document.require_jacket().nodes.sockets[0]
    assert after.place == pytest.approx(tuple(2 * v for v in before.place)) and after.towards == pytest.approx(before.towards)
    drop_socket(p.document, 2, "top")
    assert p.document.require_jacket().nodes.sockets == ()


def test_levels_of_detail_take_the_maps_of_the_finest(tmp_path: Path) -> None:
    p = program(JacketObject(3, "small", boxed(1, True)), JacketObject(4, "middle", boxed(2, True)))
    for layer in (3, 4):
        put_level(p.document, layer, 2)
    for layer, finest, said in ((2, 3, "coarser level itself"), (2, 2, "of itself"), (3, 4, "coarser level itself")):
        with pytest.raises(JacketError, match=said):
            put_level(p.document, layer, finest)
    state = p.document.state
    assert [j.name for j in state.baked_onto] == ["box"] and [j.name for j in state.levels(2)] == ["box", "middle", "small"]
    p.do("bake")
    deliver_to(p, tmp_path, "thing")
    assert set(trimesh.load(tmp_path / "thing.glb").geometry) == {"box_LOD0", "box_LOD1", "box_LOD2"}
    p.do("take-in")
    levels = [f.sentence for f in p.delivered.taken.findings if f.id == "level"]
    assert len(levels) == 2 and all("takes its maps" in s for s in levels)
    assert p.delivered.taken.error < 4.0
    # Hidden, the finest leaves its levels to themselves.
    hidden = p.document.state.with_(jackets=tuple(j if j.id != 2 else JacketObject(2, "box", j.mesh, visible=False) for j in p.document.state.jackets))
    assert set(hidden.going_names.values()) == {"small", "middle"}
    save_project(p.document.state, tmp_path / "a.jacket")
    assert [j.coarser_of for j in load_project(tmp_path / "a.jacket").jackets] == [-1, 2, 2]
