"""Where a project was delivered last, kept beyond the window: one button delivers again exactly as last time."""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path

from jacket.errors import JacketError
from jacket.formats.atomic import write_bytes
from jacket.jobs.deliver import Delivered
from jacket.jobs.taken import Taken
from jacket.settings.store import state_dir

MOST = 100
"""Projects whose last delivery is remembered."""


@dataclass(frozen=True, eq=False)
class LastDelivery:
    """Where was delivered last, under what name, whether with baked maps, what came of it, and what came back when it was taken
    in."""

    folder: Path
    stem: str
    maps: bool = False
    done: Delivered | None = None
    taken: Taken | None = None


def _file() -> Path:
    return state_dir() / "deliveries.json"


def _known() -> dict[str, list[str]]:
    try:
        told = json.loads(_file().read_bytes())
    except (OSError, ValueError):
        return {}
    rows = told.items() if isinstance(told, dict) else ()
    return {str(k): [str(w) for w in v] for k, v in rows if isinstance(v, list) and len(v) == 3}


def remember(project: str, last: LastDelivery) -> None:
    """Keep where a saved project was delivered; that this cannot be written is no reason to fail."""
    if not project:
        return
    rest = {k: v for k, v in _known().items() if k != project}
    rows = {project: [str(last.folder), last.stem, "maps" if last.maps else ""], **rest}
    try:
        write_bytes(_file(), json.dumps(dict(list(rows.items())[:MOST])).encode())
    except (JacketError, OSError):
        return


def recall(project: str) -> LastDelivery | None:
    """Where a project was delivered last, in whatever window; None where that is not known or the folder is gone."""
    row = _known().get(project) if project else None
    if row is None or not Path(row[0]).is_dir():
        return None
    return LastDelivery(Path(row[0]), row[1], bool(row[2]))
