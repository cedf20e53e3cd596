"""Baked maps in a project file: the same back, true or stale as they were, and refused where they are damaged."""

from __future__ import annotations

import io
import json
import zipfile
from pathlib import Path

import numpy as np
import pytest

from jacket.errors import FormatError
from jacket.formats.project.container import Reader
from jacket.formats.project.maps import load_maps
from jacket.formats.project.records import load_project, save_project
from jacket.stages.deliver.baking import is_stale
from jacket.stages.deliver.keeping import maps_in, maps_to_keep
from jacket.stages.deliver.values import DeliverValues
from tests.host import Headless
from tests.stages.deliver.test_deliver_stage import program


def baked() -> Headless:
    p = program(maps="normal,occlusion,height,id-part", cage=7.0, pairs="box=dense")
    p.do("bake")
    return p


def test_maps_come_back_to_the_bit_and_true(tmp_path: Path) -> None:
    p = baked()
    path = tmp_path / "a.jacket"
    save_project(p.document.state, path, maps_to_keep(p))
    state = load_project(path)
    made, sentence = maps_in(path, state)
    assert made is not None and p.baked is not None and not sentence
    for kind, known in p.baked.sheets[0].maps.items():
        again = made.sheets[0].maps[kind]
        assert np.array_equal(again.pixels, known.pixels) and again.pixels.dtype == known.pixels.dtype
        assert (again.low, again.high, again.legend) == (known.low, known.high, known.legend)
    assert np.array_equal(made.sheets[0].state, p.baked.sheets[0].state) and dict(made.reach) == dict(p.baked.reach)
    assert not is_stale(made, state, p.values(DeliverValues))
    # Baking again in the new window makes nothing anew.
    q = Headless(state, **{k: getattr(p.values(DeliverValues), k) for k in ("maps", "rays", "samples", "cage", "pairs")})
    q.keep_baked(made)
    q.do("bake")
    assert q.baked is not None and q.baked.of("normal") is made.of("normal")


def test_stale_maps_stay_stale_and_none_are_kept_unless_wished(tmp_path: Path) -> None:
    p = baked()
    p.document.hold("faces", [0])
    p.do("cage-further")
    path = tmp_path / "a.jacket"
    save_project(p.document.state, path, maps_to_keep(p))
    state = load_project(path)
    made, _ = maps_in(path, state)
    assert made is not None and is_stale(made, state, p.values(DeliverValues))
    p.put(DeliverValues, "keep_maps", False)
    assert maps_to_keep(p) is None
    save_project(p.document.state, path, None)
    assert maps_in(path, state) == (None, "")


def test_damaged_maps_are_a_sentence_and_the_work_is_read_all_the_same(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    p = baked()
    path = tmp_path / "a.jacket"
    save_project(p.document.state, path, maps_to_keep(p))
    whole = {n: zipfile.ZipFile(path).read(n) for n in zipfile.ZipFile(path).namelist()}
    table = json.loads(whole["maps/table.json"])

    def spoilt(name: str, data: bytes) -> Path:
        out = tmp_path / "b.jacket"
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
            for n, d in {**whole, name: data}.items():
                archive.writestr(n, d)
        return out

    def array(values: np.ndarray) -> bytes:
        stream = io.BytesIO()
        np.save(stream, values)
        return stream.getvalue()

    table["sheets"][0]["maps"]["nonsense"] = {"low": 0, "high": 1, "legend": []}
    bomb = array(np.zeros((8192, 8192, 3), np.uint16))
    for name, data in (("maps/table.json", b"{"), ("maps/table.json", json.dumps(table).encode()), ("maps/0.normal.npy", bomb),
                       ("maps/0.normal.npy", array(np.zeros((4, 4, 3), np.uint16))), ("maps/0.height.npy", array(np.full((128, 128, 1), np.nan, np.float32)))):  # fmt: skip
        out = spoilt(name, data)
        with pytest.raises(FormatError, match=r"maps in b\.jacket cannot be read; bake them again"):
            load_maps(out)
        made, sentence = maps_in(out, load_project(out))
        assert made is None and "bake them again" in sentence
    # What would unpack to far more than it was packed to is not unpacked at all.
    out, real = spoilt("maps/0.normal.npy", bomb), Reader.array

    def unpacked(reader: Reader, member: str, rows: int | None = None) -> np.ndarray:
        assert member != "maps/0.normal.npy"
        return real(reader, member, rows)

    monkeypatch.setattr(Reader, "array", unpacked)
    with pytest.raises(FormatError):
        load_maps(out)
