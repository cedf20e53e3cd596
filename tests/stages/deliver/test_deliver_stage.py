"""Commands and tools of the Deliver stage, without a window."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pygltflib
import pytest

from jacket.core.bake.cage import REACH, STRAIGHT
from jacket.core.bake.failing import failing_faces
from jacket.core.mesh.shading import HARD
from jacket.core.uv.sheets import Sheet
from jacket.document.islands import with_island_numbers
from jacket.document.state import JacketObject, SourceObject, State
from jacket.errors import JacketError
from jacket.formats.deliver.profiles import FILES, parsed, profile_named, toml_of
from jacket.formats.project.records import load_project, save_project
from jacket.settings.store import profile_dir, state_dir
from jacket.stages.deliver.baking import is_stale
from jacket.stages.deliver.commands import deliver_to, last_delivery
from jacket.stages.deliver.remembering import LastDelivery, recall, remember
from jacket.stages.deliver.tools.hull import Hull
from jacket.stages.deliver.tools.look import Look
from jacket.stages.deliver.tools.probe import Probe
from jacket.stages.deliver.values import DeliverValues
from jacket.tools.events import Pointer
from jacket.tools.view import FlatCamera, FormCamera
from tests.core.bake.forms import ball, boxed
from tests.host import Headless


def program(**values: object) -> Headless:
    state = State((SourceObject(1, "dense", ball(24)),), (JacketObject(2, "box", boxed(4, True)),), active=2, next_id=3,
                  sheets=(Sheet(width=128, height=128, margin=2.0),))  # fmt: skip
    return Headless(with_island_numbers(State(), state), **{"rays": 8, "samples": 1, **values})


def test_maps_are_baked_kept_and_told_stale() -> None:
    p = program()
    assert not p.commands["bake"].available(State()) and p.baked is None
    p.do("bake")
    assert p.baked is not None and list(p.baked.sheets[0].maps) == ["normal", "occlusion"] and p.display.lit
    assert ("watch_baking", False) in p.front.calls
    first = p.baked.of("normal")
    values = p.values(DeliverValues)
    assert not is_stale(p.baked, p.document.state, values)
    # A map more is baked by itself; what was there stays to the bit, and is the same object.
    p.put(DeliverValues, "maps", values.with_map("height", True))
    p.do("bake")
    assert p.baked.of("normal") is first and p.baked.of("height") is not None
    p.do("bake")
    assert p.baked.of("normal") is first
    p.document.hold("faces", [0, 1])
    p.do("cage-further")
    assert is_stale(p.baked, p.document.state, values)
    p.document.undo()
    assert not is_stale(p.baked, p.document.state, values)
    p.put(DeliverValues, "ground", True)
    assert is_stale(p.baked, p.document.state, values)


def test_another_project_drops_the_maps() -> None:
    p = program()
    p.do("bake")
    task_state = p.document.state
    p.at_once.meanwhile = lambda: p.document.apply("other", task_state.with_(sources=(), jackets=(), active=-1))
    p.do("hard-by-angle")
    p.put(DeliverValues, "maps", "normal,height")
    p.commands["bake"].run(p)
    assert p.baked is None and "dropped" in p.said[-1]


def test_a_delivery_goes_out_with_its_maps_and_comes_back(tmp_path: Path) -> None:
    p = program()
    with pytest.raises(JacketError, match="Nothing was delivered"):
        p.do("deliver-again")
    with pytest.raises(JacketError, match="take it in"):
        p.do("take-in")
    p.do("bake")
    deliver_to(p, tmp_path, "thing")
    assert p.delivered is not None and (tmp_path / "thing-normal.png").is_file() and "Delivered box" in p.said[-1]
    assert pygltflib.GLTF2().load(str(tmp_path / "thing.glb")).materials[0].normalTexture is not None
    p.do("take-in")
    assert p.delivered.taken.error < 3 and "Taken in" in p.said[-1]
    (tmp_path / "thing.mtl").write_text("theirs")
    p.do("deliver-again")
    assert "Deliver and replace" in p.said[-1] and (tmp_path / "thing.mtl").read_text() == "theirs"
    p.do("deliver-over")
    assert (tmp_path / "thing.mtl").read_text() != "theirs" and "Delivered" in p.said[-1]
    # Maps of an older jacket stay here, and that is said.
    p.do("hard-by-angle")
    p.set(hard_angle=10.0)
    p.do("hard-by-angle")
    deliver_to(p, tmp_path, "thing")
    assert "older than the jacket" in p.said[-1]
    # That delivery had none; one that had maps gets them made anew.
    p.do("bake")
    deliver_to(p, tmp_path, "thing")
    p.set(hard_angle=50.0)
    p.do("hard-by-angle", "deliver-again")
    assert "older than the jacket" not in p.said[-1] and (tmp_path / "thing-normal.png").is_file()


def test_hard_edges_by_angle_along_islands_and_where_held() -> None:
    p = program(hard_angle=10.0)
    mesh = p.document.require_jacket().mesh
    by_angle = len(p.do("hard-by-angle").mark(HARD))
    assert 0 < by_angle <= mesh.topology.n_edges
    along = p.do("hard-along-islands")
    flags = along.topology.edge_flags(along.mark(HARD))
    assert flags.sum() == 12 * 4  # the twelve edges of the box, four quads each
    with pytest.raises(JacketError, match="Hold the edges"):
        p.document.hold("points", [0])
        p.commands["hard-held"].run(p)
    p.document.hold("edges", np.flatnonzero(flags)[:5])
    assert len(p.do("soft-held").mark(HARD)) == 48 - 5
    assert len(p.do("hard-held").mark(HARD)) == 48
    assert not p.commands["all-soft"].available(State()) and len(p.do("all-soft").mark(HARD)) == 0
    p.document.undo()
    assert len(p.document.require_jacket().mesh.mark(HARD)) == 48


def test_the_cage_is_painted_where_something_is_held() -> None:
    """A cage too short misses; further where held, only the rest misses still; the failing faces are held on wish."""
    p = program(cage=0.3)
    p.do("bake")
    missed, behind = failing_faces(p.document.require_jacket().mesh, p.baked)
    assert len(missed) > 10 and len(behind) == 0 and "met no source" in p.said[-1]
    p.do("hold-missed")
    assert np.array_equal(p.document.state.held.of("faces"), missed) and ("frame", False) in p.front.calls
    for _ in range(20):
        p.do("cage-further")
    assert p.document.require_jacket().mesh.point_data[REACH].max() == 20.0
    p.do("bake")
    assert len(failing_faces(p.document.require_jacket().mesh, p.baked)[0]) == 0
    p.do("hold-missed")
    assert "nothing failed" in p.said[-1]
    assert p.do("rays-straight").point_data[STRAIGHT].max() == 1.0
    assert p.do("rays-averaged").point_data[STRAIGHT].max() == 0.0
    assert REACH not in p.do("plain-cage").point_data


def test_hull_paints_the_cage_under_the_brush() -> None:
    """Further, nearer with Ctrl, straight; points out of the brush stay, and a stroke is one step."""
    p = program()
    hull = p.tools["hull"]
    assert isinstance(hull, Hull)
    camera = FormCamera(np.zeros(3), 5.0, width=400, height=300)
    hull.settings.brush = 40.0

    def stroke(**keys: bool) -> np.ndarray:
        hull.hover(Pointer(200, 150, form=camera, **keys))
        hull.press(Pointer(200, 150, form=camera, **keys))
        hull.move(Pointer(204, 150, form=camera, **keys))
        hull.release(Pointer(204, 150, form=camera, **keys))
        mesh = p.document.require_jacket().mesh
        return mesh.point_data.get(REACH, np.ones(mesh.n_points))

    further = stroke()
    assert further.max() > 1.05 and (further == 1.0).sum() > 0.7 * len(further) and "reach" in hull.ghost.what
    nearer = stroke(ctrl=True)
    assert nearer.max() < further.max() and nearer.max() == pytest.approx(1.0)
    hull.set_option("paints", "straight")
    stroke()
    assert 0.2 < p.document.require_jacket().mesh.point_data[STRAIGHT].max() <= 1.0
    p.document.undo()
    assert STRAIGHT not in p.document.require_jacket().mesh.point_data
    p.document.undo()
    p.document.undo()
    assert REACH not in p.document.require_jacket().mesh.point_data


def test_look_turns_the_light_and_moves_the_wipe() -> None:
    p = program()
    look = p.tools["look"]
    assert isinstance(look, Look)
    camera = FormCamera(np.zeros(3), 5.0, width=400, height=300)
    look.press(Pointer(100, 100, form=camera))
    look.move(Pointer(140, 100, form=camera))
    assert look.busy and p.tool_settings.lamp_turn == pytest.approx(20.0)
    look.release(Pointer(140, 100, form=camera))
    p.do("wipe")
    assert p.tool_settings.wipe == 0.5 and p.display.lit
    look.hover(Pointer(202, 50, form=camera))
    assert "Wipe" in look.ghost.what
    look.press(Pointer(202, 50, form=camera))
    look.move(Pointer(100, 50, form=camera))
    look.release(Pointer(100, 50, form=camera))
    assert p.tool_settings.wipe == pytest.approx(0.25) and not look.busy
    assert look.ctrl_wheel(1.0, Pointer(0, 0, form=camera)) and p.tool_settings.wipe > 0.25
    lamps = p.display.lamps
    p.do("next-lamps")
    assert p.display.lamps != lamps


def test_probe_reads_all_maps_in_both_views() -> None:
    """In the middle of a side of the round box the height is that of the ball over it, in millimetres."""
    p = program(maps="normal,height,position,id-part,curvature")
    probe = p.tools["probe"]
    assert isinstance(probe, Probe)
    camera = FormCamera(np.zeros(3), 5.0, width=400, height=300)
    probe.hover(Pointer(200, 150, form=camera))
    assert "Nothing is baked" in probe.ghost.what
    p.do("bake")
    probe.hover(Pointer(200, 150, form=camera))
    text = f"{probe.ghost.what} · {probe.ghost.how}"
    assert "normal" in text and "height" in text and "part dense" in text and "at " in text
    flat = FlatCamera(np.array([0.5, 0.5]), 300.0, width=400, height=300)
    probe.hover(Pointer(*flat.project(np.array([[0.165, 0.19]]))[0], flat=flat))
    assert "normal" in probe.ghost.what and probe.ghost.view == "flat"
    probe.press(Pointer(200, 150, form=camera))
    kept = probe.ghost
    probe.hover(Pointer(5, 5, form=camera))
    probe.leave()
    assert probe.ghost is kept and probe.cancel()


def test_a_layer_marked_dense_is_baked_from_and_stays_here(tmp_path: Path) -> None:
    """Without any source, from a dense layer; it is no target, is not delivered, and the project keeps the mark."""
    dense, light = JacketObject(1, "sculpt", ball(16)), JacketObject(2, "box", boxed(4, True))
    p = Headless(with_island_numbers(State(), State((), (dense, light), active=1, next_id=3, sheets=(Sheet(width=64, height=64, margin=1.0),))),
                 rays=4, samples=1)  # fmt: skip
    assert not p.commands["bake"].available(p.document.state)
    p.do("dense-layer")
    p.document.amend(p.document.state.with_(active=2))
    p.do("bake")
    assert p.baked is not None and p.baked.sheets[0].missed == 0 and list(p.baked.reach) == ["box"]
    deliver_to(p, tmp_path / "out", "thing")
    assert "Delivered box as" in p.said[-1] and len(pygltflib.GLTF2().load(str(tmp_path / "out" / "thing.glb")).nodes) == 1
    save_project(p.document.state, tmp_path / "a.jacket")
    assert [j.dense for j in load_project(tmp_path / "a.jacket").jackets] == [True, False]
    p.put(DeliverValues, "left_out", "sculpt")
    p.commands["bake"].run(p)
    assert "no source to bake from" in p.said[-1]


def test_a_profile_of_ones_own_is_made_read_and_refused_where_it_makes_no_sense(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("JACKET_HOME", str(tmp_path))
    p = program()
    p.front.answers = ["Our Engine", "Our Engine", None]
    p.do("own-profile")
    assert p.values(DeliverValues).profile == "our_engine" and "our_engine.toml" in p.said[-1]
    path = profile_dir() / "our_engine.toml"
    with pytest.raises(JacketError, match="already"):
        p.do("own-profile")
    path.write_text(path.read_text().replace("scale = 1.0", "scale = 10.0").replace('files = ["obj", "glb"', 'files = ["obj", "stl", "ply", "glb"'))
    deliver_to(p, tmp_path / "out", "thing")
    assert (tmp_path / "out" / "thing.stl").is_file() and (tmp_path / "out" / "thing.ply").is_file()
    rows = [r.split() for r in (tmp_path / "out" / "thing.obj").read_text().splitlines()]
    assert max(float(r[1]) for r in rows if r and r[0] == "v") == pytest.approx(10.0)
    for words, says in (("scale = 10.0", "scale = 0"), ('up = "y"', 'up = "x"'), ('green = "up"', "grean = 1"), ("bits = 8", "bits = 9")):
        path.write_text(path.read_text().replace(words, says, 1))
        with pytest.raises(JacketError, match=r"our_engine\.toml"):
            profile_named("our_engine", profile_dir())
        path.write_text(path.read_text().replace(says, words, 1))
    assert parsed(toml_of(profile_named("our_engine", profile_dir())), "x") == profile_named("our_engine", profile_dir())
    assert set(profile_named("our_engine", profile_dir()).files) <= set(FILES)


def test_loops_support_held_edges_and_fold_nothing() -> None:
    from jacket.core.mesh.geometry import dihedral_angles, scaled_jacobian
    from tests.conftest import cube

    state = State((SourceObject(1, "dense", ball(12, 0.9)),), (JacketObject(2, "cube", cube()),), active=2, next_id=3)
    p = Headless(with_island_numbers(State(), state))
    with pytest.raises(JacketError, match="Hold the edges"):
        p.commands["support-held"].run(p)
    mesh = p.document.require_jacket().mesh
    p.document.hold("edges", np.flatnonzero(dihedral_angles(mesh) > 80))
    new = p.do("support-held")
    assert new.n_faces == 54 and "6 loops came in, 48 quads more" in p.said[-1]
    assert (scaled_jacobian(new) > 0).all()
    p.document.undo()
    assert p.document.require_jacket().mesh.n_faces == 6


def test_another_window_delivers_again_as_last_time_baking_what_is_needed(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("JACKET_HOME", str(tmp_path / "home"))
    p = program()
    path = str(tmp_path / "a.jacket")
    p.document.mark_saved(path)
    p.do("bake")
    (tmp_path / "out").mkdir()
    deliver_to(p, tmp_path / "out", "thing")
    first = {f.name: f.read_bytes() for f in (tmp_path / "out").iterdir()}
    assert "thing-normal.png" in first
    # The window closes and another opens the project: nothing is baked there yet.
    later = program()
    assert last_delivery(later) is None
    later.document.mark_saved(path)
    later.do("deliver-again")
    assert later.baked is not None and "Delivered box" in later.said[-1]
    again = {f.name: f.read_bytes() for f in (tmp_path / "out").iterdir()}
    assert set(again) == set(first) and all(again[n] == first[n] for n in first if not n.endswith((".json", ".html")))
    later.do("take-in")
    assert later.delivered.taken is not None
    # A folder that is gone, or notes that are damaged, are as if nothing had been delivered.
    (state_dir() / "deliveries.json").write_text("[1")
    other = program()
    other.document.mark_saved(path)
    with pytest.raises(JacketError, match="Nothing was delivered"):
        other.do("deliver-again")
    remember(path, LastDelivery(tmp_path / "gone", "thing"))
    assert recall(path) is None


def test_nothing_of_another_project_goes_where_this_one_went(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("JACKET_HOME", str(tmp_path / "home"))
    p = program()
    p.do("bake")
    deliver_to(p, tmp_path, "thing")
    before = (tmp_path / "thing.obj").read_bytes()
    other = p.document.state.with_(sources=(), jackets=(JacketObject(2, "other", boxed(2, True)),))
    p.do("hard-by-angle")
    p.set(hard_angle=10.0)
    p.do("hard-by-angle")
    p.at_once.meanwhile = lambda: p.document.apply("other", other)
    p.do("deliver-again")
    assert "dropped" in p.said[-1] and (tmp_path / "thing.obj").read_bytes() == before
