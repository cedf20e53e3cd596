"""The cards of the Deliver stage: how it is looked at, maps, cage, edges, the profile, what came back."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from pathlib import Path
from weakref import WeakKeyDictionary

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import Qt
from PySide6.QtGui import QIcon, QImage, QPixmap
from PySide6.QtWidgets import QDialog, QHBoxLayout, QLabel, QLineEdit, QPushButton, QVBoxLayout

from jacket.core.bake.maps import ALL_MAPS, MAPS, Baked
from jacket.core.mesh.shading import HARD
from jacket.formats.deliver.own import ROLES, stamp_of_file
from jacket.formats.deliver.profiles import profiles_in
from jacket.jobs.bake import WAYS
from jacket.jobs.taken import Views
from jacket.qt.cards.base import choice_box, soft, switch_box
from jacket.qt.cards.decals import DecalsCard
from jacket.qt.cards.receiver import NodesCard, ReceiverCard
from jacket.qt.cards.stage import StageCard
from jacket.qt.differing import DIFFERENCE
from jacket.qt.scene.lit import three
from jacket.render.skins import LAMPS
from jacket.settings.store import profile_dir
from jacket.stages.deliver.baking import is_stale, layers_and_sources
from jacket.stages.deliver.commands import last_delivery
from jacket.stages.deliver.receivers import chosen_profile
from jacket.stages.deliver.values import DeliverValues

SIZES = (("0", "as the sheet"), *((str(2**k), f"{2**k} px") for k in range(8, 14)))
SAMPLES = (("1", "1"), ("2", "4"), ("3", "9"), ("4", "16"))
THUMB = 30
WIDE = 204
MOST_GROUPS = 12
_THUMBS: WeakKeyDictionary[Baked, QPixmap] = WeakKeyDictionary()


def thumb(baked: Baked) -> QPixmap:
    """A map as a small picture, kept with it."""
    if baked not in _THUMBS:
        step = max(baked.pixels.shape[0] // (2 * THUMB), 1)
        some = three(Baked(baked.kind, baked.pixels[::step, ::step], baked.low, baked.high).eight())
        _THUMBS[baked] = picture_of(some).scaled(
            THUMB, THUMB, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation)  # fmt: skip
    return _THUMBS[baked]


class LookCard(StageCard):
    """What the form view shows: everything at work, or one map alone; and the light."""

    name, heading = "deliver look", "Looked at"
    watches = frozenset({"display", "baked", "jackets"})

    def fill(self) -> None:
        program = self.desk.program
        display = program.display
        self.desk.shown_switch(self, "lit", "As a game shows it")
        known = self._maps()
        options = [("", "all maps at work"), (DIFFERENCE, "degrees off the dense mesh"), *((k, ALL_MAPS[k].label) for k in known)]
        self.row("Shown", choice_box("Shown", options, display.map, lambda v: program.show(replace(program.display, lit=True, map=v))))
        lamps = [(k, x.label) for k, x in LAMPS.items()]
        self.row("Lamps", choice_box("Lamps", lamps, display.lamps, lambda v: program.show(replace(program.display, lit=True, lamps=v))))
        levels = [(str(k), "near" if k == 0 else f"mip level {k}") for k in range(7)]
        self.row("Seen from", choice_box("Seen from", levels, str(display.mip), lambda v: program.show(replace(program.display, lit=True, mip=int(v)))))
        self.desk.shown_switch(self, "apart", "Dense beside light, both whole")
        self.desk.shown_switch(self, "cage", "Cage as glass")

    def key(self) -> object:
        display, baked = self.desk.program.display, self.desk.program.baked
        return (display.lit, display.map, display.lamps, display.cage, display.apart, display.mip, baked is not None, self._maps())

    def _maps(self) -> tuple[str, ...]:
        """What can be shown alone: baked maps, and those that pictures of one's own and decals make."""
        program = self.desk.program
        baked, layers = program.baked, program.document.state.looked_at
        made = tuple(baked.sheets[0].maps) if baked is not None and baked.sheets else ()
        laid = [r for j in layers for r in (*(role for role, _ in j.pictures), *(d.role for d in j.decals if d.shown))]
        return tuple(dict.fromkeys((*made, *laid)))


