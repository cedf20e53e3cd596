"""Project files: what comes back, what is refused, older versions."""

from __future__ import annotations

import io
import json
import zipfile
from pathlib import Path

import numpy as np
import pytest

from jacket.core.fit.lifted import lifted_points
from jacket.core.flatten.stretch import face_stretch
from jacket.core.mesh.materials import Material
from jacket.core.mesh.named import choice_names
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.seams.cuts import cut_edges
from jacket.core.uv.identity import island_numbers
from jacket.core.uv.islands import Islands
from jacket.core.uv.sheets import Sheet
from jacket.document.document import Document
from jacket.document.edits import uvs
from jacket.document.state import JacketObject, SourceObject, State, Trial
from jacket.errors import FormatError
from jacket.formats.project.records import load_project, project_bytes, project_pieces, save_project
from jacket.jobs.pack import sheets_of
from jacket.jobs.unwrap import unwrap as unwrap_job
from tests.conftest import DATA, cube, grid, icosphere


def test_projects_come_back_as_they_were(tmp_path: Path, packed: PolyMesh) -> None:
    state = State(
        sources=(SourceObject(1, "a sculpt", icosphere(1), "/x/y.ply", False),), jackets=(JacketObject(2, "shell", packed),),
        trials=(Trial(3, "Trial 1", grid(2), {"quads": 4}, {"gap": 0.5}),), active=2, mirror="x", sheets=sheets_of(2048, 1024, 4.5, 2), next_id=4,
    )  # fmt: skip
    save_project(state, tmp_path / "p.jacket")
    back = load_project(tmp_path / "p.jacket")
    assert (back.active, back.mirror, back.sheets, back.next_id) == (2, "x", state.sheets, 4)
    assert (
        back.sources[0].name == "a sculpt" and not back.sources[0].visible and back.trials[0].settings == {"quads": 4}
    )
    for a, b in ((back.jackets[0].mesh, packed), (back.trials[0].mesh, grid(2)), (back.sources[0].mesh, icosphere(1))):
        assert np.array_equal(a.points, b.points) and np.array_equal(a.corners, b.corners)
    assert np.array_equal(back.jackets[0].mesh.uv, packed.uv)
    assert np.array_equal(back.jackets[0].mesh.cuts, packed.cuts)


