"""Every stage, in the order of the job."""

from __future__ import annotations

from jacket.commands.model import StageSpec
from jacket.stages.deliver.spec import SPEC as DELIVER
from jacket.stages.flatten.spec import SPEC as FLATTEN
from jacket.stages.layout.spec import SPEC as LAYOUT
from jacket.stages.seams.spec import SPEC as SEAMS
from jacket.stages.source.spec import SPEC as SOURCE
from jacket.stages.topology.spec import SPEC as TOPOLOGY

STAGES: tuple[StageSpec, ...] = (SOURCE, TOPOLOGY, SEAMS, FLATTEN, LAYOUT, DELIVER)
