"""Settings that are kept and forgiven."""

from __future__ import annotations

import dataclasses
import json
from pathlib import Path

import pytest

from jacket.commands.values import Values
from jacket.settings import Settings, load_settings, save_settings
from jacket.settings.store import config_dir, from_dict
from jacket.stages.all import STAGES


def test_settings_keep_what_differs_and_forgive(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("JACKET_HOME", str(tmp_path))
    settings = Settings(autosave_seconds=77)
    settings.remember("/a.jacket")
    save_settings(settings)
    assert json.loads((config_dir() / "settings.json").read_text()) == {
        "version": 1,
        "autosave_seconds": 77,
        "recent": ["/a.jacket"],
    }
    assert load_settings() == settings
    assert from_dict({"brush": "many", "reach": 4, "unknown": 1, "splitters": {"x": [1]}, "strength": 7.0}) == Settings(
        reach=4.0
    )
    (config_dir() / "settings.json").write_text("{broken")
    again = load_settings()
    assert again == Settings() and again.passed_over == ["all of them"]
    # What cannot be read is kept aside, and is told once.
    assert (config_dir() / "settings.unreadable").read_text() == "{broken" and load_settings().passed_over == []


WILD = (None, True, -1, 10**30, 1e308, float("nan"), float("inf"), "", "x" * 500, [], {}, [[]], {"a": {}}, {"a": [1, 2]}, ["/x"])


def test_each_wild_value_falls_back_alone_and_the_window_can_start() -> None:
    """Every setting and every value of every stage with every kind of nonsense, one at a time, beside one that is sound."""
    for name in (f.name for f in dataclasses.fields(Settings)):
        for wild in WILD:
            found = from_dict({name: wild, "reach": 4.0, "night": True} if name != "reach" else {name: wild, "night": True})
            assert found.night in (True, wild) and found.passed_over in ([], [name.replace("_", " ")])
    for spec in STAGES:
        kind = spec.values
        for field in dataclasses.fields(kind):
            for wild in WILD:
                values = Values(s.values() for s in STAGES)
                values.take({kind.__name__: {field.name: wild}})
                now, usual = getattr(values.of(kind), field.name), getattr(kind(), field.name)
                assert type(now) is type(usual)
                limits = field.metadata
                assert "low" not in limits or limits["low"] <= now <= limits["high"]
                assert "allowed" not in limits or now in limits["allowed"]
                assert (now == usual) or values.passed_over == []
                # Every number has its range and every word its choice, so that no wild one gets further.
                assert isinstance(usual, bool) or limits, f"{kind.__name__}.{field.name}"
