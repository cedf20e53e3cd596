"""The program without a window: document, values, display, tasks, what is proposed, stage and tools.

It is the host that commands run against. What needs a screen or a dialog it asks of its *front*; whatever changes in
it, it tells its listeners by name ("stage", "tool", "display", "proposal", "lit", "strokes", "packing", "baked", "values", "work").
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any, TypeVar

import numpy as np

from jacket.commands.display import Display, Heat
from jacket.commands.general import opening_display, registry_of
from jacket.commands.host import PackView, Proposal
from jacket.commands.keys import taking
from jacket.commands.model import Command, StageSpec
from jacket.commands.values import Values
from jacket.core.bake.made import Bake
from jacket.core.derive import mirror_difference
from jacket.core.source.symmetry import Plane, axis_plane
from jacket.document.document import Document
from jacket.document.state import SourceObject
from jacket.document.task import Executor, Ground, Task, Tasks, Teller
from jacket.errors import JacketError
from jacket.fronted import Front, Fronted
from jacket.progress import Progress
from jacket.settings import Settings
from jacket.tools.base import Tool, ToolSettings

V = TypeVar("V")


class Program(Fronted):
    """Everything but the screen."""

    def __init__(
        self, document: Document, stages: Sequence[StageSpec], settings: Settings, front: Front, executor: Executor
    ) -> None:
        self.document, self.settings, self.front = document, settings, front
        self.stages = {s.id: s for s in stages}
        self.commands = registry_of(stages)
        self._values = Values(s.values() for s in stages)
        self._values.take(settings.values)
        settings.passed_over += self._values.passed_over
        self.display = Display()
        self.tool_settings = ToolSettings(settings.reach, settings.brush, settings.strength)
        kinds = dict.fromkeys(t for s in stages for t in s.tools)
        self.tools: dict[str, Tool] = {t.id: t(document, self.tool_settings) for t in kinds}
        self._chosen = {s.id: s.tools[0].id for s in stages}
        self.stage = self.stages["topology"] if "topology" in self.stages else stages[0]
        self.proposal: Proposal | None = None
        self.mirror_plane: Plane | None = None
        self.lit: Any = None
        self.strokes: Any = None
        self.packing: PackView | None = None
        self.baked: Bake | None = None
        self._whole_baked: Bake | None = None
        self.delivered: Any = None
        self._cuts: Any = None
        self.tasks = Tasks(document, executor, Teller(front.say, front.offer, self._work_changed))
        self._listeners: list[Callable[[str], None]] = []
        document.listen(self._document_changed)

    # ---- listening ---------------------------------------------------------------------------------------
    def listen(self, listener: Callable[[str], None]) -> None:
        """Call `listener` with the name of whatever changes here."""
        self._listeners.append(listener)

    def take_note(self, name: str) -> None:
        """Something that the program holds was changed from outside, such as a setting of the tools."""
        self._tell(name)

    def _tell(self, *names: str) -> None:
        for name in names:
            for listener in list(self._listeners):
                listener(name)

    # ---- stages and tools ----------------------------------------------------------------------------------
    @property
    def tool(self) -> Tool:
        """The tool in hand."""
        return self.tools[self._chosen[self.stage.id]]

    def show_stage(self, stage: str) -> None:
        """Go to a stage: other tools, cards and checks; views and what is held stay."""
        self.tool.cancel()
        self.tool.leave()
        if stage != self.stage.id:
            self.display = opening_display(self.stages[stage], self.display)
        self.stage = self.stages[stage]
        if stage != "source" and self.proposal is not None:
            self.propose(None)
        self.lit = None
        self._tell("stage", "display")
        self.take_tool(self._chosen[stage])

    def take_tool(self, tool_id: str) -> None:
        """Put another tool of the stage in hand."""
        self.tool.cancel()
        self.tool.leave()
        self._chosen[self.stage.id] = tool_id
        self._tell("tool")
        if self.tool.lit and not self.display.lit:
            self.show(replace(self.display, lit=True))

    # ---- commands --------------------------------------------------------------------------------------------
    def search(self, text: str) -> list[Command]:
        """Commands that fit now and tools, by words of theirs."""

        def take(stage: str, tool: str) -> None:
            if stage != self.stage.id:
                self.show_stage(stage)
            self.take_tool(tool)

        tools = taking(list(self.stages.values()), self.stage, take)
        return self.commands.search(text, self.document.state, tools)

    def run(self, command: Command) -> None:
        """Run a command when it fits; say why when it does not, and let it wait its turn where it works beside the window
        and other work is under way."""
        if not command.available(self.document.state):
            self.say(f"'{command.label}' does not fit here yet.")
            return
        if command.waits and self.tasks.busy:
            self.tasks.later(command.label, lambda: self.run(command))
            return
        try:
            self.tool.cancel()
            command.run(self)
        except JacketError as error:
            self.say(str(error))

    # ---- values and display ----------------------------------------------------------------------------------
    def values(self, kind: type[V]) -> V:
        """What a stage is set to, by the kind of its values."""
        return self._values.of(kind)

    def put(self, kind: type[Any], name: str, value: Any) -> None:
        """Set one value of a stage; what does not fit is said."""
        try:
            self._values.put(kind, name, value)
        except JacketError as error:
            self.say(str(error))
        self._tell("values")

    def kept_values(self) -> dict[str, dict[str, Any]]:
        """The values that differ from the usual, for the settings file."""
        return self._values.as_dict()

    def show(self, display: Display) -> None:
        """Show something else from now on."""
        if display != self.display:
            jacket = self.document.state.jacket
            self._cuts = jacket.mesh.cuts if jacket is not None else None
            self.display = display
            self._tell("display")

    def light(self, segments: Any) -> None:
        """Light up line segments (S, 2, 3) in the form view until something changes."""
        self.lit = segments
        self._tell("lit")

    # ---- work ------------------------------------------------------------------------------------------------
    def start(self, task: Task) -> None:
        """Begin a task, or let it wait its turn."""
        self.strokes = None
        self.tasks.start(task)

    def show_strokes(self, strokes: Any) -> None:
        """Show strokes of a field (S, 2, 3) while the work that makes it goes on."""
        if strokes is None or self.tasks.busy:
            self.strokes = strokes
            self._tell("strokes")

    def show_packing(self, view: PackView | None) -> None:
        """Show packing that is under way, or no more; told again whenever its view has something better."""
        self.packing = view
        self._tell("packing")

    def keep_baked(self, baked: Bake | None) -> None:
        """Keep the maps of a bake, those in the making too, to be looked at and delivered."""
        self.baked = self.tool_settings.baked = baked
        if baked is None or baked.whole:
            self._whole_baked = baked
        self._tell("baked")

    def baking_seen(self, baked: Bake) -> None:
        """Maps were filled a little more; what comes late is passed over."""
        if self.tasks.running is not None and self.tasks.running.name == "bake the maps":
            self.keep_baked(baked)

    def keep_delivered(self, what: Any) -> None:
        """Remember how and where was delivered, to do it again and to take it in."""
        self.delivered = what
        self._tell("baked")

    def watch_baking(self, baked: Bake) -> None:
        """Show maps as far as they are; may be called from any thread."""
        self.front.watch_baking(baked)

    def packing_seen(self, view: PackView) -> None:
        """Packing found something better; what comes late is passed over."""
        if view is self.packing:
            self._tell("packing")

    def _work_changed(self, name: str | None) -> None:
        if name is None:
            self.show_strokes(None)
            if self.packing is not None:
                self.show_packing(None)
            if self.baked is not None and not self.baked.whole:
                # What was begun is no map: the last whole ones come back.
                self.keep_baked(self._whole_baked)
        self._tell("work")

    # ---- proposals, the mirror difference ----------------------------------------------------------------------
    def propose(self, proposal: Proposal | None) -> None:
        """Show what a mend would do, or nothing any more."""
        if proposal is not None and proposal.mend.nothing:
            self.say(f"{proposal.mend.said}.")
            proposal = None
        self.proposal = proposal
        if proposal is not None:
            self.lit = None
            self.say(f"{proposal.mend.said}? Enter does it, Esc leaves it.")
        self._tell("proposal")

    def show_mirror(self, source: SourceObject | None, plane: Plane | None) -> None:
        """Show how far a source differs from its mirror image, or nothing any more."""
        self.mirror_plane = plane
        if source is None or plane is None:
            self.show(replace(self.display, heat=None))
            return
        mesh = source.mesh

        def job(progress: Progress) -> Heat:
            progress(0.1, "measuring the mirror difference")
            values = mirror_difference(mesh, plane)
            heat = Heat(mesh, values, max(float(np.percentile(values, 98)), 0.1), plane)
            self.front.prepare_heat(heat)
            return heat

        def merge(heat: Heat) -> None:
            values = heat.values
            self.show(replace(self.display, heat=heat))
            self.say(f"Mirrored points lie {values.mean():.2f} % of the diagonal off on average, {values.max():.2f} % at most.")

        self.start(Task("measure the mirror difference", job, merge, (Ground("source", source.id, mesh),)))

    def measure_mirror(self, which: str) -> None:
        """Show the difference to a mirror plane: "x", "y", "z", the one "found", or none for ""."""
        source = self.document.state.chosen_source
        plane = self.mirror_plane if which == "found" else (axis_plane(which) if which else None)
        self.show_mirror(source if which else None, plane)

    def _document_changed(self, changed: set[str]) -> None:
        if changed & {"sources", "jackets", "trials", "active", "active_source"}:
            self.lit = None
        if changed & {"jackets", "active", "gesture"} and self.display.tried and not self.document.in_gesture:
            self._leave_tried()
        if {"path", "history", "trials"} <= changed and (self.baked is not None or self.delivered is not None):
            self.keep_delivered(None)
            self.keep_baked(None)
        if "sources" not in changed:
            return
        meshes = [s.mesh for s in self.document.state.sources]
        if self.proposal is not None and not any(m is self.proposal.before for m in meshes) and not self.tasks.busy:
            self.propose(None)
        heat = self.display.heat
        if heat is not None and not any(m is heat.mesh for m in meshes):
            self.mirror_plane = None
            self.show(replace(self.display, heat=None))

    def _leave_tried(self) -> None:
        """Show what is cut once that changes: one sees what one does."""
        jacket = self.document.state.jacket
        cuts = jacket.mesh.cuts if jacket is not None else None
        if cuts is not self._cuts:
            self.show(replace(self.display, tried=""))
        self._cuts = cuts
