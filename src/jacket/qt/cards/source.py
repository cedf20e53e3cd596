"""The cards of the Source stage: opening, what the source is, putting right, placing, looking."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QSlider

from jacket.core.derive import known_health
from jacket.core.source.health import Health
from jacket.document.state import SourceObject
from jacket.jobs.mend import HOLE_SHARE, WELD_SHARE, fitting_length
from jacket.qt.cards.base import Card, Desk, choice_box, soft
from jacket.qt.cards.stage import StageCard
from jacket.qt.fields import NumberField
from jacket.stages.source.values import SourceValues

SHOWN_UNITS = {"u": 1.0, "m": 1.0, "cm": 100.0, "mm": 1000.0, "in": 1 / 0.0254}
"""Units in which sizes are shown; u is the bare number, the others take a unit of the source for a metre."""
UNIT_NAMES = (("u", "plain numbers"), ("m", "metres"), ("cm", "centimetres"), ("mm", "millimetres"), ("in", "inches"))

SHADES = (("smooth", "Smooth"), ("facets", "Faceted"), ("clay", "Clay with hollows"), ("colours", "Its own colours"),
          ("picture", "Its own picture"))  # fmt: skip


def short(value: float) -> str:
    """A length in about four digits, large ones without an exponent."""
    return f"{value:,.0f}" if abs(value) >= 1000 else f"{value:.4g}"


class OpenCard(StageCard):
    """Opening sources and projects."""

    name, heading = "source open", "Source"

    def fill(self) -> None:
        desk = self.desk
        desk.action(self, "open-source", main=True)
        line = QHBoxLayout()
        for command_id, text in (("open-project", "Open a project…"), ("frame-all", "Frame all")):
            line.addWidget(desk.tie(QPushButton(text), command_id))
        self.column.addLayout(line)
        for path in [p for p in desk.program.settings.recent if Path(p).exists()][:3]:
            link = QPushButton(f"Open {Path(path).name}")
            link.setObjectName("link")
            link.setToolTip(path)
            link.clicked.connect(partial(self.open_wanted.emit, path))
            self.column.addWidget(link)


class HealthCard(StageCard):
    """What the source is; filled once it has been examined."""

    name, heading = "source health", "What it is"
    watches = frozenset({"sources", "active_source", "values", "checked"})

    def fill(self) -> None:
        source = self.desk.program.document.state.chosen_source
        health = known_health(source.mesh) if source is not None else None
        self.right.setText("")
        if source is None or health is None:
            self.column.addWidget(soft("Not looked at yet."))
            return
        self.right.setText(source.name if len(source.name) < 22 else source.name[:20] + "…")
        self._figures(source, health)
        self.desk.action(self, "count-crossings")
        if source.locked:
            self.column.addWidget(soft("Locked: it is not mended or moved."))

    def key(self) -> object:
        source = self.desk.program.document.state.chosen_source
        if source is None:
            return None
        return (source.id, source.name, source.locked, known_health(source.mesh) is not None, source.mesh.aspect("points"),
                source.mesh.aspect("faces"), self.desk.program.values(SourceValues).shown_unit)  # fmt: skip

    def _figures(self, source: SourceObject, health: Health) -> None:
        unit = self.desk.program.values(SourceValues).shown_unit
        scale = SHOWN_UNITS.get(unit, 1.0)
        self.row("Triangles", f"{health.triangles:,}")
        self.row("Points", f"{health.points:,}")
        self.row("Size", " × ".join(short(v * scale) for v in health.size))
        self.row("Shown in", self.desk.choose(SourceValues, "shown_unit", "Shown in", UNIT_NAMES))
        mark = "" if unit == "u" else f" {unit}"
        self.row("Area", f"{health.area * scale**2:.4g}{mark}²" if mark else f"{health.area:.4g} u²")
        self.row("Volume", f"{health.volume * scale**3:.4g}{mark or ' u'}³" if health.volume is not None else "open")
        self.row("Seems to stand", f"along {health.up.upper()}" if health.up else "on nothing flat")
        if health.borders:
            self.row("Longest holes", " · ".join(short(p * scale) for p in health.border_perimeters[:3]) + mark)
        if health.parts > 1:
            tail = " …" if health.parts > 3 else ""
            self.row("Faces by part", " · ".join(f"{n:,}" for n in health.part_faces[:3]) + tail)
        if health.materials or health.groups:
            self.row("Materials, groups", f"{health.materials} · {health.groups}")
        for reason in health.left_out[:2]:
            self.column.addWidget(soft(reason[:1].upper() + reason[1:]))


def _command_row(desk: Desk, card: Card, command_id: str, text: str, field: NumberField | None = None) -> None:
    line = QHBoxLayout()
    line.setSpacing(6)
    line.addWidget(desk.tie(QPushButton(text), command_id), 1)
    if field is not None:
        line.addWidget(field)
    card.column.addLayout(line)


class MendCard(StageCard):
    """Putting right: each button works the mend out and shows it before it is done."""

    name, heading = "source mend", "Put right"
    watches = frozenset({"sources", "active_source"})

    def fill(self) -> None:
        desk, v = self.desk, SourceValues
        hole = desk.field(v, "hole", "Longest border", 0, 1e12, "u", whole=False)
        weld = desk.field(v, "weld", "Distance", 0, 1e12, "u", whole=False)
        rows: tuple[tuple[str, str, NumberField | None], ...] = (
            ("close-holes", "Close holes up to", hole),
            ("keep-largest", "Keep the largest", desk.field(v, "keep", "Parts", 1, 1e6)),
            ("drop-repeats", "Drop repeated and flat faces", None),
            ("turn-outward", "Turn faces outward", None),
            ("split-nonmanifold", "Split what is not manifold", None),
            ("weld-points", "Weld points within", weld),
            ("smooth-noise", "Smooth noise", desk.field(v, "rounds", "Rounds", 1, 100, "rounds")),
            ("reduce", "Reduce to", desk.field(v, "reduce", "Triangles", 4, 1e9)),
        )
        for command_id, text, field in rows:
            _command_row(desk, self, command_id, text, field)
        self.column.addWidget(soft("Each is shown first; Enter does it."))
        # Lengths that were not typed fit the source that is worked on now.
        source, values = desk.program.document.state.chosen_source, desk.program.values(v)
        if source is not None:
            hole.set_value(fitting_length(values.hole, source.mesh, HOLE_SHARE))
            weld.set_value(fitting_length(values.weld, source.mesh, WELD_SHARE))

    def key(self) -> object:
        source = self.desk.program.document.state.chosen_source
        return (source.id, source.mesh.diagonal) if source is not None else None


class PlaceCard(StageCard):
    """Setting upright and to size."""

    name, heading = "source place", "Place"

    def fill(self) -> None:
        desk = self.desk
        _command_row(desk, self, "scale-factor", "Scale by",
                     desk.field(SourceValues, "factor", "Factor", 1e-9, 1e9, "×", whole=False))  # fmt: skip
        for command_id, text, name, options in (
            ("from-unit", "Read as", "unit", [(u, u) for u in ("millimetres", "centimetres", "inches", "feet")]),
            ("up-axis", "Up is", "up", [("z", "Z"), ("-z", "−Z"), ("y", "Y"), ("-y", "−Y"), ("x", "X"), ("-x", "−X")]),
        ):
            line = QHBoxLayout()
            line.setSpacing(6)
            box = desk.choose(SourceValues, name, text, options)
            box.setFixedWidth(112)
            line.addWidget(desk.tie(QPushButton(text), command_id), 1)
            line.addWidget(box)
            self.column.addLayout(line)
        desk.action(self, "stand-flat")
        for pair in ((("to-ground", "On the ground"), ("centre", "Centre")), (("freeze", "Freeze"), ("back-to-file", "As it came"))):
            line = QHBoxLayout()
            line.setSpacing(6)
            for command_id, text in pair:
                line.addWidget(desk.tie(QPushButton(text), command_id), 1)
            self.column.addLayout(line)


class LookCard(StageCard):
    """Shading, cutting away, the mirror difference."""

    name, heading = "source look", "Look"
    watches = frozenset({"display"})

    def fill(self) -> None:
        program, display = self.desk.program, self.desk.program.display
        self.row("Shading", choice_box("Shading", SHADES, display.shade, lambda v: program.show(replace(program.display, shade=v))))
        axes = (("", "nothing"), ("x", "along X"), ("y", "along Y"), ("z", "along Z"))
        self.row("Cut away", choice_box("Cut away along", axes, display.cut_axis,
                                        lambda v: program.show(replace(program.display, cut_axis=v))))  # fmt: skip
        if display.cut_axis:
            slider = QSlider(Qt.Orientation.Horizontal)
            slider.setAccessibleName("Where to cut")
            slider.setRange(0, 1000)
            slider.setValue(int(1000 * display.cut_share))
            slider.valueChanged.connect(lambda v: program.show(replace(program.display, cut_share=v / 1000)))
            self.column.addWidget(slider)
        planes = [("", "off"), ("x", "X plane"), ("y", "Y plane"), ("z", "Z plane")]
        if program.mirror_plane is not None:
            planes.append(("found", "plane found"))
        self.row("Mirror difference", choice_box("Mirror difference", planes, self._plane(),
                                                 lambda v: self.desk.guarded(lambda: program.measure_mirror(v))))  # fmt: skip
        if display.heat is not None:
            self.row("Oxblood is", f"{display.heat.reach:.2f} % and more")
        self.desk.action(self, "find-mirror")
        if program.mirror_plane is not None:
            self.desk.action(self, "mirror-to-x")

    def key(self) -> object:
        # The place of the cut is in the slider already; filling it anew would take it from under the pointer.
        return replace(self.desk.program.display, cut_share=0.5)

    def _plane(self) -> str:
        heat = self.desk.program.display.heat
        if heat is None or heat.plane is None:
            return ""
        at = heat.plane
        axis = [k for k in range(3) if abs(at.normal[k]) == 1.0 and at.offset == 0]
        return "xyz"[axis[0]] if axis else "found"


CARDS = (OpenCard, HealthCard, MendCard, PlaceCard, LookCard)
