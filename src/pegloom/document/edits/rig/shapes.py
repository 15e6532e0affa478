"""How controls look: shape, size, place, colour, lines drawn by hand; copied to others and across; kept from animators."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError
from pegloom.core.geometry.transforms import euler_quaternion, matrix_quaternion, quaternion_euler, rotation_matrix
from pegloom.core.rig.across import Across
from pegloom.core.rig.changes import EVEN, ControlChange, times
from pegloom.core.rig.controls import Control, ControlRig, Lines, Shape
from pegloom.core.rig.shapes import own_lines
from pegloom.core.skeleton.joints import Vector
from pegloom.document.edits.rig.changing import rigged, with_changes
from pegloom.document.model import Document

LEAST, MOST = 0.05, 20.0
"""Factors of a shape's size, stretch and thickness."""
COLOUR = re.compile(r"#[0-9a-fA-F]{6}")


def shape_controls(
    document: Document, control_ids: tuple[str, ...], *, shape: Shape | None = None, size: float | None = None,
    stretch: Vector | None = None, thickness: float | None = None, offset: Vector | None = None, tilt: Vector | None = None,
    colour: str | None = None, lines: Lines | None = None,
) -> Document:  # fmt: skip
    """How some controls look; what is None stays. Kept through rebuilds.

    size, stretch, thickness : factors of the built ones.
    offset : of the shape in its control, metres. tilt : radians x y z.
    colour : #RRGGBB; "" for the side's own.
    lines : points of the shape in its own space, 1 about half its width; () for the library's again.

    Raises EditError for a factor outside 0.05 to 20, a colour that is none, or lines of fewer than two points.
    """
    _, _, rig = rigged(document)
    for name, value in (("size", size), ("thickness", thickness), *(("stretch", v) for v in stretch or ())):
        if value is not None and not LEAST <= value <= MOST:
            raise EditError(f"a shape's {name} must be {LEAST:g} to {MOST:g} of the built one, not {value:g}")
    if colour and not COLOUR.fullmatch(colour):
        raise EditError(f"a colour is told as #RRGGBB, not {colour[:20]}")
    if lines and (any(len(line) < 2 for line in lines) or not np.isfinite([p for line in lines for p in line]).all()):
        raise EditError("a shape's line needs two points or more, each of three numbers")
    told = replace(
        ControlChange(), shape=shape, size=1.0 if size is None else size, stretch=stretch or EVEN,
        thickness=1.0 if thickness is None else thickness, colour=colour, lines=lines,
    )  # fmt: skip

    def changed(control: Control, change: ControlChange) -> ControlChange:
        return replace(
            change, shape=told.shape or change.shape, size=change.size if size is None else told.size,
            stretch=change.stretch if stretch is None else told.stretch,
            thickness=change.thickness if thickness is None else told.thickness,
            offset=change.offset if offset is None else _more(change.offset, offset, control.offset),
            tilt=change.tilt if tilt is None else _more(change.tilt, tilt, control.tilt),
            colour=change.colour if colour is None else colour,
            # Another shape of the library takes the place of what was drawn.
            lines=lines if lines is not None else () if shape is not None and control.lines else change.lines,
        )  # fmt: skip

    return _put(document, {i: changed(rig.control(i), _change(document, i)) for i in control_ids})


def shape_as_built(document: Document, control_ids: tuple[str, ...]) -> Document:
    """Some controls look as they are built again; what else was changed on them stays."""
    _, _, rig = rigged(document)
    for one in control_ids:
        rig.control(one)
    plain = ControlChange()
    look = {k: getattr(plain, k) for k in ("shape", "size", "stretch", "thickness", "offset", "tilt", "colour", "lines")}
    return _put(document, {i: replace(_change(document, i), **look) for i in control_ids})


def draw_shape(document: Document, control_id: str) -> Document:
    """A control's shape as lines of its own, whose points may be moved; it looks the same."""
    _, _, rig = rigged(document)
    control = rig.control(control_id)
    return document if control.lines else shape_controls(document, (control_id,), lines=own_lines(control.shape))


def copy_shape(document: Document, control_id: str, control_ids: tuple[str, ...]) -> Document:
    """The look of one control on others: shape, lines, size in metres, stretch, thickness, offset and tilt; colours stay."""
    _, _, rig = rigged(document)
    source = rig.control(control_id)
    if not set(control_ids) - {control_id}:
        raise EditError("pick the controls that are to look like this one, and this one last")
    return _put(document, {i: _alike(rig.control(i), _change(document, i), source) for i in control_ids if i != control_id})


def shape_across(document: Document, control_ids: tuple[str, ...]) -> Document:
    """The look of some controls on their partners across the middle, seen in a mirror; colours stay with their side."""
    _, skeleton, rig = rigged(document)
    across = Across(skeleton, rig)
    found: dict[str, ControlChange] = {}
    for one in control_ids:
        other = across.control(one)
        if other is not None and other != one:
            found[other] = _alike(rig.control(other), _change(document, other), mirrored_look(across, rig, one, other))
    if not found:
        raise EditError("none of these has a partner on the other side")
    return _put(document, found)


def keep_from_animators(document: Document, control_ids: tuple[str, ...], hidden: bool = True) -> Document:
    """Some controls neither shown to animators nor picked by them, or again."""
    _, _, rig = rigged(document)
    for one in control_ids:
        rig.control(one)
    return _put(document, {i: replace(_change(document, i), hidden=hidden) for i in control_ids})


def mirrored_look(across: Across, rig: ControlRig, here: str, there: str) -> Control:
    """A control with its shape as its partner is to have it."""
    control = rig.control(here)
    turn = across.turned(control.matrix, rig.control(there).matrix)
    own = rotation_matrix(euler_quaternion(np.array(control.tilt)))
    stretch = np.abs(turn) @ np.array(control.stretch)
    size = control.size * np.array(control.stretch)

    def point(p: Vector) -> Vector:
        return _three(turn @ (size * np.array(p)) / (control.size * stretch))

    return replace(
        control, offset=_three(turn @ np.array(control.offset)), stretch=_three(stretch),
        tilt=_three(quaternion_euler(matrix_quaternion(turn @ own @ turn.T))),
        lines=tuple(tuple(point(p) for p in line) for line in control.lines),
    )  # fmt: skip


def _alike(control: Control, change: ControlChange, look: Control) -> ControlChange:
    """The change that gives a control another one's look."""
    return replace(
        change, shape=look.shape, size=change.size * look.size / control.size,
        stretch=times(change.stretch, times(look.stretch, control.stretch, -1)),
        thickness=change.thickness * look.thickness / control.thickness,
        offset=_more(change.offset, look.offset, control.offset), tilt=_more(change.tilt, look.tilt, control.tilt),
        lines=look.lines if look.lines or control.lines else change.lines,
    )  # fmt: skip


def _change(document: Document, control_id: str) -> ControlChange:
    return document.require_character().rig_changes.controls.get(control_id, ControlChange())


def _put(document: Document, changed: Mapping[str, ControlChange]) -> Document:
    before = document.require_character().rig_changes.controls
    return with_changes(document, controls=MappingProxyType({**before, **changed}))


def _more(change: Vector, wanted: Vector, now: Vector) -> Vector:
    """What is to be added to the built one so that the wanted one comes out."""
    return (change[0] + wanted[0] - now[0], change[1] + wanted[1] - now[1], change[2] + wanted[2] - now[2])


def _three(v: FloatArray) -> Vector:
    return (float(v[0]), float(v[1]), float(v[2]))
