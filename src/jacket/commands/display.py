"""What is shown in the views and how: typed, with one colouring of the jacket at a time."""

from __future__ import annotations

from dataclasses import dataclass, fields, replace
from enum import Enum

from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.core.source.symmetry import Plane
from jacket.errors import JacketError


class Colouring(Enum):
    """What the faces of the jacket are coloured by."""

    PLAIN = "plain"
    ISLANDS = "islands"
    STRETCH = "stretch"
    GAP = "gap"
    MOVED = "moved"
    RINGS = "rings"
    DENSITY = "density"


@dataclass(frozen=True, eq=False)
class Heat:
    """Values (V,) over the points of one source, and the value shown in full colour; the plane where they are
    distances to the mirror image."""

    mesh: PolyMesh
    values: Floats
    reach: float
    plane: Plane | None = None


@dataclass(frozen=True)
class Display:
    """What is drawn. Switches first; then how sources are shaded and cut, what heat lies on them, and how the jacket is
    drawn: `push` out in % of the source's diagonal, `smooth` rounds of the smoothed preview; the seam set that is `tried` on
    for its looks; `squares` of the checker up a sheet and what they are
    ("plain", "numbered", by "sheets", a "picture" of one's own with its share and light), and whether stretch is shown by "area" or by "angle". Where the
    jacket is `lit`: the `map` that is shown as it is, "" for all at work under `lamps`, and the `mip` level of
    pictures that is shown at least."""

    source: bool = True
    jacket: bool = True
    wire: bool = True
    poles: bool = True
    seams: bool = True
    names: bool = True
    trial: bool = True
    split: bool = False
    through: bool = False
    backs: bool = True
    solid: bool = True
    lifted: bool = True
    checker: bool = False
    uncovered: bool = False
    outline: bool = False
    threads: bool = False
    hems: bool = True
    alone: bool = False
    strokes: bool = False
    lit: bool = False
    cage: bool = False
    apart: bool = False
    colouring: Colouring = Colouring.PLAIN
    shade: str = "smooth"
    cut_axis: str = ""
    cut_share: float = 0.5
    heat: Heat | None = None
    push: float = 0.0
    smooth: int = 0
    tried: str = ""
    squares: float = 16.0
    board: str = "plain"
    board_picture: str = ""
    board_share: float = 0.8
    board_light: float = 1.0
    stretch_by: str = "area"
    map: str = ""
    lamps: str = "overcast"
    mip: int = 0

    def is_on(self, name: str) -> bool:
        """Whether a switch or a colouring is on."""
        return self.colouring is Colouring(name) if name in COLOURINGS else bool(getattr(self, name))

    def toggled(self, name: str) -> Display:
        """With a switch turned over, or a colouring taken up or put away. Raises JacketError for any other name."""
        if name in COLOURINGS:
            return replace(self, colouring=Colouring.PLAIN if self.is_on(name) else Colouring(name))
        if name not in SWITCHES:
            raise JacketError(f"There is nothing called {name} that could be shown.")
        return replace(self, **{name: not getattr(self, name)})  # type: ignore[arg-type]


COLOURINGS = tuple(c.value for c in Colouring if c is not Colouring.PLAIN)
SWITCHES = tuple(f.name for f in fields(Display) if f.type == "bool")
