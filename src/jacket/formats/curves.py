"""Guides and painted density for the command line as small JSON files, and curves that were drawn over a sheet as SVG."""

from __future__ import annotations

import io
import json
from pathlib import Path
from typing import Any

import numpy as np

from jacket.core.mesh.polymesh import Floats
from jacket.core.quads.steering import Guide, Spot
from jacket.core.uv.sheets import Sheet
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


MOST_BYTES, MOST_CURVES = 20_000_000, 2000
"""Of a drawing that is read for its curves."""
OURS = {"ground", "fill", "edges", "outline", "curves"}
"""Classes of what a layout picture is drawn of: one draws over it."""
STEPS = 24
"""Places on each bend of a drawn curve."""


def read_drawn_curves(path: str | Path, sheet: Sheet) -> tuple[Floats, ...]:
    """Curves (K, 2) in UV coordinates from a drawing over a sheet, an SVG (W3C, SVG 1.1) of its shape: paths, lines and shapes,
    those of a layout picture left out. Raises FormatError with a sentence where there are none or it is no SVG."""
    from xml.etree.ElementTree import ParseError

    from svgelements import SVG, Shape

    path = Path(path)
    data = read_bytes(path)
    if len(data) > MOST_BYTES:
        raise FormatError(f"{path.name} is larger than {MOST_BYTES // 10**6} MB; save the curves alone.")
    try:
        drawing = SVG.parse(io.BytesIO(bytes(data)))
        size = np.array([float(drawing.width), float(drawing.height)])
        shapes = [e for e in drawing.elements() if isinstance(e, Shape) and not OURS & set(str(e.values.get("class", "")).split())]
        curves = [c for shape in shapes[:MOST_CURVES] for c in _drawn(shape)]
    except (ParseError, ValueError, TypeError, AttributeError, KeyError, IndexError, ZeroDivisionError, OverflowError, RecursionError):
        raise FormatError(f"{path.name} is no drawing that can be read; save it as plain SVG.") from None
    curves = [c for c in curves if np.isfinite(c).all() and len(c) > 1 and np.ptp(c, axis=0).max() > 0]
    if len(shapes) > MOST_CURVES:
        raise FormatError(f"{path.name} holds {len(shapes):,} shapes, more than {MOST_CURVES:,}; save the curves alone.")
    if not curves or not (np.isfinite(size).all() and (size > 0).all()):
        raise FormatError(f"{path.name} holds no curves; draw them over the layout picture of the sheet and save it as SVG.")
    return tuple(sheet.coordinates((c / size * [1, -1] + [0, 1]) * sheet.size) for c in curves)


def _drawn(shape: Any) -> list[Floats]:
    """The runs of a shape as places (K, 2) in the drawing."""
    from svgelements import Line, Move
    from svgelements import Path as Drawn

    out: list[list[tuple[float, float]]] = []
    for segment in Drawn(shape):
        if isinstance(segment, Move):
            out.append([])
        if segment.end is None or not out:
            continue
        straight = isinstance(segment, (Move, Line)) or segment.start is None or not hasattr(segment, "point")
        share = [1.0] if straight else [k / STEPS for k in range(1, STEPS + 1)]
        out[-1] += [(p.x, p.y) for p in ([segment.end] if straight else [segment.point(t) for t in share])]
    return [np.array(run) for run in out if len(run) > 1]
