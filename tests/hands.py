"""A hand for tests: pointer and key actions on tools over a source, counted."""

from __future__ import annotations

import itertools
from collections.abc import Iterable
from typing import Any

import numpy as np

from jacket.core.mesh.polymesh import PolyMesh
from jacket.document.document import Document
from jacket.document.state import JacketObject, SourceObject, State
from jacket.tools.base import Tool, ToolSettings
from jacket.tools.events import Pointer
from jacket.tools.view import FormCamera
from tests.conftest import grid


def document_over(source: PolyMesh, jacket: PolyMesh | None = None, mirror: str = "") -> Document:
    """A document with one source and one jacket, empty unless given."""
    mesh = PolyMesh.empty() if jacket is None else jacket
    return Document(
        State((SourceObject(1, "s", source),), (JacketObject(2, "j", mesh),), active=2, mirror=mirror, next_id=3)
    )


def tube(radius: float = 1.0, height: float = 4.0, around: int = 96, along: int = 60) -> PolyMesh:
    """An open cylinder of triangles about the y axis."""
    u = np.tile(np.arange(around), along + 1) * 2 * np.pi / around
    y = np.repeat(np.linspace(-height / 2, height / 2, along + 1), around)
    points = np.stack([radius * np.cos(u), y, -radius * np.sin(u)], axis=1)
    k = np.arange(around * along)
    i, j = k % around, k // around
    a, b = j * around + i, j * around + (i + 1) % around
    c, d = a + around, b + around
    return PolyMesh.from_faces(points, np.concatenate([np.stack([a, b, d], 1), np.stack([a, d, c], 1)]))


class Hand:
    """Drives a tool as a view would; `actions` counts clicks, drags, keys and turns of the wheel."""

    def __init__(self, document: Document, kind: type[Tool], camera: FormCamera, **settings: Any) -> None:
        self.document, self.camera = document, camera
        self.tool = kind(document, ToolSettings(**settings))
        self.actions = 0

    @property
    def mesh(self) -> PolyMesh:
        return self.document.require_jacket().mesh

    def at(self, place: Any, **keys: bool) -> Pointer:
        """A pointer over a place of the space (3,), or at pixels (2,)."""
        place = np.asarray(place, float)
        x, y = self.camera.project(place)[0, :2] if len(place) == 3 else place
        return Pointer(float(x), float(y), form=self.camera, **keys)

    def hover(self, place: Any, **keys: bool) -> None:
        self.tool.hover(self.at(place, **keys))

    def click(self, place: Any, **keys: bool) -> None:
        self.actions += 1
        pointer = self.at(place, **keys)
        self.tool.hover(pointer)
        self.tool.press(pointer)
        self.tool.release(pointer)

    def drag(self, path: Iterable[Any], steps: int = 12, **keys: bool) -> None:
        """Along straight pieces between places, seen on the screen."""
        self.actions += 1
        stops = [self.at(p, **keys) for p in path]
        self.tool.hover(stops[0])
        self.tool.press(stops[0])
        for a, b in itertools.pairwise(stops):
            for t in np.linspace(0, 1, steps + 1)[1:]:
                self.tool.move(
                    Pointer(float(a.x + t * (b.x - a.x)), float(a.y + t * (b.y - a.y)), form=self.camera, **keys)
                )
        self.tool.release(stops[-1])

    def wheel(self, steps: float) -> None:
        self.actions += 1
        self.tool.wheel(steps)

    def enter(self) -> None:
        self.actions += 1
        self.tool.accept()

    def space(self) -> None:
        self.actions += 1
        self.tool.step()

    def backspace(self, place: Any) -> None:
        self.actions += 1
        self.tool.remove(self.at(place))


# ---- without a Hand: a tool over a flat source, seen straight on ----

STRAIGHT_ON = FormCamera(np.array([0.0, 0.0, 0.0]), 6.0, yaw=0, pitch=0, width=800, height=800)


def sheet_document(n: int = 6, mirror: str = "") -> Document:
    """An n × n grid about the origin over a flat source, seen straight on."""
    points = grid(n).points - [n / 2, n / 2, 0]
    jacket = grid(n).with_points(points * 0.3)
    ground = grid(20)
    source = PolyMesh.from_faces((ground.points - [10, 10, 0]) * 0.2, ground.triangle_points)
    return Document(
        State((SourceObject(1, "s", source),), (JacketObject(2, "j", jacket),), active=2, mirror=mirror, next_id=3)
    )


def at(x: float, y: float, **keys: bool) -> Pointer:
    """A pointer over a place of the plane z = 0, seen straight on."""
    px, py, _ = STRAIGHT_ON.project(np.array([x, y, 0.0]))[0]
    return Pointer(float(px), float(py), form=STRAIGHT_ON, **keys)


def click(tool, x: float, y: float, **keys: bool) -> None:  # type: ignore[no-untyped-def]
    tool.hover(at(x, y, **keys))
    tool.press(at(x, y, **keys))
    tool.release(at(x, y, **keys))


def drag(tool, start: tuple[float, float], end: tuple[float, float], **keys: bool) -> None:  # type: ignore[no-untyped-def]
    tool.hover(at(*start, **keys))
    tool.press(at(*start, **keys))
    for t in (0.3, 0.7, 1.0):
        tool.move(at(start[0] + t * (end[0] - start[0]), start[1] + t * (end[1] - start[1]), **keys))
    tool.release(at(*end, **keys))


def mesh_of(document: Document) -> PolyMesh:
    return document.require_jacket().mesh
