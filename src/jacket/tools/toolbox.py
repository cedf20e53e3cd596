"""Which tools each stage has, in the order of the rail."""

from __future__ import annotations

from jacket.tools.base import Tool
from jacket.tools.brushes import Nudge, Relax, Unpick
from jacket.tools.draft import Draft
from jacket.tools.holding import Hold
from jacket.tools.place import Place
from jacket.tools.seams import Cut, Sew
from jacket.tools.surveying import Gauge, Ground, Sift

STAGE_TOOLS: dict[str, tuple[type[Tool], ...]] = {
    "source": (Sift, Gauge, Ground, Hold),
    "topology": (Draft, Nudge, Relax, Unpick, Hold),
    "seams": (Cut, Sew, Hold),
    "flatten": (Hold,),
    "layout": (Place, Hold),
    "deliver": (Hold,),
}
