"""How the light mesh and the dense one look from somewhere: shading normals pixel by pixel, and the angle between them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jacket.core.bake.compare import Delivered, read, unit_rows
from jacket.core.bake.dense import Dense
from jacket.core.mesh.polymesh import Floats
from jacket.core.space.raster import nearest

Project = Callable[[Floats], Floats]
"""Points (N, 3) to pixels from the upper left, and depth."""


@dataclass(frozen=True, eq=False)
class Look:
    """What is seen of a mesh: unit shading normals (H, W, 3), zero where nothing is, and the places (H, W, 3) they are at."""

    normals: NDArray[np.float32]
    places: NDArray[np.float32]

    @property
    def there(self) -> NDArray[np.bool_]:
        """(H, W) where something is seen."""
        return np.asarray((self.normals != 0).any(axis=2))


@dataclass(frozen=True, eq=False)
class Seen:
    """Both from the same place, and (H, W) degrees between them, NaN where one of them is not seen."""

    light: Look
    dense: Look
    degrees: NDArray[np.float32]

    @property
    def mean(self) -> float:
        """Mean angle over the pixels where both are seen; NaN where there are none."""
        known = self.degrees[np.isfinite(self.degrees)]
        return float(known.mean()) if len(known) else float("nan")

    def percentile(self, share: float) -> float:
        """The angle that so many per cent of the pixels stay under."""
        known = self.degrees[np.isfinite(self.degrees)]
        return float(np.percentile(known, share)) if len(known) else float("nan")


def dense_look(dense: Dense, project: Project, width: int, height: int) -> Look:
    """A dense mesh with its own smooth normals."""
    out, at = (np.zeros((height, width, 3), np.float32) for _ in range(2))
    if len(dense.tree.order):
        which, shares = nearest(project(dense.tree.points), dense.tree.triangles, width, height)
        on = which >= 0
        corners, weights = dense.tree.triangles[which[on]], shares[on].astype(np.float64)
        out[on] = unit_rows(np.einsum("kc,kcd->kd", weights, dense.normals[corners].astype(np.float64)))
        at[on] = np.einsum("kc,kcd->kd", weights, dense.tree.points[corners])
    return Look(out, at)


def light_look(meshes: Sequence[tuple[Delivered, NDArray[np.float32] | None]], project: Project, width: int, height: int) -> Look:
    """Light meshes, each with a picture (H, W, 3) of tangent normals in 0..1, green up, read as receivers do (mikktspace.h), or
    with its own normals alone."""
    out, at = (np.zeros((height, width, 3), np.float32) for _ in range(2))
    count = [len(m.places) for m, _ in meshes]
    if not sum(count):
        return Look(out, at)
    places = np.concatenate([m.places.reshape(-1, 3) for m, _ in meshes])
    which, shares = nearest(project(places), np.arange(len(places), dtype=np.int32).reshape(-1, 3), width, height)
    first = 0
    for (mesh, picture), many in zip(meshes, count, strict=True):
        on = (which >= first) & (which < first + many)
        t, weights = which[on] - first, shares[on].astype(np.float64)
        first += many

        def mixed(values: Floats, t: NDArray[np.int32] = t, weights: Floats = weights) -> Floats:
            return np.asarray(np.einsum("kc,kcd->kd", weights, values[t]))

        normals = mixed(mesh.normals)
        if picture is not None and mesh.tangents is not None and mesh.uv is not None:
            m = read(picture, mixed(mesh.uv)) * 2 - 1
            along = mixed(mesh.tangents[..., :3])
            across = mesh.tangents[t, 0, 3:] * np.cross(normals, along)
            normals = m[:, :1] * along + m[:, 1:2] * across + m[:, 2:3] * normals
        out[on] = unit_rows(normals)
        at[on] = mixed(mesh.places)
    return Look(out, at)


def compared(light: Look, dense: Look, near: float) -> Seen:
    """The angle between two looks from one place, where what is seen lies within `near` of each other: elsewhere one of them
    has nothing there, and something behind is seen."""
    both = light.there & dense.there
    both &= np.linalg.norm(light.places - dense.places, axis=2) < near
    degrees = np.full(both.shape, np.nan, np.float32)
    half = np.linalg.norm(light.normals[both].astype(np.float64) - dense.normals[both], axis=1) / 2
    degrees[both] = np.degrees(2 * np.arcsin(np.clip(half, 0, 1)))
    return Seen(light, dense, degrees)


def lit_grey(look: Look) -> NDArray[np.uint8]:
    """(H, W, 3) a look as plain clay under an overcast sky with one soft lamp, for a glance."""
    n = look.normals
    lamp = np.array([0.4, 0.65, 0.65]) / np.linalg.norm([0.4, 0.65, 0.65])
    light = 0.07 + 0.13 * (n[..., 1] + 1) / 2 + 0.42 * np.clip(n @ lamp, 0, 1)
    grey = np.where(look.there, light, 0.016)[..., None] * (1.0, 0.985, 0.95)
    return np.asarray(np.clip(255 * np.clip(grey, 0, 1) ** (1 / 2.2), 0, 255), np.uint8)


def heated(degrees: NDArray[np.float32], most: float) -> NDArray[np.uint8]:
    """(H, W, 3) degrees from paper over ochre to wine red at `most` and more; dark where there is nothing to compare."""
    stops = np.array([(251, 249, 244), (227, 167, 18), (124, 45, 58)], np.float64)
    share = np.clip(np.nan_to_num(degrees) / max(most, 1e-9), 0, 1)[..., None] * 2
    low = np.minimum(share.astype(int), 1)[..., 0]
    rgb = stops[low] + (share - low[..., None]) * (stops[low + 1] - stops[low])
    rgb[~np.isfinite(degrees)] = (32, 35, 40)
    return np.asarray(np.rint(rgb), np.uint8)
