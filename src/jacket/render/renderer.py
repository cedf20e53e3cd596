"""Draws scenes: the base once a camera, the layers over it each time."""

from __future__ import annotations

import time
import weakref
from dataclasses import dataclass, replace
from typing import Any
from weakref import WeakKeyDictionary

import moderngl
import numpy as np
from numpy.typing import NDArray

from jacket.render.programs import Programs, put
from jacket.render.scene import Board, Layer, Scene
from jacket.render.skins import Skin
from jacket.render.surfaces import SHADES, Look, Span, Surface
from jacket.render.textures import Textures, decoded

SAMPLES = 0
"""Of each pixel; lines and dots soften their own edges, and under software rendering four samples double a frame."""


@dataclass(frozen=True, eq=False)
class _View:
    """Where the eye is and where the light comes from."""

    matrix: NDArray[np.float64]
    eye: NDArray[np.float64]
    size: tuple[int, int]
    lights: Any


class _Buffers:
    """A layer on the graphics side."""

    def __init__(self, context: Any, programs: Programs, corner: Any, layer: Layer) -> None:
        self.parts: list[tuple[Any, Any, int]] = []
        self.owned: list[Any] = []
        if len(layer.fill):
            data = context.buffer(np.ascontiguousarray(layer.fill, np.float32).tobytes())
            names = ("in_position", "in_normal", "in_colour", "in_uv", "in_share")
            array = context.vertex_array(programs.fill, [(data, "3f 3f 4f 2f 3f", *names)])
            self._keep(programs.fill, array, data, 0)
        if len(layer.lines):
            data = context.buffer(np.ascontiguousarray(layer.lines, np.float32).tobytes())
            array = context.vertex_array(
                programs.line,
                [(corner, "2f", "in_corner"), (data, "3f 3f 4f 1f/i", "in_from", "in_to", "in_colour", "in_width")],
            )
            self._keep(programs.line, array, data, len(layer.lines))
        if len(layer.dots):
            data = context.buffer(np.ascontiguousarray(layer.dots, np.float32).tobytes())
            array = context.vertex_array(
                programs.dot,
                [(corner, "2f", "in_corner"), (data, "3f 4f 1f/i", "in_position", "in_colour", "in_size")],
            )
            self._keep(programs.dot, array, data, len(layer.dots))

    def _keep(self, program: Any, array: Any, data: Any, instances: int) -> None:
        self.parts.append((program, array, instances))
        self.owned += [array, data]

    def release(self) -> None:
        """Give the memory back."""
        for thing in self.owned:
            thing.release()


class _Drawn:
    """A surface on the graphics side, sent there piece by piece."""

    def __init__(self, context: Any, programs: Programs, surface: Surface) -> None:
        self.context = context
        tints = surface.tints
        self.parts = [np.ascontiguousarray(a) for a in (surface.points, surface.packed, surface.index)]
        self.parts += [np.ascontiguousarray(a) for a in (tints, surface.places) if a is not None]
        self.buffers = [context.buffer(reserve=max(a.nbytes, 4)) for a in self.parts]
        self.sent = [0] * len(self.parts)
        content = [(self.buffers[0], "3f", "in_position"), (self.buffers[1], "4f1", "in_packed")]
        if tints is not None:
            content.append((self.buffers[3], "4f1", "in_tint"))
        if surface.places is not None:
            content.append((self.buffers[-1], "2f", "in_uv"))
        self.array = context.vertex_array(programs.surface, content, index_buffer=self.buffers[2])
        self.pictures: dict[bytes, Any] = {}

    def send(self, most: int) -> bool:
        """Send up to `most` bytes; whether everything is there."""
        for k, part in enumerate(self.parts):
            data = part.reshape(-1).view(np.uint8)
            while self.sent[k] < len(data) and most > 0:
                step = min(most, len(data) - self.sent[k])
                self.buffers[k].write(data[self.sent[k] : self.sent[k] + step].tobytes(), offset=self.sent[k])
                self.sent[k] += step
                most -= step
            if self.sent[k] < len(data):
                return False
        return True

    def picture(self, data: bytes) -> Any:
        """The picture of a material as a texture; a small grey one where it cannot be read."""
        if data not in self.pictures:
            size, pixels = decoded(data)
            texture = self.context.texture(size, 3, pixels, alignment=1)
            texture.build_mipmaps()
            texture.filter = moderngl.LINEAR_MIPMAP_LINEAR, moderngl.LINEAR
            self.pictures[data] = texture
        return self.pictures[data]

    def release(self) -> None:
        """Give the memory back."""
        for thing in [self.array, *self.buffers, *self.pictures.values()]:
            thing.release()


