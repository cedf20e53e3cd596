"""Sources as drawn: shared points and an index, 20 bytes a point, so that millions of triangles fit."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import kernel
from jacket.core.mesh.polymesh import PolyMesh
from jacket.render.skins import Lamps

SHADES = ("smooth", "facets", "clay", "colours", "picture", "heat", "lamps")
"""How a source can be shaded; "heat" shows the tints given with it, "lamps" lights it as skins are lit."""


@dataclass(frozen=True)
class Span:
    """A run of triangles of one material."""

    first: int
    count: int
    colour: tuple[float, float, float]
    picture: bytes = b""


@dataclass(frozen=True, eq=False)
class Surface:
    """points (V, 3) float32; packed (V, 4) uint8: normal, and how hollow (under 128) or raised the place is;
    tints (V, 4) uint8 or None; places (V, 2) float32 on the picture or None; index (3T,) uint32; spans of
    the index by material."""

    points: NDArray[np.float32]
    packed: NDArray[np.uint8]
    index: NDArray[np.uint32]
    tints: NDArray[np.uint8] | None = None
    places: NDArray[np.float32] | None = None
    spans: tuple[Span, ...] = ()

    @property
    def triangles(self) -> int:
        return len(self.index) // 3


@dataclass(frozen=True)
class Look:
    """How sources are drawn: shade, their plain colour, and a plane (a, b, c, d) beyond which (ax + by + cz > d)
    they are cut away; all nought for none; and the lamps, where the shade is theirs."""

    shade: str = "smooth"
    colour: tuple[float, float, float] = (0.8, 0.76, 0.69)
    cut: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 0.0)
    lamps: Lamps | None = None


def surface_of_mesh(mesh: PolyMesh) -> Surface:
    """A mesh as it is drawn; its point colours become tints. Points are doubled where a picture asks for it."""
    tri = mesh.triangle_points
    normals, slope = _normals(mesh.points, mesh.corners, mesh.starts)
    packed = _packed(normals, slope, *_relief(slope))
    points = mesh.points.astype(np.float32)
    tints = mesh.point_data.get("colour")
    pictured = mesh.uv is not None and any(m.picture for m in mesh.materials)
    index = tri.ravel().astype(np.uint32)
    places: NDArray[np.float32] | None = None
    spans: tuple[Span, ...] = ()
    if pictured:
        uv = np.nan_to_num(mesh.uv).astype(np.float32)  # type: ignore[arg-type]
        which, first = _apart(mesh.corners, uv, mesh.n_points)
        index = which[mesh.triangles.ravel()].astype(np.uint32)
        point = mesh.corners[first]
        points, packed, places = points[point], packed[point], uv[first]
        tints = tints[point] if tints is not None else None
    material = mesh.face_data.get("material")
    if material is not None and mesh.materials:
        label = np.asarray(material)[mesh.triangle_faces]
        order = np.argsort(label, kind="stable")
        index = index.reshape(-1, 3)[order].ravel()
        counts = np.bincount(label + 1, minlength=len(mesh.materials) + 1)
        at = np.concatenate([[0], np.cumsum(counts)])
        grey = (0.8, 0.8, 0.8)
        rows: list[tuple[tuple[float, float, float], bytes]] = [(grey, b"")]
        rows += [(m.colour[:3], m.picture) for m in mesh.materials]
        spans = tuple(Span(3 * int(at[k]), 3 * int(counts[k]), *rows[k]) for k in range(len(rows)) if counts[k])
    return Surface(points, packed, np.ascontiguousarray(index), tints, places, spans)


def _relief(slope: NDArray[np.float32]) -> tuple[float, float]:
    """The middle and the reach of the slopes, so that hollows show at any density of points."""
    some = slope[:: max(1, len(slope) // 100_000)]
    if len(some) == 0:
        return 0.0, 1.0
    middle = float(np.median(some))
    return middle, max(float(np.percentile(np.abs(some - middle), 93)), 0.004)


def _apart(corners: Any, uv: NDArray[np.float32], n_points: int) -> tuple[Any, Any]:
    """(C,) drawn point of each corner, and a corner of each: one for every place a point has on the picture."""
    bits = np.ascontiguousarray(uv).view(np.uint32).reshape(-1, 2)
    return _split(corners, bits, n_points)


@kernel
def _split(corners, bits, n_points):
    chain = np.full(len(corners), -1, np.int32)
    head = np.full(n_points, -1, np.int32)
    which = np.empty(len(corners), np.int32)
    first = np.empty(len(corners), np.int32)
    count = 0
    for c in range(len(corners)):
        k = head[corners[c]]
        while k >= 0 and not (bits[first[k], 0] == bits[c, 0] and bits[first[k], 1] == bits[c, 1]):
            k = chain[k]
        if k < 0:
            k = count
            first[k] = c
            chain[k] = head[corners[c]]
            head[corners[c]] = k
            count += 1
        which[c] = k
    return which, first[:count].copy()


@kernel
def _normals(points, corners, starts):
    """Point normals, and the mean slope of the edges at each point against its normal."""
    n = len(points)
    normal = np.zeros((n, 3), np.float32)
    for f in range(len(starts) - 1):
        a, b = starts[f], starts[f + 1]
        o = corners[a]
        x, y, z = 0.0, 0.0, 0.0
        for c in range(a + 1, b - 1):
            p, q = corners[c], corners[c + 1]
            ux, uy, uz = points[p, 0] - points[o, 0], points[p, 1] - points[o, 1], points[p, 2] - points[o, 2]
            vx, vy, vz = points[q, 0] - points[o, 0], points[q, 1] - points[o, 1], points[q, 2] - points[o, 2]
            x += uy * vz - uz * vy
            y += uz * vx - ux * vz
            z += ux * vy - uy * vx
        # Scaled down by the size so that large and small numbers fit single precision.
        size = np.sqrt(x * x + y * y + z * z)
        if size > 0:
            weight = np.sqrt(size)
            for c in range(a, b):
                p = corners[c]
                normal[p, 0] += x / size * weight
                normal[p, 1] += y / size * weight
                normal[p, 2] += z / size * weight
    for p in range(n):
        size = np.sqrt(normal[p, 0] ** 2 + normal[p, 1] ** 2 + normal[p, 2] ** 2)
        if size > 0:
            for k in range(3):
                normal[p, k] /= size
    slope = np.zeros(n, np.float32)
    count = np.zeros(n, np.int32)
    for f in range(len(starts) - 1):
        a, b = starts[f], starts[f + 1]
        for c in range(a, b):
            p, q = corners[c], corners[c + 1 if c + 1 < b else a]
            x, y, z = points[q, 0] - points[p, 0], points[q, 1] - points[p, 1], points[q, 2] - points[p, 2]
            size = np.sqrt(x * x + y * y + z * z)
            if size > 0:
                slope[p] += (normal[p, 0] * x + normal[p, 1] * y + normal[p, 2] * z) / size
                slope[q] -= (normal[q, 0] * x + normal[q, 1] * y + normal[q, 2] * z) / size
                count[p] += 1
                count[q] += 1
    for p in range(n):
        if count[p] > 0:
            slope[p] /= count[p]
    return normal, slope


@kernel
def _packed(normal, slope, middle, reach):
    """Normals and relief in 0..255 about 127.5."""
    out = np.empty((len(normal), 4), np.uint8)
    for p in range(len(normal)):
        for k in range(3):
            out[p, k] = np.uint8(min(max(normal[p, k] * 127.0 + 127.5, 0.0), 255.0))
        out[p, 3] = np.uint8(min(max(127.5 - 100.0 * (slope[p] - middle) / reach, 0.0), 255.0))
    return out