def test_newer_and_broken_projects_are_refused(tmp_path: Path) -> None:
    data = project_bytes(State(jackets=(JacketObject(1, "j", grid(2)),), active=1))
    source = zipfile.ZipFile(io.BytesIO(data))
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for info in source.infolist():
            body = source.read(info)
            if info.filename == "manifest.json":
                body = body.replace(b'"version": 3', b'"version": 99')
            archive.writestr(info.filename, body)
    (tmp_path / "new.jacket").write_bytes(out.getvalue())
    with pytest.raises(FormatError, match="newer Jacket"):
        load_project(tmp_path / "new.jacket")
    for k in range(0, len(data), max(len(data) // 40, 1)):
        (tmp_path / "cut.jacket").write_bytes(data[:k])
        with pytest.raises(FormatError):
            load_project(tmp_path / "cut.jacket")


def test_a_project_of_the_format_before_opens_with_everything() -> None:
    """Kept from the version that wrote it; see tests/data/README.md."""
    state = load_project(DATA / "format-2.jacket")
    assert state.sheets == (Sheet("Sheet", 1001, 512, 512, 6.0),) and state.mirror == "x" and state.active == 2
    box, plain = state.jackets
    assert box.mesh.n_faces == 96 and box.mesh.uv_sets == ("uv",) and len(box.mesh.cuts) == 48
    # A box of unit sides cut along its edges: six islands that open without stretch.
    ends = box.mesh.points[box.mesh.cuts]
    assert (((ends == 0) | (ends == 1)).all(axis=1).sum(axis=1) >= 2).all()
    assert (
        Islands.of(box.mesh, state.sheets).count == 6 and np.abs(face_stretch(box.mesh, box.mesh.uv * 512)).max() < 1e-6
    )
    assert sorted(r.name for r in box.islands) == ["Back", "Bottom", "Front", "Left", "Right", "Top"]
    assert {r.id for r in box.islands} == set(island_numbers(box.mesh).tolist()) == set(range(1, 7))
    assert choice_names(box.mesh) and lifted_points(box.mesh).any()
    assert plain.locked and not plain.visible and plain.mesh.uv is None
    assert state.trials[0].settings == {"quads": 4} and state.guides[0].hard and state.guides[0].smooth
    assert state.paint is not None and len(state.paint.values) > 0
    ball = state.sources[0]
    assert ball.locked and ball.mesh.materials[0].name == "clay" and ball.mesh.point_data["colour"].shape == (162, 4)


def test_sets_islands_and_sheets_come_back(tmp_path: Path) -> None:
    sheets = (Sheet("Body", 1001, 1024, 512, 6.0), Sheet("Trim", 1012, 256, 256, 2.0))
    document = Document(
        State((), (JacketObject(1, "j", cut_edges(cube(), np.arange(12))),), active=1, next_id=2, sheets=sheets)
    )
    document.edit_jacket("flatten", unwrap_job(document.require_jacket().mesh).mesh)
    uvs.copy_set(document, "light map")
    mesh = document.require_jacket().mesh
    document.edit_jacket(
        "pin", mesh.with_(corner_data={**mesh.corner_data, "pin:light map": np.linspace(0, 1, 24).astype(np.float32)})
    )
    save_project(document.state, tmp_path / "a.jacket")
    back, now = load_project(tmp_path / "a.jacket"), document.require_jacket()
    assert back.sheets == sheets and back.jacket.islands == now.islands and len(now.islands) == 12
    assert back.jacket.mesh.uv_sets == ("uv", "light map") and back.jacket.mesh.active_uv == "light map"
    for table in ("corner_data", "face_data", "marks"):
        mine, theirs = getattr(now.mesh, table), getattr(back.jacket.mesh, table)
        assert mine.keys() == theirs.keys() and all(np.array_equal(mine[k], theirs[k], equal_nan=True) for k in mine)


def test_the_same_work_gives_the_same_bytes_and_unchanged_meshes_are_not_packed_again() -> None:
    state = State(jackets=(JacketObject(1, "j", icosphere(3)),), active=1, next_id=2)
    first = project_pieces(state)
    again = project_pieces(state.with_(mirror="x"))
    assert b"".join(first) == project_bytes(state)
    # The packed arrays themselves are the ones from before, not equal copies.
    assert {id(p) for p in first if len(p) > 1000} <= {id(p) for p in again}


def test_the_container_is_a_zip_as_published(tmp_path: Path) -> None:
    """Written by our own hands after PKWARE's APPNOTE 6.3.10; the standard library and NumPy read it back."""
    data = project_bytes(State(jackets=(JacketObject(1, "ä", grid(3)),), active=1, next_id=2))
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        assert archive.testzip() is None
        assert json.loads(archive.read("manifest.json"))["jackets"][0]["name"] == "ä"
        points = np.load(io.BytesIO(archive.read("mesh0/points.npy")), allow_pickle=False)
        assert np.array_equal(points, grid(3).points)
        assert all(i.compress_type == zipfile.ZIP_DEFLATED for i in archive.infolist())


def forged(change) -> bytes:  # type: ignore[no-untyped-def]
    """A good project with members changed: `change(name, bytes)` gives the new bytes."""
    out = io.BytesIO()
    data = io.BytesIO(project_bytes(State(jackets=(JacketObject(1, "j", grid(2)),), active=1)))
    with zipfile.ZipFile(data) as good, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as bad:
        for info in good.infolist():
            bad.writestr(info.filename, change(info.filename, good.read(info)))
    return out.getvalue()


def _npy(array: np.ndarray) -> bytes:
    out = io.BytesIO()
    np.save(out, array)
    return out.getvalue()


@pytest.mark.parametrize(
    "change",
    [
        lambda n, b: _npy(np.zeros((4_000_000, 3))) if n.endswith("points.npy") else b,  # unpacks to far more than it is
        lambda n, b: b[:-8] if n.endswith("corners.npy") else b,  # shorter than its header says
        lambda n, b: b + bytes(1 << 23) if n.endswith("corners.npy") else b,  # far longer than its header says
        lambda n, b: _npy(np.array([object()], dtype=object)) if n.endswith("starts.npy") else b,  # objects, that is code
        lambda n, b: _npy(np.array([0, 99, 2, 3] * 4)) if n.endswith("corners.npy") else b,  # points that are not there
        lambda n, b: b.replace(b'"mesh": 0', b'"mesh": 7') if n == "manifest.json" else b,
        lambda n, b: b.replace(b'"width": 1024', b'"width": 9999999') if n == "manifest.json" else b,
        lambda n, b: b.replace(b'"sheets"', b'"shoots"') if n == "manifest.json" else b,
    ],
)  # fmt: skip
def test_forged_projects_are_refused_in_one_sentence(change, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    (tmp_path / "x.jacket").write_bytes(forged(change))
    with pytest.raises(FormatError) as caught:
        load_project(tmp_path / "x.jacket")
    assert "x.jacket" in str(caught.value) and str(caught.value).count(". ") == 0


def test_words_where_numbers_belong_are_refused(tmp_path: Path) -> None:
    rows = cut_edges(cube(), np.arange(12)).with_uv(np.zeros((24, 2)))
    state = State(jackets=(JacketObject(1, "j", rows),), active=1, next_id=2)
    out = io.BytesIO()
    with (
        zipfile.ZipFile(io.BytesIO(project_bytes(state))) as good,
        zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as bad,
    ):
        for info in good.infolist():
            bad.writestr(info.filename, good.read(info))
        bad.writestr("mesh0/corner.pin:uv.npy", _npy(np.array(["x"] * 24)))
    (tmp_path / "x.jacket").write_bytes(out.getvalue())
    with pytest.raises(FormatError, match=r"x\.jacket"):  # words where numbers belong: nothing here can be trusted
        load_project(tmp_path / "x.jacket")


def test_a_label_one_past_its_table_is_left_out(tmp_path: Path) -> None:
    mesh = grid(2).with_(face_data={"material": np.array([0, 0, 0, 1], np.int32)}, materials=(Material("a"), Material("b")))
    save_project(State(jackets=(JacketObject(1, "j", mesh),), active=1, next_id=2), tmp_path / "a.jacket")
    assert load_project(tmp_path / "a.jacket").jackets[0].mesh.face_data["material"].tolist() == [0, 0, 0, 1]
    out = io.BytesIO()
    with zipfile.ZipFile(tmp_path / "a.jacket") as good, zipfile.ZipFile(out, "w") as bad:
        for name in good.namelist():
            data = good.read(name)
            if name.endswith("tables.json"):
                tables = json.loads(data)
                data = json.dumps({**tables, "materials": tables["materials"][:1]}).encode()
            bad.writestr(name, data)
    (tmp_path / "b.jacket").write_bytes(out.getvalue())
    assert "material" not in load_project(tmp_path / "b.jacket").jackets[0].mesh.face_data