class _SkinBuffers:
    """A skin on the graphics side."""

    def __init__(self, context: Any, programs: Programs, skin: Skin) -> None:
        self.buffer = context.buffer(np.ascontiguousarray(skin.rows, np.float32).tobytes() or bytes(4))
        content = [(self.buffer, "3f 3f 4f 2f", "in_position", "in_normal", "in_tangent", "in_uv")]
        self.array = context.vertex_array(programs.skin, content)

    def release(self) -> None:
        """Give the memory back."""
        self.array.release()
        self.buffer.release()


def chosen_light(counts: list[int], rate: float, software: bool) -> int:
    """Which of the light copies (with these numbers of triangles, ascending) is drawn in motion: under software
    rendering the first, else the heaviest that the measured rate (triangles a second) draws in 12 ms."""
    best = 0
    for k, count in enumerate(counts):
        if not software and rate > 0 and count / rate < 0.012:
            best = k
    return best


class Renderer:
    """One context's drawing. `matrix` is world → clip; `eye` is where layers are pulled to."""

    def __init__(self, context: Any) -> None:
        self.context = context
        self.programs = Programs(context)
        self.corner = context.buffer(np.array([[0, 0], [1, 0], [0, 1], [1, 1]], "f4").tobytes())
        self.copier = context.vertex_array(self.programs.copy, [(self.corner, "2f", "in_corner")])
        self.buffers: WeakKeyDictionary[Any, Any] = WeakKeyDictionary()
        self.dead: list[Any] = []
        """Buffers whose surface or layer nobody keeps any more; they are given back at the end of the next frame, when
        the context is current."""
        self.textures = Textures(context, self.dead)
        self.size = (0, 0)
        self.base_key: tuple[Any, ...] | None = None
        self.coming_key: tuple[Any, ...] | None = None
        self.at = (0, 0)
        self.base: Any = None
        self.coming: Any = None
        self.work: Any = None
        self.flat: Any = None
        self.owned: list[Any] = []
        name = str(context.info.get("GL_RENDERER", "")).lower()
        self.software = any(word in name for word in ("llvmpipe", "softpipe", "swrast", "software"))
        self.rate = 1.2e6 if self.software else 50e6
        """Triangles a second, as last measured."""
        self.unfinished = False

    def draw(
        self, scene: Scene, matrix: NDArray[np.float64], eye: NDArray[np.float64], size: tuple[int, int],
        target: Any, moving: bool = False, rotation: NDArray[np.float64] | None = None, budget: float = 0.025,
    ) -> None:  # fmt: skip
        """Draw a scene into `target`, a framebuffer of `size` pixels. Where the base takes longer than `budget`
        seconds it is finished over the next calls; `unfinished` tells that there is more to come."""
        self._fit(size)
        view = _View(matrix, eye, size, _lights(rotation))
        self._draw_base(scene, replace(view, matrix=_base_matrix(scene, matrix)), moving, budget)
        self.context.copy_framebuffer(self.work, self.base)
        self.work.use()
        if scene.through:
            self.work.color_mask = False, False, False, False
            self.work.clear(depth=1.0)
            self.work.color_mask = True, True, True, True
            self.work.use()  # a mask counts from the next use on
        if scene.skins:
            self._draw_skins(scene, replace(view, matrix=_aside(matrix, -0.5)) if scene.apart else view)
        half = size[0] // 2
        apart = scene.apart and bool(scene.skins)
        if scene.beside or apart:
            self.work.scissor = 0, 0, half, size[1]
        over = _aside(matrix, -0.5) if apart else matrix
        for layer in scene.layers:
            self._draw_layer(layer, over, eye, size, view.lights)
        if scene.beside:
            self.work.scissor = half, 0, size[0] - half, size[1]
            for layer in scene.beside:
                self._draw_layer(layer, matrix, eye, size, view.lights)
            self.work.scissor = None
        self.work.scissor = None
        if self.flat is not self.work:
            self.context.copy_framebuffer(self.flat, self.work)
        target.use()
        self.context.disable(moderngl.DEPTH_TEST | moderngl.BLEND | moderngl.CULL_FACE)
        self.flat.color_attachments[0].use(0)
        self.copier.render(moderngl.TRIANGLE_STRIP)
        self._drop_dead()

    # ---- skins: the jacket as a game shows it ---------------------------------------------------------------
    def _draw_skins(self, scene: Scene, view: _View) -> None:
        context, program = self.context, self.programs.skin
        share = 0.5 if scene.apart else min(max(scene.wipe, 0.0), 1.0)
        self.work.scissor = 0, 0, max(round(share * view.size[0]), 1), view.size[1]
        self.work.clear(*scene.ground, 1.0, depth=1.0)
        self.work.use()
        context.disable(moderngl.BLEND)
        context.enable(moderngl.DEPTH_TEST)
        context.depth_func = "<="
        put(program, "u_matrix", np.ascontiguousarray(view.matrix.T, "f4").tobytes())
        put(program, "u_eye", tuple(float(x) for x in view.eye))
        for name, value in (scene.lamps.uniforms() if scene.lamps is not None else {}).items():
            put(program, name, value)
        for skin in scene.skins:
            array = self._skin(skin)
            pictures, there = skin.pictures, 0
            for unit, (name, pixels) in enumerate((("u_colour", pictures.colour), ("u_bumps", pictures.normal), ("u_surface", pictures.surface),
                                                   ("u_holes", pictures.opacity))):  # fmt: skip
                put(program, name, unit)
                if pixels is not None:
                    self.textures.of(pixels).use(unit)
                    there += 2**unit
            put(program, "u_has", there)
            put(program, "u_lit", int(skin.lit))
            put(program, "u_mip", float(scene.mip))
            put(program, "u_tint", skin.tint)
            array.array.render(moderngl.TRIANGLES)
        self.work.scissor = None

    def _skin(self, skin: Skin) -> _SkinBuffers:
        known: _SkinBuffers | None = self.buffers.get(skin)
        if known is None:
            known = _SkinBuffers(self.context, self.programs, skin)
            self._keep(skin, known)
        return known

    # ---- the base: sources, kept as a picture ----------------------------------------------------
    def _draw_base(self, scene: Scene, view: _View, moving: bool, budget: float) -> None:
        shown = (view.matrix.tobytes(), view.size, scene.ground, scene.look)
        key = (*shown, *map(weakref.ref, scene.base))
        self.unfinished = False
        if key == self.base_key:
            return
        light = self._light(scene)
        heavy = sum(s.triangles for s in scene.base) > 0.8 * budget * self.rate
        if not moving and not (heavy and light):
            self._clear(self.base, scene)
            for surface in scene.base:
                self._draw_surface(surface, view, scene.look)
            self.base_key = key
            return
        light_key = (*shown, *map(weakref.ref, light))
        if self.base_key != light_key:
            self._clear(self.base, scene)
            for surface in light:
                self._draw_surface(surface, view, scene.look)
            self.base_key = light_key
        if not moving:
            self.unfinished = not self._go_on(scene, view, key, budget)
        else:
            self.coming_key = None

    def shows(self, scene: Scene, matrix: NDArray[np.float64]) -> bool:
        """Whether the kept picture is the whole base of a scene from this camera."""
        shown = (_base_matrix(scene, matrix).tobytes(), self.size, scene.ground, scene.look)
        return self.base_key == (*shown, *map(weakref.ref, scene.base))

    def _light(self, scene: Scene) -> tuple[Surface, ...]:
        if not scene.lights:
            return scene.base
        counts = [sum(s.triangles for s in tier) for tier in scene.lights]
        return scene.lights[chosen_light(counts, self.rate, self.software)]

    def _clear(self, frame: Any, scene: Scene) -> None:
        frame.use()
        self.context.clear(*scene.ground, 1.0, depth=1.0)

    def _go_on(self, scene: Scene, view: _View, key: tuple[Any, ...], budget: float) -> bool:
        """Draw another piece of the base aside; whether it is whole now and has taken its place."""
        if key != self.coming_key:
            self._clear(self.coming, scene)
            self.coming_key, self.at = key, (0, 0)
        surface = scene.base[self.at[0]]
        start = time.perf_counter()
        drawn = self._drawn(surface)
        if not drawn.send(12_000_000):
            return False
        self.coming.use()
        step = max(3 * int(self.rate * budget * 0.8), 30_000)
        end = min(self.at[1] + step, len(surface.index))
        self._draw_surface(surface, view, scene.look, self.at[1], end)
        self.context.finish()
        self._measured((end - self.at[1]) // 3, time.perf_counter() - start)
        self.at = (self.at[0], end)
        if end == len(surface.index):
            self.at = (self.at[0] + 1, 0)
        if self.at[0] < len(scene.base):
            return False
        self.base, self.coming = self.coming, self.base
        self.base_key, self.coming_key = key, None
        return True

    def _measured(self, triangles: int, seconds: float) -> None:
        if triangles >= 10_000:
            now = triangles / max(seconds, 1e-6)
            self.rate = float(np.clip(0.5 * self.rate + 0.5 * now, 2e5, 2e9))

    def _drawn(self, surface: Surface) -> _Drawn:
        drawn = self.buffers.get(surface)
        if drawn is None:
            drawn = _Drawn(self.context, self.programs, surface)
            self._keep(surface, drawn)
        return drawn

    def _draw_surface(self, surface: Surface, view: _View, look: Look, first: int = 0, last: int | None = None) -> None:
        """Draw the part of a surface from `first` to `last` in its index."""
        drawn = self._drawn(surface)
        while not drawn.send(1 << 30):
            pass
        context, program = self.context, self.programs.surface
        context.disable(moderngl.BLEND)
        context.enable(moderngl.DEPTH_TEST)
        context.depth_func = "<="
        put(program, "u_matrix", np.ascontiguousarray(view.matrix.T, "f4").tobytes())
        put(program, "u_eye", tuple(float(x) for x in view.eye))
        put(program, "u_key", view.lights[0])
        put(program, "u_side", view.lights[1])
        put(program, "u_cut", look.cut)
        for name, value in (look.lamps.uniforms() if look.lamps is not None else {}).items():
            put(program, name, value)
        last = len(surface.index) if last is None else last
        plain = Span(0, len(surface.index), look.colour)
        spans = surface.spans if look.shade in ("colours", "picture") and surface.spans else (plain,)
        for span in spans:
            a, b = max(first, span.first), min(last, span.first + span.count)
            if a >= b:
                continue
            put(program, "u_shade", self._shade(surface, span, look, drawn))
            put(program, "u_colour", tuple(span.colour))
            drawn.array.render(moderngl.TRIANGLES, vertices=b - a, first=a)

    def _shade(self, surface: Surface, span: Span, look: Look, drawn: _Drawn) -> int:
        """The shader's number for what can be shown of the wanted shade: a source without colours or pictures
        falls back to its materials' colours or the plain one."""
        if look.shade == "picture" and span.picture and surface.places is not None:
            drawn.picture(span.picture).use(0)
            return 4
        if look.shade in ("picture", "colours"):
            return 3 if surface.tints is not None else 0
        if look.shade == "heat":
            return 5 if surface.tints is not None else 0
        return SHADES.index(look.shade)

    def _fit(self, size: tuple[int, int]) -> None:
        if size == self.size:
            return
        for thing in self.owned:
            thing.release()
        make = self.context
        self.owned = []

        def surface(samples: int) -> Any:
            colour = make.renderbuffer(size, 4, samples=samples) if samples else make.texture(size, 4)
            depth = make.depth_renderbuffer(size, samples=samples)
            frame = make.framebuffer([colour], depth)
            self.owned.extend([frame, colour, depth])
            return frame

        samples = min(SAMPLES, self.context.max_samples)
        self.base, self.coming, self.work = surface(samples), surface(samples), surface(samples)
        self.flat = self.work
        if samples:
            picture = make.texture(size, 4)
            self.flat = make.framebuffer([picture])
            self.owned += [self.flat, picture]
        self.size, self.base_key, self.coming_key = size, None, None

    def _draw_layer(self, layer: Layer, matrix: Any, eye: Any, size: tuple[int, int], lights: Any) -> None:
        buffers = self.buffers.get(layer)
        if buffers is None:
            buffers = _Buffers(self.context, self.programs, self.corner, layer)
            self._keep(layer, buffers)
        context = self.context
        context.enable(moderngl.BLEND)
        context.blend_func = moderngl.SRC_ALPHA, moderngl.ONE_MINUS_SRC_ALPHA
        context.enable(moderngl.DEPTH_TEST)
        context.depth_func = "<="
        for program, array, instances in buffers.parts:
            put(program, "u_matrix", np.ascontiguousarray(matrix.T, "f4").tobytes())
            put(program, "u_eye", tuple(float(x) for x in eye))
            put(program, "u_pull", layer.pull * (1.0 if program is self.programs.fill else 1.6))
            put(program, "u_push", layer.push)
            put(program, "u_size", (float(size[0]), float(size[1])))
            put(program, "u_lit", 1.0 if layer.lit else 0.0)
            self._lay_board(program, layer.board)
            put(program, "u_stitch", layer.stitch)
            put(program, "u_wire", layer.wire)
            put(program, "u_key", lights[0])
            put(program, "u_side", lights[1])
            if instances:
                array.render(moderngl.TRIANGLE_STRIP, vertices=4, instances=instances)
            else:
                if layer.shut:
                    context.enable(moderngl.CULL_FACE)
                array.render(moderngl.TRIANGLES)
                context.disable(moderngl.CULL_FACE)

    def _lay_board(self, program: Any, board: Board | None) -> None:
        if board is None:
            put(program, "u_checker", (0.0, 0.0, 0.0))
            return
        put(program, "u_checker", (board.squares * board.across, board.squares, 1.0 if board.by_sheet else 0.0))
        put(program, "u_board", (board.share if board.pixels is not None else 0.0, board.light))
        if board.pixels is not None:
            self.textures.of(board.pixels).use(0)
            put(program, "u_pixels", 0)

    def _keep(self, thing: Any, buffers: Any) -> None:
        self.buffers[thing] = buffers
        weakref.finalize(thing, self.dead.append, buffers).atexit = False

    def _drop_dead(self) -> None:
        """Release the buffers of what nobody keeps any more."""
        while self.dead:
            self.dead.pop().release()


def _aside(matrix: NDArray[np.float64], share: float) -> NDArray[np.float64]:
    """World → clip with everything shifted across by a share of half the view."""
    out = matrix.copy()
    out[0] += share * matrix[3]
    return out


def _base_matrix(scene: Scene, matrix: NDArray[np.float64]) -> NDArray[np.float64]:
    return _aside(matrix, 0.5) if scene.apart and scene.skins else matrix


def _lights(rotation: NDArray[np.float64] | None) -> tuple[tuple[float, ...], tuple[float, ...]]:
    """Key and side light that stay over the viewer's shoulder."""
    if rotation is None:
        return (0.0, 0.0, 1.0), (0.0, 0.0, 1.0)
    key = rotation.T @ np.array([-0.42, 0.62, 0.66])
    side = rotation.T @ np.array([0.85, -0.1, 0.5])
    return tuple(key / np.linalg.norm(key)), tuple(side / np.linalg.norm(side))
