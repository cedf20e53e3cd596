"""Older manifests brought up to the present format, a step a version."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

Manifest = dict[str, Any]

VERSION = 3
"""1: first. 2: colours, materials and groups of meshes; locked, placed and stamped sources. 3: several UV sets with cuts and
pins of their own, islands that stay themselves, several sheets."""


def _from_1(manifest: Manifest) -> Manifest:
    return manifest  # what version 2 added is optional


def _from_2(manifest: Manifest) -> Manifest:
    sheet = manifest.pop("sheet", {})
    size = int(sheet.get("size", 1024))
    manifest["sheets"] = [{"name": "Sheet", "tile": 1001, "width": size, "height": size,
                           "margin": float(sheet.get("margin", 8.0))}]  # fmt: skip
    # How islands may be turned is the user's setting since then, not the project's.
    return manifest


_STEPS: dict[int, Callable[[Manifest], Manifest]] = {1: _from_1, 2: _from_2}

RENAMED = {"mark.seam": "mark.cut:uv"}
"""Channels of meshes that have another name now, in versions before 3."""


def channel_name(key: str, version: int) -> str:
    """The present name of a mesh's channel ("uv.uv", "mark.seam", "point.colour" …) in a file of a version."""
    if version < 3:
        if key.startswith("uv."):
            return f"corner.uv:{key[3:]}"
        return RENAMED.get(key, key)
    return key


def brought_up(manifest: Manifest) -> Manifest:
    """A manifest of any version up to the present one as one of the present version."""
    manifest = dict(manifest)
    for version in range(int(manifest["version"]), VERSION):
        manifest = _STEPS[version](manifest)
    return manifest
