"""Settings that are kept and forgiven."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from jacket.settings import Settings, load_settings, save_settings
from jacket.settings.store import config_dir, from_dict


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
    assert load_settings() == Settings()
