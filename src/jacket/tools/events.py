"""What tools are told and what they show."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from jacket.tools.view import FlatCamera, FormCamera

Floats = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Pointer:
    """Where the pointer is and what is held down; one of the cameras tells which view it is in."""

    x: float
    y: float
    form: FormCamera | None = None
    flat: FlatCamera | None = None
    shift: bool = False
    ctrl: bool = False
    pressure: float = 1.0


@dataclass(frozen=True, eq=False)
class Ghost:
    """What a gesture would do, for the overlay.

    lines     (S, 2, 3) or (S, 2, 2) dashed segments in the view's space
    marks     (K, 3) or (K, 2) points shown as small rings
    circle    radius in pixels about the pointer, 0 for none
    screen    (S, 2, 2) segments in pixels: boxes and lassos
    threads   (T, 2, 2) pairs of places on the sheet that belong together
    what, how caption: what will happen, and the gesture that does it
    """

    view: str = "form"
    lines: Floats = field(default_factory=lambda: np.zeros((0, 2, 3)))
    marks: Floats = field(default_factory=lambda: np.zeros((0, 3)))
    circle: float = 0.0
    screen: Floats = field(default_factory=lambda: np.zeros((0, 2, 2)))
    threads: Floats = field(default_factory=lambda: np.zeros((0, 2, 2)))
    what: str = ""
    how: str = ""


NO_GHOST = Ghost()
