"""Draws scenes: the base once a camera, the layers over it each time."""

from __future__ import annotations

from typing import Any
from weakref import WeakKeyDictionary

import moderngl
import numpy as np
from numpy.typing import NDArray

from jacket.render.programs import Programs, put
from jacket.render.scene import Layer, Scene

SAMPLES = 0
"""Of each pixel; lines and dots soften their own edges, and under software rendering four samples double a frame."""


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


class Renderer:
    """One context's drawing. `matrix` is world → clip; `eye` is where layers are pulled to."""

    def __init__(self, context: Any) -> None:
        self.context = context
        self.programs = Programs(context)
        self.corner = context.buffer(np.array([[0, 0], [1, 0], [0, 1], [1, 1]], "f4").tobytes())
        self.copier = context.vertex_array(self.programs.copy, [(self.corner, "2f", "in_corner")])
        self.buffers: WeakKeyDictionary[Layer, _Buffers] = WeakKeyDictionary()
        self.live: list[tuple[Any, _Buffers]] = []
        self.size = (0, 0)
        self.base_key: tuple[Any, ...] | None = None
        self.base: Any = None
        self.work: Any = None
        self.flat: Any = None
        self.owned: list[Any] = []

    def draw(
        self, scene: Scene, matrix: NDArray[np.float64], eye: NDArray[np.float64], size: tuple[int, int],
        target: Any, moving: bool = False, rotation: NDArray[np.float64] | None = None,
    ) -> None:  # fmt: skip
        """Draw a scene into `target`, a framebuffer of `size` pixels."""
        self._fit(size)
        base = scene.light if moving and scene.light is not None else scene.base
        key = (matrix.tobytes(), size, id(base), scene.ground)
        lights = _lights(rotation)
        if key != self.base_key:
            self.base.use()
            self.context.clear(*scene.ground, 1.0, depth=1.0)
            if base is not None:
                self._draw_layer(base, matrix, eye, size, lights)
            self.base_key = key
        self.context.copy_framebuffer(self.work, self.base)
        self.work.use()
        for layer in scene.layers:
            self._draw_layer(layer, matrix, eye, size, lights)
        if self.flat is not self.work:
            self.context.copy_framebuffer(self.flat, self.work)
        target.use()
        self.context.disable(moderngl.DEPTH_TEST | moderngl.BLEND | moderngl.CULL_FACE)
        self.flat.color_attachments[0].use(0)
        self.copier.render(moderngl.TRIANGLE_STRIP)
        self._drop_dead()

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
        self.base, self.work = surface(samples), surface(samples)
        self.flat = self.work
        if samples:
            picture = make.texture(size, 4)
            self.flat = make.framebuffer([picture])
            self.owned += [self.flat, picture]
        self.size, self.base_key = size, None

    def _draw_layer(self, layer: Layer, matrix: Any, eye: Any, size: tuple[int, int], lights: Any) -> None:
        buffers = self.buffers.get(layer)
        if buffers is None:
            buffers = _Buffers(self.context, self.programs, self.corner, layer)
            self.buffers[layer] = buffers
        context = self.context
        context.enable(moderngl.BLEND)
        context.blend_func = moderngl.SRC_ALPHA, moderngl.ONE_MINUS_SRC_ALPHA
        context.enable(moderngl.DEPTH_TEST)
        context.depth_func = "<="
        for program, array, instances in buffers.parts:
            put(program, "u_matrix", np.ascontiguousarray(matrix.T, "f4").tobytes())
            put(program, "u_eye", tuple(float(x) for x in eye))
            put(program, "u_pull", layer.pull * (1.0 if program is self.programs.fill else 1.6))
            put(program, "u_size", (float(size[0]), float(size[1])))
            put(program, "u_lit", 1.0 if layer.lit else 0.0)
            put(program, "u_checker", layer.checker)
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

    def _drop_dead(self) -> None:
        """Release buffers whose layers nobody keeps any more."""
        alive = set(map(id, self.buffers.values()))
        kept = []
        known = {id(b) for _, b in self.live}
        for layer, b in self.buffers.items():
            if id(b) not in known:
                kept.append((id(layer), b))
        for key, b in self.live:
            if id(b) in alive:
                kept.append((key, b))
            else:
                b.release()
        self.live = kept


def _lights(rotation: NDArray[np.float64] | None) -> tuple[tuple[float, ...], tuple[float, ...]]:
    """Key and side light that stay over the viewer's shoulder."""
    if rotation is None:
        return (0.0, 0.0, 1.0), (0.0, 0.0, 1.0)
    key = rotation.T @ np.array([-0.42, 0.62, 0.66])
    side = rotation.T @ np.array([0.85, -0.1, 0.5])
    return tuple(key / np.linalg.norm(key)), tuple(side / np.linalg.norm(side))
