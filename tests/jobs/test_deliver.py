"""The jobs behind window and command line: settings that check themselves, what is told, what is refused."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from jacket.core.seams.cuts import cut_edges
from jacket.errors import FormatError, JacketError, MeshError
from jacket.jobs.deliver import DeliverLayer, DeliverSettings, deliver
from jacket.jobs.pack import pack, sheets_of
from jacket.jobs.ranges import one_of, within
from jacket.jobs.seams import SeamSettings
from jacket.jobs.unwrap import unwrap
from tests.conftest import cube, grid


def test_delivering_tells_of_every_layer(tmp_path: Path) -> None:
    sheets = sheets_of(256, margin=4)
    good = pack(unwrap(cut_edges(cube(), np.arange(12)), sheets=sheets).mesh, sheets).mesh
    told = deliver([DeliverLayer("good", good), DeliverLayer("bare", grid(2)), DeliverLayer("none", grid(1).with_())],
                   tmp_path, DeliverSettings(sheets=sheets, stem="x"))  # fmt: skip
    assert set(told.checks) == {"good", "bare", "none"} and any(name == "bare" for name, _ in told.wrong)
    report = json.loads((tmp_path / "x-report.json").read_text())
    assert not report["ready"] and set(report["layers"]) == set(told.checks)
    assert {p.name for p in told.paths} == {"x.obj", "x.mtl", "x.glb", "x-report.json", "x-layout.png", "x.html"}


def test_nothing_is_written_where_there_is_nothing(tmp_path: Path) -> None:
    with pytest.raises(MeshError, match="no faces to deliver"):
        deliver([], tmp_path / "out", DeliverSettings())
    with pytest.raises(FormatError, match="sideways"):
        deliver([DeliverLayer("a", grid(1))], tmp_path / "out", DeliverSettings(profile="sideways"))
    assert not (tmp_path / "out").exists()


def test_settings_say_what_they_take() -> None:
    assert within(3, 1, 5, "Strength") == 3 and one_of("a", ("a", "b"), "Kind") == "a"
    for bad in (lambda: within(9, 1, 5, "strength"), lambda: within(float("nan"), 1, 5, "strength"),
                lambda: one_of("c", ("a", "b"), "kind"), lambda: sheets_of(5), lambda: sheets_of(512, count=0)):  # fmt: skip
        with pytest.raises(JacketError) as caught:
            bad()
        assert str(caught.value).endswith(".") and "choose" in str(caught.value).lower()


@pytest.mark.parametrize("bad", [{"how": "nonsense"}, {"angle": 181.0}, {"angle": float("nan")}])
def test_seam_settings_check_themselves(bad: dict[str, object]) -> None:
    with pytest.raises(JacketError, match="choose"):
        SeamSettings(**bad).checked()  # type: ignore[arg-type]
