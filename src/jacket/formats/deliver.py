"""The files of a delivery: OBJ with MTL, GLB, the layout picture and the report."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from jacket.core.mesh.polymesh import PolyMesh
from jacket.errors import FormatError
from jacket.formats.atomic import write_bytes
from jacket.formats.glb import glb_bytes
from jacket.formats.obj import mtl_text, obj_text
from jacket.formats.picture import layout_png


@dataclass(frozen=True)
class Profile:
    """A convention of axes and units: which way is up and how long a unit of the jacket is there."""

    label: str
    up: str
    scale: float


PROFILES = {
    "y-up-metres": Profile("Y up, metres", "y", 1.0),
    "y-up-centimetres": Profile("Y up, centimetres", "y", 100.0),
    "z-up-metres": Profile("Z up, metres", "z", 1.0),
    "z-up-centimetres": Profile("Z up, centimetres", "z", 100.0),
}


def in_profile(mesh: PolyMesh, profile: Profile) -> PolyMesh:
    """The mesh (Y up, metres) in a profile's axes and units. Turning keeps it right-handed."""
    points = mesh.points * profile.scale
    if profile.up == "z":
        points = np.stack([points[:, 0], -points[:, 2], points[:, 1]], axis=1)
    return mesh.with_points(points)


def deliver_files(mesh: PolyMesh, folder: Path, stem: str, profile: str, size: int, report: bytes) -> list[Path]:
    """Make every file in memory, then write them; returns the paths. glTF is always Y up in metres,
    as its specification demands (section 3.4), whatever the profile."""
    if profile not in PROFILES:
        raise FormatError(f"There is no profile {profile}; choose one of {', '.join(sorted(PROFILES))}.")
    if folder.exists() and not folder.is_dir():
        raise FormatError(f"{folder} is a file; name a folder to deliver to.")
    name = "".join(c if c.isalnum() or c in "-_" else "_" for c in stem) or "jacket"
    files = {
        f"{name}.mtl": mtl_text(mesh, name).encode(),
        f"{name}.obj": obj_text(in_profile(mesh, PROFILES[profile]), name, f"{name}.mtl").encode(),
        f"{name}.glb": glb_bytes(mesh, name),
        f"{name}-report.json": report,
    }
    if mesh.uv is not None and np.isfinite(mesh.uv).any():
        files[f"{name}-layout.png"] = layout_png(mesh, size)
    for entry, data in files.items():
        write_bytes(folder / entry, data)
    return [folder / entry for entry in files]