class MapsCard(StageCard):
    """The maps that are made, each with its picture and whether it is still true; and the button."""

    name, heading = "deliver maps", "Maps"
    watches = frozenset({"jackets", "sources", "sheets", "values", "baked", "work", "display"})
    waits = True

    def fill(self) -> None:
        desk, program = self.desk, self.desk.program
        values = program.values(DeliverValues)
        chosen = values.chosen_maps()
        stale = is_stale(program.baked, program.document.state, values)
        made = program.baked.sheets[0].maps if program.baked is not None and program.baked.sheets else {}
        if program.baked is not None and program.baked.sheets:
            size = program.baked.sheets[0].state.shape
            self.right.setText(f"{size[1]} px" if program.baked.whole else "baking…")
        else:
            self.right.setText("")
        for kind in chosen:
            self._map_row(kind, made.get(kind), stale)
        rest = [("", "Add a map…"), *((k, f"{m.label} · {m.about}") for k, m in MAPS.items() if k not in chosen)]
        if len(rest) > 1:
            self.column.addWidget(choice_box("Add a map", rest, "", self._add))
        self.row("Size", choice_box("Size", SIZES, str(values.map_size), lambda v: program.put(DeliverValues, "map_size", int(v))))
        self.row("Rays a texel", choice_box("Rays a texel", SAMPLES, str(values.samples), lambda v: program.put(DeliverValues, "samples", int(v))))
        if {"occlusion", "bent", "thickness"} & set(chosen):
            desk.number(self, "Rays a point", DeliverValues, "rays", 1, 4096)
        if {"occlusion", "bent"} & set(chosen):
            self.row("Ground below", desk.switch(DeliverValues, "ground", "Ground below"))
            self.row("Each source alone", desk.switch(DeliverValues, "alone", "Each source alone"))
        if {"occlusion", "bent"} & set(chosen):
            desk.number(self, "Reach, 0 for all", DeliverValues, "far", 0, 1000, "%", whole=False)
        if "thickness" in chosen:
            desk.number(self, "Thick up to", DeliverValues, "deep", 0.1, 1000, "%", whole=False)
        if {"curvature", "ridges", "hollows"} & set(chosen):
            desk.number(self, "Curvature over", DeliverValues, "width", 0, 20, "%", whole=False)
        if "light" in chosen:
            self.row("Light from", desk.choose(DeliverValues, "light_from", "Light from", [(w, w) for w in WAYS]))
        desk.number(self, "Padding", DeliverValues, "padding", -1, 8192, "px")
        self.row("Saved with the project", desk.switch(DeliverValues, "keep_maps", "Saved with the project"))
        desk.action(self, "bake", main=True, text="Bake again" if made and stale else "Bake the maps")

    def _map_row(self, kind: str, baked: Baked | None, stale: bool) -> None:
        program = self.desk.program
        row = QPushButton()
        row.setObjectName("chosen" if program.display.lit and program.display.map == kind else "row")
        row.setAccessibleName(MAPS[kind].label)
        row.setToolTip(MAPS[kind].about)
        row.setMinimumHeight(THUMB + 6)
        line = QHBoxLayout(row)
        line.setContentsMargins(4, 2, 2, 2)
        picture = QLabel()
        picture.setFixedSize(THUMB, THUMB)
        if baked is not None:
            picture.setPixmap(thumb(baked))
        line.addWidget(picture)
        line.addWidget(QLabel(MAPS[kind].label))
        line.addStretch(1)
        line.addWidget(soft(self._said(baked, stale), False))
        away = QPushButton("×")
        away.setObjectName("row")
        away.setFixedSize(18, 20)
        away.setAccessibleName(f"Leave out {MAPS[kind].label}")
        away.clicked.connect(lambda: program.put(DeliverValues, "maps", program.values(DeliverValues).with_map(kind, False)))
        line.addWidget(away)
        row.clicked.connect(partial(self._show, kind))
        self.column.addWidget(row)

    def _said(self, baked: Baked | None, stale: bool) -> str:
        whole = self.desk.program.baked is not None and self.desk.program.baked.whole
        return "not made" if baked is None else "baking…" if not whole else "stale" if stale else "made"

    def _show(self, kind: str) -> None:
        program = self.desk.program
        now = program.display
        program.show(replace(now, lit=True, map="" if now.map == kind and now.lit else kind))

    def _add(self, kind: str) -> None:
        program = self.desk.program
        if kind:
            program.put(DeliverValues, "maps", program.values(DeliverValues).with_map(kind, True))

    def key(self) -> object:
        program = self.desk.program
        values, state, baked = program.values(DeliverValues), program.document.state, program.baked
        shown = (program.display.lit, program.display.map)
        made = tuple(baked.sheets[0].maps.values()) if baked is not None and baked.sheets else ()
        return (values.maps, values.map_size, values.samples, made, baked is not None and baked.whole, is_stale(baked, state, values), shown)


