"""Which tools each stage has, in the order of the rail."""

from __future__ import annotations

from jacket.tools.base import Tool
from jacket.tools.brushes import Nudge, Relax, Unpick
from jacket.tools.darn import Darn
from jacket.tools.draft import Draft
from jacket.tools.holding import Hold
from jacket.tools.ladder import Ladder
from jacket.tools.moving import Lift, Move
from jacket.tools.place import Place
from jacket.tools.rows import Rows
from jacket.tools.seams import Cut, Sew
from jacket.tools.sleeve import Sleeve
from jacket.tools.steer import Density, Guide
from jacket.tools.surveying import Gauge, Ground, Sift
from jacket.tools.tidying import Tidy
from jacket.tools.weave import Weave

STAGE_TOOLS: dict[str, tuple[type[Tool], ...]] = {
    "source": (Sift, Gauge, Ground, Hold),
    "topology": (
        Draft,
        Ladder,
        Weave,
        Sleeve,
        Darn,
        Rows,
        Nudge,
        Relax,
        Lift,
        Move,
        Tidy,
        Unpick,
        Guide,
        Density,
        Hold,
    ),
    "seams": (Cut, Sew, Hold),
    "flatten": (Hold,),
    "layout": (Place, Hold),
    "deliver": (Hold,),
}
