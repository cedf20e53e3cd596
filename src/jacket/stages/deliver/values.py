"""What the Deliver stage is set to."""

from __future__ import annotations

from dataclasses import dataclass

from jacket.commands.values import chosen, ranged, worded
from jacket.core.bake.bake import BakeOptions
from jacket.core.bake.maps import MAPS
from jacket.jobs.bake import WAYS, BakeSettings, pairs_in


@dataclass
class DeliverValues:
    """profile    by its name (formats/deliver/profiles.py)
    maps          that are baked, with commas between
    map_size      pixels of the longer side, 0 for the sheet's own
    samples       a texel's rays are the square;  rays over the half sphere of points
    cage, cage_in how far rays go, in % of the diagonal, 0 for what the gap says, and for as far inwards
    ground, alone, far   occlusion: a plane below, only oneself, the reach in % of the diagonal (0 for all)
    deep, width   of thickness and curvature, in % of the diagonal
    padding       texels that islands are carried on, −1 for the whole sheet
    by_name       each layer only from sources of its name
    left_out      names of sources that nothing is baked from, with commas between
    hard_angle    above which edges are made hard;  support  how far across a quad a support loop runs, in %
    light_from    where the light of the gradient map comes from
    round         the layer that flat parts are wrapped round, "" for the first
    keep_maps     whether maps are saved in the project
    pairs         layers that are baked from one source alone: layer=source, with commas between
    """

    profile: str = worded("y-up-metres", r"[\w-]{1,80}")
    maps: str = worded("normal,occlusion", r"[a-z,-]{0,400}")
    map_size: int = ranged(0, 0, 8192)
    samples: int = ranged(2, 1, 4)
    rays: int = ranged(64, 1, 4096)
    cage: float = ranged(0.0, 0.0, 100.0)
    cage_in: float = ranged(0.0, 0.0, 100.0)
    ground: bool = False
    alone: bool = False
    far: float = ranged(0.0, 0.0, 1000.0)
    deep: float = ranged(10.0, 0.1, 1000.0)
    width: float = ranged(0.4, 0.0, 20.0)
    padding: int = ranged(16, -1, 8192)
    by_name: bool = False
    left_out: str = worded("", r"[^\n]{0,4000}")
    hard_angle: float = ranged(40.0, 0.0, 180.0)
    support: float = ranged(15.0, 1.0, 49.0)
    light_from: str = chosen("above", *WAYS)
    pairs: str = worded("", r"[^\n]{0,4000}")
    keep_maps: bool = True
    round: str = worded("", r"[^\n]{0,200}")

    def chosen_maps(self) -> tuple[str, ...]:
        """The maps that are baked, in the order of the list."""
        wanted = {w.strip() for w in self.maps.split(",")}
        return tuple(k for k in MAPS if k in wanted)

    def with_map(self, name: str, on: bool) -> str:
        """The list with a map taken in or out."""
        return ",".join(k for k in MAPS if (k in self.chosen_maps() and k != name) or (k == name and on))

    def baking(self) -> BakeSettings:
        """The settings of baking as the job takes them. Raises MeshError where one makes no sense."""
        options = BakeOptions(self.samples, self.rays, self.ground, self.alone, 0.01 * self.far, 0.01 * self.deep, 0.01 * self.width,
                              sun=WAYS[self.light_from], padding=self.padding)  # fmt: skip
        return BakeSettings(self.chosen_maps(), self.map_size, self.cage, self.cage_in, self.by_name, self.without(), options,
                            pairs_in(self.pairs)).checked()  # fmt: skip

    def without(self) -> tuple[str, ...]:
        """Names of sources that nothing is baked from."""
        return tuple(n.strip() for n in self.left_out.split(",") if n.strip())
