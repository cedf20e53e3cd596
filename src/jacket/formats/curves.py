"""Guides and painted density for the command line: small JSON files."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np

from jacket.core.quads.steering import Guide, Spot
from jacket.errors import FormatError
from jacket.formats.atomic import read_bytes


def _list(path: str | Path, what: str) -> list[Any]:
    path = Path(path)
    try:
        rows = json.loads(read_bytes(path))
    except (ValueError, UnicodeDecodeError, RecursionError) as error:
        raise FormatError(f"{path.name} is no JSON; {what}.") from error
    if not isinstance(rows, list):
        raise FormatError(f"{path.name} holds no list; {what}.")
    return rows


def read_guides(path: str | Path | None) -> tuple[Guide, ...]:
    """Guides from a JSON list: each a list of [x, y, z], or {"points": […], "soft": true, "closed": true}; none for None.
    Raises FormatError with a sentence for anything else."""
    if path is None:
        return ()
    what = "guides are a list of curves, each a list of [x, y, z]"
    out = []
    for k, row in enumerate(_list(path, what)):
        entry = row if isinstance(row, dict) else {"points": row}
        try:
            points = np.array(entry["points"], float)
        except (KeyError, ValueError, TypeError) as error:
            raise FormatError(f"Guide {k + 1} of {Path(path).name} cannot be read; {what}.") from error
        if points.ndim != 2 or points.shape[1:] != (3,) or len(points) < 2 or not np.isfinite(points).all():
            raise FormatError(f"Guide {k + 1} of {Path(path).name} needs two points or more of three numbers each.")
        closed = bool(entry.get("closed")) or bool(len(points) > 3 and np.array_equal(points[0], points[-1]))
        points = points[:-1] if closed and np.array_equal(points[0], points[-1]) else points
        out.append(Guide(points, not entry.get("soft", False), closed, bool(entry.get("smooth", False))))
    return tuple(out)


def read_spots(path: str | Path | None) -> tuple[Spot, ...]:
    """Spots of density from a JSON list of {"point": [x, y, z], "radius": r, "factor": f}; none for None."""
    if path is None:
        return ()
    what = "density is a list of {point, radius, factor}"
    out = []
    for k, row in enumerate(_list(path, what)):
        try:
            x, y, z = (float(v) for v in row["point"])
            spot = Spot((x, y, z), float(row["radius"]), float(row["factor"]))
        except (KeyError, ValueError, TypeError) as error:
            raise FormatError(f"Spot {k + 1} of {Path(path).name} cannot be read; {what}.") from error
        if not (
            np.isfinite([x, y, z, spot.radius, spot.factor]).all() and spot.radius > 0 and 0.25 <= spot.factor <= 4
        ):
            raise FormatError(
                f"Spot {k + 1} of {Path(path).name} needs a radius over 0 and a factor between 1/4 and 4."
            )
        out.append(spot)
    return tuple(out)
