"""A view at rest drawn again finer: frames that each lie a part of a pixel aside, averaged, so that no silhouette shows steps.

Every pass costs one plain frame, so that a processor that draws is never busy for longer than that.
"""

from __future__ import annotations

from typing import Any

import moderngl

MOST = 8
"""Passes after which a picture is as fine as it gets."""
SPREAD = (
    (0.0, 0.0), (-0.25, 0.16), (0.25, -0.39), (-0.38, -0.17), (0.13, 0.27), (-0.13, -0.28), (0.38, 0.05), (-0.31, 0.38),
)  # fmt: skip
"""How far each pass lies aside, in pixels: the first points of Halton's sequence of bases 2 and 3, about the middle."""


class Finer:
    """What the passes add up to. Make it with the OpenGL context current, and a copying program with its square."""

    def __init__(self, gl: Any, program: Any, square: Any) -> None:
        self.gl, self.program = gl, program
        self.array = gl.vertex_array(program, [(square, "2f", "in_corner")])
        self.size = (0, 0)
        self.done = 0
        self.held: list[Any] = []
        self.one: Any = None
        self.sum: Any = None

    def begin(self, size: tuple[int, int]) -> Any:
        """The framebuffer the next pass is drawn into, (width, height) pixels large."""
        if size != self.size:
            self.release()
            self.size = size
            picture, depth = self.gl.texture(size, 4), self.gl.depth_renderbuffer(size)
            total = self.gl.texture(size, 4, dtype="f2")
            picture.filter = total.filter = (moderngl.NEAREST, moderngl.NEAREST)
            self.one = self.gl.framebuffer([picture], depth)
            self.sum = self.gl.framebuffer([total])
            self.held = [self.one, self.sum, picture, depth, total]
        return self.one

    def add(self, number: int) -> None:
        """Take what was drawn as pass `number`, the first one 1, into the mean."""
        self.sum.use()
        self._copy(self.held[2], 1.0 / number)
        self.done = number

    def show(self, target: Any) -> None:
        """The mean so far into another framebuffer."""
        target.use()
        self._copy(self.held[4], 1.0)

    def _copy(self, texture: Any, share: float) -> None:
        gl = self.gl
        gl.viewport = (0, 0, *self.size)
        gl.disable(moderngl.DEPTH_TEST | moderngl.CULL_FACE)
        gl.enable(moderngl.BLEND)
        gl.blend_func = moderngl.SRC_ALPHA, moderngl.ONE_MINUS_SRC_ALPHA
        texture.use(0)
        self.program["share"].value = share
        self.array.render(moderngl.TRIANGLE_STRIP)

    def release(self) -> None:
        """Give back what is held on the card."""
        for piece in self.held:
            piece.release()
        self.held, self.size, self.done = [], (0, 0), 0
