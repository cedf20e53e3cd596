"""The cards of the Source stage: what the source is, what is proposed, putting right, placing, looking."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QPushButton, QSlider

from jacket.core.source.health import Health
from jacket.document.state import SourceObject
from jacket.qt.fields import NumberField
from jacket.stages.source.mending import HOLE_SHARE, WELD_SHARE, Proposal, fitting_length
from jacket.stages.source.tools.surveying import Gauge

if TYPE_CHECKING:
    from jacket.qt.cards.panel import Card, Panel
    from jacket.qt.scene.scenes import Display

SHOWN_UNITS = {"u": 1.0, "m": 1.0, "cm": 100.0, "mm": 1000.0, "in": 1 / 0.0254}
"""Units in which sizes are shown; u is the bare number, the others take a unit of the source for a metre."""

SHADES = (("smooth", "Smooth"), ("facets", "Faceted"), ("clay", "Clay with hollows"), ("colours", "Its own colours"),
          ("picture", "Its own picture"))  # fmt: skip


def soft(text: str) -> QLabel:
    """A wrapped line of small print."""
    label = QLabel(text)
    label.setObjectName("soft")
    label.setWordWrap(True)
    return label


def short(value: float) -> str:
    """A length in about four digits, large ones without an exponent."""
    return f"{value:,.0f}" if abs(value) >= 1000 else f"{value:.4g}"


def open_card(panel: Panel, card: Card) -> None:
    """Opening sources and projects."""
    card.title.setText("Source")
    panel.action(card, "open-source", main=True)
    line = QHBoxLayout()
    for command_id, text in (("open-project", "Open a project…"), ("frame-all", "Frame all")):
        button = QPushButton(text)
        button.clicked.connect(lambda _=False, c=command_id: panel.command_wanted.emit(c))
        line.addWidget(button)
    card.column.addLayout(line)
    for path in [p for p in panel.settings.recent if Path(p).exists()][:3]:
        link = QPushButton(f"Open {Path(path).name}")
        link.setObjectName("link")
        link.setToolTip(path)
        link.clicked.connect(lambda _=False, p=path: panel.open_wanted.emit(p))
        card.column.addWidget(link)


def health_card(panel: Panel, card: Card) -> None:
    """What the source is; filled once it has been examined."""
    card.title.setText("What it is")
    panel.health_card = card
    card.column.addWidget(soft("Not looked at yet."))


def fill_health(panel: Panel, card: Card, source: SourceObject, health: Health) -> None:
    """Sizes and counts of a source."""
    card.clear()
    unit = str(panel.values.get("shown_unit", "u"))
    scale = SHOWN_UNITS[unit]
    card.right.setText(source.name if len(source.name) < 22 else source.name[:20] + "…")
    card.row("Triangles", f"{health.triangles:,}")
    card.row("Points", f"{health.points:,}")
    card.row("Size", " × ".join(short(v * scale) for v in health.size))
    box = QComboBox()
    box.addItems(["plain numbers", "metres", "centimetres", "millimetres", "inches"])
    box.setCurrentIndex(list(SHOWN_UNITS).index(unit))
    box.activated.connect(lambda k: panel.value_changed.emit("shown_unit", list(SHOWN_UNITS)[k]))
    card.row("Shown in", box)
    mark = "" if unit == "u" else f" {unit}"
    card.row("Area", f"{health.area * scale**2:.4g}{mark}²" if mark else f"{health.area:.4g} u²")
    card.row("Volume", f"{health.volume * scale**3:.4g}{mark or ' u'}³" if health.volume is not None else "open")
    card.row("Seems to stand", f"along {health.up.upper()}" if health.up else "on nothing flat")
    if health.borders:
        card.row("Longest holes", " · ".join(short(p * scale) for p in health.border_perimeters[:3]) + mark)
    if health.parts > 1:
        card.row(
            "Faces by part", " · ".join(f"{n:,}" for n in health.part_faces[:3]) + (" …" if health.parts > 3 else "")
        )
    if health.materials or health.groups:
        card.row("Materials, groups", f"{health.materials} · {health.groups}")
    for reason in health.left_out[:2]:
        card.column.addWidget(soft(reason[:1].upper() + reason[1:]))
    panel.action(card, "count-crossings")
    if source.locked:
        card.column.addWidget(soft("Locked: it is not mended or moved."))


def _mend_row(panel: Panel, card: Card, command_id: str, text: str, field: NumberField | None = None) -> None:
    line = QHBoxLayout()
    line.setSpacing(6)
    button = QPushButton(text)
    button.clicked.connect(lambda: panel.command_wanted.emit(command_id))
    panel.buttons[command_id] = button
    line.addWidget(button, 1)
    if field is not None:
        line.addWidget(field)
    card.column.addLayout(line)


def _field(
    panel: Panel, name: str, label: str, value: float, low: float, high: float, unit: str = "", whole: bool = True
) -> NumberField:
    field = NumberField(value, low, high, unit, whole)
    field.setAccessibleName(label)
    field.changed.connect(lambda v: panel.value_changed.emit(name, v))
    return field


def mend_card(panel: Panel, card: Card) -> None:
    """Putting right: each button works the mend out and shows it before it is done."""
    card.title.setText("Put right")
    values = panel.values
    hole, weld = (float(values[k]) for k in ("hole", "weld"))
    rows: list[tuple[str, str, NumberField | None]] = [
        ("close-holes", "Close holes up to", _field(panel, "hole", "Longest border", hole, 0, 1e12, "u", whole=False)),
        ("keep-largest", "Keep the largest", _field(panel, "keep", "Parts", float(values["keep"]), 1, 1e6)),
        ("drop-repeats", "Drop repeated and flat faces", None),
        ("turn-outward", "Turn faces outward", None),
        ("split-nonmanifold", "Split what is not manifold", None),
        ("weld-points", "Weld points within", _field(panel, "weld", "Distance", weld, 0, 1e12, "u", whole=False)),
        ("smooth-noise", "Smooth noise", _field(panel, "rounds", "Rounds", float(values["rounds"]), 1, 100, "rounds")),
        ("reduce", "Reduce to", _field(panel, "reduce", "Triangles", float(values["reduce"]), 4, 1e9)),
    ]
    for command_id, text, field in rows:
        _mend_row(panel, card, command_id, text, field)
    card.column.addWidget(soft("Each is shown first; Enter does it."))
    panel.lengths = {"hole": (HOLE_SHARE, rows[0][2]), "weld": (WELD_SHARE, rows[5][2])}
    fill_lengths(panel)


def fill_lengths(panel: Panel) -> None:
    """Lengths that were not typed, for the source that is worked on now."""
    source = panel.document.state.chosen_source
    for name, (share, field) in panel.lengths.items():
        if field is not None and source is not None:
            field.set_value(fitting_length(float(panel.values[name]), source.mesh, share))


def place_card(panel: Panel, card: Card) -> None:
    """Setting upright and to size."""
    card.title.setText("Place")
    values = panel.values
    _mend_row(
        panel,
        card,
        "scale-factor",
        "Scale by",
        _field(panel, "factor", "Factor", float(values["factor"]), 1e-9, 1e9, "×", whole=False),
    )
    for command_id, text, name, options in (
        ("from-unit", "Read as", "unit", [(u, u) for u in ("millimetres", "centimetres", "inches", "feet")]),
        ("up-axis", "Up is", "up", [("z", "Z"), ("-z", "−Z"), ("y", "Y"), ("-y", "−Y"), ("x", "X"), ("-x", "−X")]),
    ):
        line = QHBoxLayout()
        line.setSpacing(6)
        button = QPushButton(text)
        button.clicked.connect(lambda _=False, c=command_id: panel.command_wanted.emit(c))
        panel.buttons[command_id] = button
        box = QComboBox()
        box.setAccessibleName(text)
        for value, shown in options:
            box.addItem(shown, value)
        box.setCurrentIndex(max(0, [o[0] for o in options].index(str(values[name]))))
        box.activated.connect(lambda k, n=name, o=options: panel.value_changed.emit(n, o[k][0]))
        box.setFixedWidth(112)
        line.addWidget(button, 1)
        line.addWidget(box)
        card.column.addLayout(line)
    panel.action(card, "stand-flat")
    pairs = (
        (("to-ground", "On the ground"), ("centre", "Centre")),
        (("freeze", "Freeze"), ("back-to-file", "As it came")),
    )
    for pair in pairs:
        line = QHBoxLayout()
        line.setSpacing(6)
        for command_id, text in pair:
            button = QPushButton(text)
            button.setToolTip(panel.commands[command_id].label)
            button.clicked.connect(lambda _=False, c=command_id: panel.command_wanted.emit(c))
            panel.buttons[command_id] = button
            line.addWidget(button, 1)
        card.column.addLayout(line)


def look_card(panel: Panel, card: Card) -> None:
    """Shading, cutting away, the mirror difference."""
    card.title.setText("Look")
    panel.look_card = card
    fill_look(panel, card, panel.display, panel.mirror_plane)


def fill_look(panel: Panel, card: Card, display: Display | None, plane: Any) -> None:
    """The rows of the Look card for what is shown now."""
    card.clear()
    shade = QComboBox()
    shade.setAccessibleName("Shading")
    for _, text in SHADES:
        shade.addItem(text)
    names = [s[0] for s in SHADES]
    shade.setCurrentIndex(names.index(display.shade) if display is not None else 0)
    shade.activated.connect(lambda k: panel.look_changed.emit("shade", names[k]))
    card.row("Shading", shade)
    cut = QComboBox()
    cut.setAccessibleName("Cut away along")
    cut.addItems(["nothing", "along X", "along Y", "along Z"])
    cut.setCurrentIndex(["", "x", "y", "z"].index(display.cut_axis) if display is not None else 0)
    card.row("Cut away", cut)
    slider = QSlider(Qt.Orientation.Horizontal)
    slider.setAccessibleName("Where to cut")
    slider.setRange(0, 1000)
    slider.setValue(int(1000 * (display.cut_share if display is not None else 0.5)))
    slider.setVisible(bool(display is not None and display.cut_axis))
    slider.valueChanged.connect(lambda v: panel.look_changed.emit("cut_share", v / 1000))
    card.column.addWidget(slider)

    def cut_along(k: int) -> None:
        slider.setVisible(k > 0)
        panel.look_changed.emit("cut_axis", ["", "x", "y", "z"][k])

    cut.activated.connect(cut_along)
    mirror = QComboBox()
    mirror.setAccessibleName("Mirror difference")
    keys = ["", "x", "y", "z", *(["found"] if plane is not None else [])]
    mirror.addItems(["off", "X plane", "Y plane", "Z plane", *(["plane found"] if plane is not None else [])])
    heat = display.heat if display is not None else None
    now = 0
    if heat is not None and heat.plane is not None:
        at = heat.plane
        axis = [k for k in range(3) if at is not None and abs(at.normal[k]) == 1.0 and at.offset == 0]
        now = axis[0] + 1 if axis else len(keys) - 1
    mirror.setCurrentIndex(now)
    mirror.activated.connect(lambda k: panel.look_changed.emit("mirror", keys[k]))
    card.row("Mirror difference", mirror)
    if heat is not None:
        card.row("Oxblood is", f"{heat.reach:.2f} % and more")
    panel.action(card, "find-mirror")
    if plane is not None:
        panel.action(card, "mirror-to-x")


def fill_proposal(panel: Panel, card: Card, proposal: Proposal | None) -> None:
    """What is proposed, with its two answers."""
    card.clear()
    card.setVisible(proposal is not None)
    if proposal is None:
        return
    card.title.setText(proposal.name[:1].upper() + proposal.name[1:])
    text = QLabel(proposal.mend.said + ".")
    text.setWordWrap(True)
    card.column.addWidget(text)
    _answers(panel, card, (("take-proposal", "Do it", "main"), ("leave-proposal", "Leave it", "")))


def fill_changed(panel: Panel, card: Card, source: SourceObject | None) -> None:
    """A newer file on disk, with its two answers."""
    card.clear()
    card.setVisible(source is not None)
    if source is None:
        return
    card.title.setText("Newer on disk")
    text = QLabel(
        f"{Path(source.path).name} was saved again. Taking it keeps quads, seams and UVs and refits the jacket."
    )
    text.setWordWrap(True)
    card.column.addWidget(text)
    line = QHBoxLayout()
    take, leave = QPushButton("Take the new one"), QPushButton("Not this one")
    take.setObjectName("main")
    take.clicked.connect(lambda: panel.command_wanted.emit("take-new-file"))
    leave.clicked.connect(panel.new_file_left.emit)
    line.addWidget(take)
    line.addWidget(leave)
    card.column.addLayout(line)


def _answers(panel: Panel, card: Card, answers: tuple[tuple[str, str, str], ...]) -> None:
    line = QHBoxLayout()
    for command_id, text, name in answers:
        button = QPushButton(text)
        button.setObjectName(name)
        button.clicked.connect(lambda _=False, c=command_id: panel.command_wanted.emit(c))
        line.addWidget(button)
    card.column.addLayout(line)


def gauge_rows(panel: Panel, card: Card, tool: Gauge) -> None:
    """The measured distance and what it should be."""
    card.row("Measured", f"{tool.distance:.5g} u" if tool.whole else "two points")
    field = NumberField(tool.distance if tool.whole else 1.0, 1e-9, 1e9, "u", whole=False, lengths=True)
    field.setAccessibleName("Should be")
    field.setEnabled(tool.whole)
    field.setToolTip("A number, or a length such as 30 cm (taken as metres).")
    field.changed.connect(panel.gauge_wanted.emit)
    card.row("Should be", field)
