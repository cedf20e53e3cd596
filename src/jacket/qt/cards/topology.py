"""The cards of the Topology stage: trials, layers, what is shown."""

from __future__ import annotations

from dataclasses import replace

from jacket.qt.cards.base import choice_box
from jacket.qt.cards.stage import StageCard
from jacket.qt.cards.tool import AXES
from jacket.qt.fields import NumberField
from jacket.stages.topology.values import TopologyValues

AIMS = (("number", "a number of quads"), ("edge", "a length of edges"), ("gap", "a largest gap"))


class TrialsCard(StageCard):
    """What trials are made with."""

    name, heading = "topology trials", "Trials"
    watches = frozenset({"values"})

    def fill(self) -> None:
        desk, v = self.desk, TopologyValues
        self.row("Aim at", desk.choose(v, "aim", "Aim at", AIMS))
        aim = desk.program.values(v).aim
        if aim == "edge":
            desk.number(self, "Length of edges", v, "edge", 1e-9, 1e9, "u", whole=False)
        elif aim == "gap":
            desk.number(self, "Largest gap", v, "gap", 0.01, 20, "%", whole=False)
        else:
            desk.number(self, "Quads wanted", v, "quads", 12, 200_000)
        desk.number(self, "Keep sharp over", v, "sharp", 1, 180, "°", whole=False)
        desk.number(self, "Creases from", v, "shortest", 0, 1000, "quads", whole=False)
        desk.number(self, "Closer in bends", v, "form", 0, 100, "%", whole=False)
        desk.number(self, "Rows that close", v, "rows", 0, 100, "%", whole=False)
        self.row("Row across the mirror", desk.switch(v, "across", "Row across the mirror"))
        self.row("Skin over torn scans", desk.switch(v, "skin", "Skin over torn scans"))
        desk.action(self, "make-trial", main=True)
        desk.action(self, "redo-part", hide=True)
        desk.action(self, "unwind-rows", hide=True)
        desk.action(self, "clear-guides", hide=True)
        desk.action(self, "clear-paint", hide=True)

    def key(self) -> object:
        return self.desk.program.values(TopologyValues).aim


class LayersCard(StageCard):
    """What can be done with layers."""

    name, heading = "topology layers", "Layers"

    def fill(self) -> None:
        desk = self.desk
        desk.pictograms(self, ("add-layer", "copy-layer", "split-layer", "join-layers", "rename-layer", "rename-layers",
                               "lock-layer", "layer-up", "layer-down", "mirror-layer-x", "mirror-layer-y", "mirror-layer-z",
                               "remove-layer"))  # fmt: skip
        self.beside(desk.small("radial-layer", "Repeat round"), desk.choose(TopologyValues, "copy_axis", "Axis", AXES),
                    desk.field(TopologyValues, "copies", "Copies", 2, 360, "×"))  # fmt: skip
        self.beside(desk.small("relax-all", "Relax all of it"), desk.small("remove-held", "Remove held"))


class ShowCard(StageCard):
    """How the jacket is shown."""

    name, heading = "topology show", "Show"
    watches = frozenset({"display"})

    def fill(self) -> None:
        program = self.desk.program
        push = NumberField(program.display.push, 0, 20, "%", whole=False)
        push.setAccessibleName("Pushed out")
        push.changed.connect(lambda v: program.show(replace(program.display, push=v)))
        self.row("Pushed out by", push)
        rounds = (("0", "off"), ("1", "1 round"), ("2", "2 rounds"), ("3", "3 rounds"))
        self.row("Smoothed preview", choice_box("Smoothed", rounds, str(program.display.smooth),
                                                lambda v: program.show(replace(program.display, smooth=int(v)))))  # fmt: skip
        for name, label in (("through", "Seen through the source"), ("solid", "Faces"), ("backs", "Faces turned away"),
                            ("lifted", "Lifted points"), ("uncovered", "What is not covered"),
                            ("outline", "Outline against the source")):  # fmt: skip
            self.desk.shown_switch(self, name, label)
        self.desk.shown_switch(self, "rings", "Rings in colours")

    def key(self) -> object:
        return replace(self.desk.program.display, cut_share=0.5, heat=None)


CARDS = (TrialsCard, LayersCard, ShowCard)
