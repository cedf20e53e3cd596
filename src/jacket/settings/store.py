"""Settings as a dataclass over a small JSON file in the platform's folder."""

from __future__ import annotations

import contextlib
import dataclasses
import json
import os
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import platformdirs

VERSION = 1


@dataclass
class Settings:
    """Everything a user can set. Unknown or ill-typed values in the file are passed over."""

    version: int = VERSION
    reach: float = 9.0
    brush: float = 60.0
    strength: float = 0.5
    night: bool = False
    autosave_seconds: int = 50
    recent: list[str] = field(default_factory=list)
    splitters: dict[str, list[int]] = field(default_factory=dict)
    folded: list[str] = field(default_factory=list)
    values: dict[str, dict[str, object]] = field(default_factory=dict)
    """What stages are set to where that differs from the usual (commands/values.py)."""
    passed_over: list[str] = field(default_factory=list, compare=False)
    """What of the file made no sense and is as usual, to be told once; never written."""

    def remember(self, path: str, most: int = 10) -> None:
        """Put a file at the head of the recent ones."""
        self.recent = [path, *[p for p in self.recent if p != path]][:most]


def config_dir() -> Path:
    """Where settings live; JACKET_HOME overrides it and all other folders."""
    home = os.environ.get("JACKET_HOME")
    return Path(home) / "config" if home else Path(platformdirs.user_config_dir("jacket"))


def profile_dir() -> Path:
    """Where own profiles of receivers lie."""
    return config_dir() / "profiles"


def state_dir() -> Path:
    """Where autosaves and logs live."""
    home = os.environ.get("JACKET_HOME")
    return Path(home) / "state" if home else Path(platformdirs.user_state_dir("jacket"))


def load_settings() -> Settings:
    """Settings from disk; the defaults when there is no file or it cannot be understood."""
    file = config_dir() / "settings.json"
    try:
        data = json.loads(file.read_text())
    except FileNotFoundError:
        return Settings()
    except (OSError, ValueError, RecursionError):
        data = None
    if isinstance(data, dict):
        return from_dict(data)
    # Somebody may have set much in it: it is kept aside, since the next save would write over it.
    with contextlib.suppress(OSError):
        file.replace(file.with_suffix(".unreadable"))
    return Settings(passed_over=["all of them"])


def from_dict(data: dict[str, Any]) -> Settings:
    """Settings from plain values, each only where its kind and range fit."""
    out = Settings()
    for entry in dataclasses.fields(Settings):
        if entry.name in data and entry.name not in ("version", "passed_over"):
            default, value = getattr(out, entry.name), data[entry.name]
            if isinstance(default, float) and isinstance(value, int) and not isinstance(value, bool):
                value = float(value)
            if type(value) is type(default) and _FITS.get(entry.name, _any)(value):
                setattr(out, entry.name, value)
            else:
                out.passed_over.append(entry.name.replace("_", " "))
    return out


def _any(value: Any) -> bool:
    return True


def _names(value: Any) -> bool:
    return all(isinstance(v, str) for v in value)


def _sizes(value: Any) -> bool:
    return all(isinstance(k, str) and isinstance(v, list) and len(v) == 2
               and all(isinstance(n, int) and not isinstance(n, bool) and 0 <= n < 100_000 for n in v)
               for k, v in value.items())  # fmt: skip


def _tables(value: Any) -> bool:
    return all(isinstance(k, str) and isinstance(v, dict) for k, v in value.items())


def _between(low: float, high: float) -> Any:
    return lambda value: low <= value <= high


_FITS = {
    "reach": _between(1, 100), "brush": _between(1, 2000), "strength": _between(0, 1),
    "autosave_seconds": _between(1, 86_400), "recent": _names, "folded": _names, "splitters": _sizes, "values": _tables,
}  # fmt: skip
"""What a value has to be beside its kind, so that a file with wild ones never stops the start."""


def save_settings(settings: Settings) -> None:
    """Write only what differs from the defaults; a full disk or a read-only home is no disaster."""
    default = Settings()
    data = {k: v for k, v in dataclasses.asdict(settings).items() if v != getattr(default, k) or k == "version"}
    data.pop("passed_over", None)
    with contextlib.suppress(OSError):
        folder = config_dir()
        folder.mkdir(parents=True, exist_ok=True)
        part = folder / "settings.json.part"
        part.write_text(json.dumps(data, indent=1))
        part.replace(folder / "settings.json")
