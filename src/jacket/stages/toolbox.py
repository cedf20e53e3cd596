"""Which tools each stage has, in the order of the rail."""

from __future__ import annotations

from jacket.stages.layout.tools.place import Place
from jacket.stages.seams.tools.cut import Cut, Sew
from jacket.stages.source.tools.surveying import Gauge, Ground, Sift
from jacket.stages.topology.tools.brushes import Nudge, Relax, Unpick
from jacket.stages.topology.tools.darn import Darn
from jacket.stages.topology.tools.draft import Draft
from jacket.stages.topology.tools.ladder import Ladder
from jacket.stages.topology.tools.moving import Lift, Move
from jacket.stages.topology.tools.rows import Rows
from jacket.stages.topology.tools.sleeve import Sleeve
from jacket.stages.topology.tools.steer import Density, Guide
from jacket.stages.topology.tools.tidying import Tidy
from jacket.stages.topology.tools.weave import Weave
from jacket.tools.base import Tool
from jacket.tools.holding import Hold

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
