"""Conventions of axes and units that receivers expect."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jacket.core.mesh.polymesh import PolyMesh
from jacket.errors import FormatError


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


def profile_named(name: str) -> Profile:
    """A profile by its name; raises FormatError with those there are."""
    if name not in PROFILES:
        raise FormatError(f"There is no profile {name}; choose one of {', '.join(sorted(PROFILES))}.")
    return PROFILES[name]


def in_profile(mesh: PolyMesh, profile: Profile) -> PolyMesh:
    """The mesh (Y up, metres) in a profile's axes and units. Turning keeps it right-handed."""
    points = mesh.points * profile.scale
    if profile.up == "z":
        points = np.stack([points[:, 0], -points[:, 2], points[:, 1]], axis=1)
    return mesh.with_points(points)
