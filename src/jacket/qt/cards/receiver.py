"""What the receiver expects, with the fields to change a profile of one's own, and what goes out beside the faces."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial

from PySide6.QtWidgets import QLineEdit, QPushButton

from jacket.core.bake.maps import ALL_MAPS
from jacket.core.mesh.nodes import ORIGIN
from jacket.document.edits.nodes import drop_socket, put_level
from jacket.formats.deliver.profiles import FILES, Picture, Profile, faulty_in
from jacket.qt.cards.base import choice_box, soft, switch_box
from jacket.qt.cards.stage import StageCard
from jacket.qt.fields import NumberField
from jacket.settings.store import profile_dir
from jacket.stages.deliver.carrying import forms
from jacket.stages.deliver.handing import PIVOTS
from jacket.stages.deliver.receivers import change_profile, chosen_profile, own_file
from jacket.stages.deliver.values import DeliverValues

UNITS = {1.0: "metres", 100.0: "centimetres", 1000.0: "millimetres"}
CHOICES = (("up", "Up", (("y", "Y up"), ("z", "Z up"))), ("faces", "Faces", (("quads", "quads"), ("triangles", "triangles"))),
           ("green", "Green of normals", (("up", "up"), ("down", "down"))))  # fmt: skip
LIMITS = (("triangles", "Triangles at most"), ("islands", "Islands at most"), ("sheets", "Sheets at most"), ("density", "Pixels a unit at least"))
FILE_WORDS = {"obj": "OBJ", "glb": "GLB", "ply": "PLY", "stl": "STL", "usda": "USD text", "usdc": "USD binary", "usdz": "USD zipped",
              "layout": "layout pictures", "report": "report", "page": "page"}  # fmt: skip


class ReceiverCard(StageCard):
    """What the receiver expects; a profile of one's own is changed here."""

    name, heading = "deliver receiver", "Receiver"
    watches = frozenset({"values"})

    def fill(self) -> None:
        program = self.desk.program
        profile, own = chosen_profile(program), own_file(program)
        self.right.setText("one's own" if own is not None else "shipped")
        self.right.setToolTip(str(own) if own is not None else "")
        if own is None:
            for line in expectations(profile):
                self.column.addWidget(soft(line))
        else:
            self._fields(profile)
        for said in faulty_in(profile_dir()):
            self.column.addWidget(soft(f"✗ {said}"))
        self.desk.action(self, "own-profile", text="Make one of my own from it…")
        if own is not None:
            self.desk.action(self, "drop-profile", text="Put this one aside")

    def _fields(self, profile: Profile) -> None:
        self._text("Name", profile.label, lambda v: replace(profile, label=v or profile.label))
        for key, words, options in CHOICES:
            self.row(words, choice_box(words, options, getattr(profile, key), partial(self._chosen, profile, key)))
        scale = NumberField(profile.scale, 1e-6, 1e6, "", False)
        scale.setAccessibleName("Units a metre")
        scale.changed.connect(lambda v: self._change(replace(profile, scale=v)))
        self.row(f"Units a metre ({UNITS.get(profile.scale, 'own')})", scale)
        self.column.addWidget(soft("Files"))
        for kind in FILES:
            self.row(f"   {FILE_WORDS[kind]}", switch_box(FILE_WORDS[kind], kind in profile.files, partial(self._file, profile, kind)))
        self.column.addWidget(soft("Pictures: a name with {name} and {tile}, and what fills the channels: maps, one channel of a map (normal.r), or numbers"))
        for k, picture in enumerate(profile.pictures):
            self._picture(profile, k, picture)
        maps = [("", "Add a picture…"), *((m, ALL_MAPS[m].label) for m in ALL_MAPS)]
        self.column.addWidget(choice_box("Add a picture", maps, "", partial(self._add, profile)))
        self.column.addWidget(soft("Limits, 0 for none"))
        for key, words in LIMITS:
            field = NumberField(float(getattr(profile.limits, key)), 0, 1e9, "", key != "density")
            field.setAccessibleName(words)
            field.changed.connect(lambda v, k=key: self._change(replace(profile, limits=replace(profile.limits, **{k: v if k == "density" else int(v)}))))
            self.row(words, field)

    def _text(self, label: str, text: str, made: Callable[[str], Profile]) -> QLineEdit:
        field = QLineEdit(text)
        field.setAccessibleName(label)
        field.editingFinished.connect(lambda: self._change(made(field.text().strip())) if field.text().strip() != text else None)
        self.row(label, field)
        return field

    def _picture(self, profile: Profile, k: int, picture: Picture) -> None:
        def put(new: Picture | None) -> None:
            rows = [*profile.pictures[:k], *([new] if new is not None else []), *profile.pictures[k + 1 :]]
            self._change(replace(profile, pictures=tuple(rows)))

        name, parts = QLineEdit(picture.name), QLineEdit(", ".join(picture.parts))
        name.setAccessibleName(f"Name of picture {k + 1}")
        parts.setAccessibleName(f"Channels of picture {k + 1}")

        def renamed() -> None:
            text = name.text().strip()
            if text != picture.name:
                put(replace(picture, name=text, bits=32 if text.endswith(".exr") else min(picture.bits, 16)))

        def filled() -> None:
            words = tuple(w.strip() for w in parts.text().split(",") if w.strip())
            if words != picture.parts:
                put(replace(picture, parts=words))

        name.editingFinished.connect(renamed)
        parts.editingFinished.connect(filled)
        away = QPushButton("×")
        away.setObjectName("row")
        away.setFixedSize(18, 20)
        away.setAccessibleName(f"Leave out picture {k + 1}")
        away.clicked.connect(lambda: put(None))
        self.beside(name, away)
        depths = [("32", "32 bits")] if picture.name.endswith(".exr") else [("8", "8 bits"), ("16", "16 bits")]
        self.beside(parts, choice_box(f"Bits of picture {k + 1}", depths, str(picture.bits), lambda v: put(replace(picture, bits=int(v)))))

    def _chosen(self, profile: Profile, key: str, value: str) -> None:
        self._change(replace(profile, **{key: value}))  # type: ignore[arg-type]

    def _file(self, profile: Profile, kind: str, on: bool) -> None:
        self._change(replace(profile, files=tuple(f for f in FILES if (f in profile.files and f != kind) or (on and f == kind))))

    def _add(self, profile: Profile, kind: str) -> None:
        if kind:
            picture = Picture(f"{{name}}{{tile}}-{kind}.png", (kind,))
            self._change(replace(profile, pictures=(*profile.pictures, picture)))

    def _change(self, profile: Profile) -> None:
        # A field that is left while the card is filled anew says its value once more.
        if profile != chosen_profile(self.desk.program):
            self.desk.guarded(lambda: change_profile(self.desk.program, profile))
            if profile != chosen_profile(self.desk.program):
                self.desk.refill_wanted.emit(self.name)  # refused: the fields show again what is

    def key(self) -> object:
        return chosen_profile(self.desk.program), own_file(self.desk.program), tuple(faulty_in(profile_dir()))