class OwnCard(StageCard):
    """Pictures on disk that stand for something of the active layer in place of what is baked."""

    name, heading = "deliver own", "Own pictures"
    watches = frozenset({"jackets", "active"})
    waits = True

    def fill(self) -> None:
        desk, jacket = self.desk, self.desk.program.document.state.jacket
        pictures = dict(jacket.pictures) if jacket is not None else {}
        self.right.setText(f"{len(pictures)}" if pictures else "none")
        for role, path in pictures.items():
            gone = stamp_of_file(path) == (0, 0)
            self.row(ALL_MAPS[role].label, f"{Path(path).name}{' · is gone' if gone else ''}")
        desk.grid(self, tuple((f"own-{role}", f"{ALL_MAPS[role].label}…") for role in ROLES), 3)
        desk.action(self, "drop-own", hide=True)

    def key(self) -> object:
        jacket = self.desk.program.document.state.jacket
        return (jacket.id, jacket.pictures) if jacket is not None else None


class CageCard(StageCard):
    """How far rays go and which way, and where they failed."""

    name, heading = "deliver cage", "Cage"
    watches = frozenset({"baked", "values", "held", "jackets"})
    waits = True

    def fill(self) -> None:
        desk, program = self.desk, self.desk.program
        baked = program.baked
        desk.number(self, "Out, 0 by the gap", DeliverValues, "cage", 0, 100, "%", whole=False)
        desk.number(self, "In, 0 for as far", DeliverValues, "cage_in", 0, 100, "%", whole=False)
        self.row("By name only", desk.switch(DeliverValues, "by_name", "By name only"))
        _, sources = layers_and_sources(program.document.state)
        left = program.values(DeliverValues).without()
        for source in sources:
            if len(sources) > 1:
                self.row(f"Bake from {source.name}", switch_box(source.name, source.name not in left, partial(self._take, source.name)))
            # Groups of many names are left to the command line.
            for group in source.mesh.groups if 1 < len(source.mesh.groups) <= MOST_GROUPS else ():
                self.row(f"   group {group}", switch_box(group, group not in left, partial(self._take, group)))
        if len(sources) > 1:
            pairs = QLineEdit(program.values(DeliverValues).pairs)
            pairs.setAccessibleName("Pairs of names")
            pairs.setPlaceholderText("layer=source, layer=source")
            pairs.setToolTip("Layers that are baked from one source alone")
            pairs.editingFinished.connect(lambda: program.put(DeliverValues, "pairs", pairs.text().strip()))
            self.row("Pairs", pairs)
        desk.action(self, "dense-layer")
        if baked is not None and baked.whole and baked.sheets:
            for name, reach in baked.reach.items():
                self.row(f"{name} reached", f"{1000 * reach:.3g} mm")
            missed, behind = max(s.missed for s in baked.sheets), max(s.behind for s in baked.sheets)
            self.row("Rays that missed", f"{100 * missed:.2f} %")
            self.row("Met from behind", f"{100 * behind:.2f} %")
            desk.action(self, "hold-missed", hide=True)
        desk.grid(self, (("cage-further", "Further"), ("cage-nearer", "Nearer"), ("rays-straight", "Straight"), ("rays-averaged", "Averaged")))
        desk.action(self, "plain-cage", hide=True)

    def _take(self, name: str, on: bool) -> None:
        program = self.desk.program
        left = program.values(DeliverValues).without()
        names = [n for n in left if n != name] if on else [*left, name]
        program.put(DeliverValues, "left_out", ",".join(names))

    def key(self) -> object:
        program = self.desk.program
        baked, rows = program.baked, tuple(s.name for s in layers_and_sources(program.document.state)[1])
        return (baked if baked is not None and baked.whole else None, rows)


class EdgesCard(StageCard):
    """Which edges break the shading, for the maps and in every file."""

    name, heading = "deliver edges", "Hard edges"
    watches = frozenset({"jackets", "active", "held", "values"})
    waits = True

    def fill(self) -> None:
        desk, jacket = self.desk, self.desk.program.document.state.jacket
        count = len(jacket.mesh.mark(HARD)) if jacket is not None else 0
        self.right.setText(f"{count:,}" if count else "none")
        desk.number(self, "Harder than", DeliverValues, "hard_angle", 0, 180, "°", whole=False)
        desk.grid(self, (("hard-by-angle", "By angle"), ("hard-along-islands", "Along islands"), ("hard-held", "Held hard"), ("soft-held", "Held soft")))
        desk.action(self, "all-soft", hide=True)
        desk.number(self, "Support loops across", DeliverValues, "support", 1, 49, "%", whole=False)
        desk.action(self, "support-held")

    def key(self) -> object:
        jacket = self.desk.program.document.state.jacket
        return len(jacket.mesh.mark(HARD)) if jacket is not None else -1