class NodesCard(StageCard):
    """What goes out beside the faces of the active layer: its pivot, its sockets, its place among levels of detail."""

    name, heading = "deliver nodes", "Pivot, levels, flat parts"
    watches = frozenset({"jackets", "active", "held"})
    waits = True

    def fill(self) -> None:
        desk, program = self.desk, self.desk.program
        state = program.document.state
        layer = state.jacket
        if layer is None:
            self.right.setText("no layer")
            return
        self.right.setText(state.going_names.get(layer.id, layer.name))
        x, y, z = layer.nodes.pivot
        self.row("Pivot", "at the origin" if layer.nodes.pivot == ORIGIN else f"{x:.3g}, {y:.3g}, {z:.3g}")
        desk.grid(self, tuple(PIVOTS.items()))
        for socket in layer.nodes.sockets:
            away = QPushButton("×")
            away.setObjectName("row")
            away.setFixedSize(18, 20)
            away.setAccessibleName(f"Take out {socket.name}")
            away.clicked.connect(partial(self._drop, layer.id, socket.name))
            x, y, z = socket.place
            self.beside(soft(f"{socket.name} · {x:.3g}, {y:.3g}, {z:.3g}", False), away)
        desk.action(self, "socket")
        desk.action(self, "curves-to-form", text="Curves from a drawing…")
        desk.action(self, "flat-parts")
        round_ = forms(state)
        if len(round_) > 1 or state.chosen_source is not None:
            if len(round_) > 1:
                self.row("Wrapped round", desk.choose(DeliverValues, "round", "Wrapped round", [(j.name, j.name) for j in round_]))
            desk.grid(self, (("wrap-layer", "Wrap the layer"), ("wrap-source", "Wrap the source")))
        finest = [j for j in state.jackets if j.id != layer.id and j.coarser_of < 0 and j.mesh.n_faces]
        if finest and not any(j.coarser_of == layer.id for j in state.jackets):
            rows = [("-1", "of nothing"), *((str(j.id), f"of {j.name}") for j in finest)]
            self.row("Coarser level", choice_box("Coarser level", rows, str(layer.coarser_of), partial(self._level, layer.id)))
        for k, level in enumerate(state.levels(layer.id)[1:], 1):
            self.row(f"Level {k}", f"{level.name} · {level.mesh.n_faces:,} faces")

    def _drop(self, layer_id: int, name: str) -> None:
        self.desk.guarded(lambda: drop_socket(self.desk.program.document, layer_id, name))

    def _level(self, layer_id: int, finest: str) -> None:
        self.desk.guarded(lambda: put_level(self.desk.program.document, layer_id, int(finest)))

    def key(self) -> object:
        state = self.desk.program.document.state
        rows = tuple((j.id, j.name, j.coarser_of, j.visible, j.mesh.n_faces) for j in state.jackets)
        return (state.active, state.jacket.nodes if state.jacket is not None else None, rows)


def expectations(profile: Profile) -> list[str]:
    """What a receiver expects, in plain lines."""
    unit = UNITS.get(profile.scale, f"{profile.scale:g} units a metre")
    rows = [f"{profile.up.upper()} up, {unit}, {profile.faces}; green of normals {profile.green}.", f"Files: {', '.join(profile.files)}."]
    if profile.pictures:
        rows.append("Maps: " + "; ".join(f"{' + '.join(p.parts)} in {p.bits} bits" for p in profile.pictures) + ".")
    return rows