class DeliverCard(StageCard):
    """To whom, what goes out, and the button."""

    name, heading = "deliver", "Delivery"
    watches = frozenset({"jackets", "sheets", "values", "baked", "path"})

    def fill(self) -> None:
        program = self.desk.program
        state = program.document.state
        known, profile = profiles_in(profile_dir()), chosen_profile(program)
        self.row("Receiver", self.desk.choose(DeliverValues, "profile", "Receiver", [(n, p.label) for n, p in known.items()]))
        for layer in state.outgoing:
            uv = f"UV set {layer.mesh.active_uv}" if layer.mesh.active_uv else "no UVs"
            self.row(layer.name, f"{layer.mesh.n_faces:,} faces · {uv}")
        dense = sum(j.visible and j.dense for j in state.jackets)
        if dense:
            self.column.addWidget(soft(f"{dense} dense layer{'s are' if dense > 1 else ' is'} baked from and stay{'' if dense > 1 else 's'} here."))
        rest = sum(not j.visible and j.mesh.n_faces > 0 for j in state.jackets)
        if rest:
            self.column.addWidget(soft(f"{rest} hidden layer{'s stay' if rest > 1 else ' stays'} here; show what is to go out."))
        lacking = [m for m in profile.maps if m != "colour" and (program.baked is None or program.baked.of(m) is None)]
        if lacking:
            self.column.addWidget(soft(f"Not baked yet, so not delivered: {', '.join(MAPS[m].label.lower() for m in lacking)}."))
        self.desk.action(self, "deliver", main=True)
        last = last_delivery(program)
        if last is not None:
            self.desk.action(self, "deliver-again").setToolTip(f"To {last.folder} as {last.stem}{', baking what is needed' if last.maps else ''}")

    def key(self) -> object:
        program = self.desk.program
        state = program.document.state
        rows = tuple((j.name, j.visible, j.mesh.n_faces, j.mesh.active_uv, j.dense) for j in state.jackets)
        return (rows, len(state.sheets), chosen_profile(program), program.baked, program.delivered, program.document.path)


class IntakeCard(StageCard):
    """What came back when the delivered files were read as the receiver reads them."""

    name, heading = "deliver intake", "Intake"
    watches = frozenset({"baked"})

    def fill(self) -> None:
        program = self.desk.program
        last = program.delivered
        taken = last.taken if last is not None else None
        self.right.setText("")
        if taken is None:
            self.column.addWidget(soft("Reads the delivered files back as a receiver does, and says what would go wrong there."))
        else:
            if taken.excess is not None:
                self.right.setText(f"{max(taken.excess, 0.0):.2f}° over the floor")
                self.row("Without maps", f"{taken.bare:.2f}°")
                self.row("As delivered", f"{taken.error:.2f}°")
                self.row("No map does better", f"{taken.floor:.2f}°")
            if taken.views is not None:
                self._views(taken.views)
            for f in sorted(taken.findings, key=lambda f: {"wrong": 0, "look": 1, "good": 2}[f.level]):
                line = soft(f"{'✓' if f.level == 'good' else '!' if f.level == 'look' else '✗'} {f.sentence}")
                self.column.addWidget(line)
        self.desk.action(self, "take-in", main=last is not None)

    def _views(self, views: Views) -> None:
        """Both from four sides, small; large after a click."""
        small = QPushButton()
        small.setObjectName("row")
        small.setAccessibleName("Dense, delivered, degrees apart")
        small.setToolTip("Dense, delivered, and degrees apart (white 0, red 20 and more); a click shows it large")
        whole = picture_of(views.picture)
        first = whole.copy(0, 0, whole.width(), whole.height() // 2).scaledToWidth(WIDE, Qt.TransformationMode.SmoothTransformation)
        small.setIcon(QIcon(first))
        small.setIconSize(first.size())
        small.setFixedHeight(first.height() + 14)
        small.clicked.connect(lambda: self._large(whole))
        self.column.addWidget(small)
        self.column.addWidget(soft("dense · delivered · degrees apart"))

    def _large(self, whole: QPixmap) -> None:
        self.box = QDialog(self.window())
        self.box.setWindowTitle("Dense, delivered, degrees apart (white 0, red 20)")
        column, label = QVBoxLayout(self.box), QLabel()
        label.setPixmap(whole.scaledToHeight(min(whole.height(), 760), Qt.TransformationMode.SmoothTransformation))
        column.addWidget(label)
        self.box.show()

    def key(self) -> object:
        return self.desk.program.delivered


def picture_of(pixels: NDArray[np.uint8]) -> QPixmap:
    """(H, W, 3) as a picture."""
    rows = np.ascontiguousarray(pixels)
    return QPixmap.fromImage(QImage(rows.data, rows.shape[1], rows.shape[0], 3 * rows.shape[1], QImage.Format.Format_RGB888).copy())


CARDS = (LookCard, MapsCard, DecalsCard, OwnCard, CageCard, EdgesCard, NodesCard, DeliverCard, ReceiverCard, IntakeCard)
