"""The pick card: a picture of the figure seen from the front, with a button where each control is.

Hands and the face have pages of their own. All is laid out from the rest; what a person moved stands where it was put.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

import numpy as np
from numba import njit

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.transforms import rotation_matrix
from pegloom.core.memo import of_the_latest
from pegloom.core.rig.controls import Control, ControlRig
from pegloom.core.rig.recipe.spaces import head_of
from pegloom.core.rig.refs import NodeKind
from pegloom.core.rig.shapes import shape_lines
from pegloom.core.skeleton.joints import Side, Skeleton
from pegloom.document.model import CardButton, Character, Part, points_of, triangles_of

BODY, FACE, LEFT_HAND, RIGHT_HAND = "body", "face", "left hand", "right hand"
TITLES: Mapping[str, str] = {BODY: "Body", FACE: "Face", LEFT_HAND: "Left hand", RIGHT_HAND: "Right hand"}
TALL = 460
"""Pixels of a page's picture, the longer way."""
LONG = 1.35
"""A figure so much longer than wide is looked at from its side, a little turned."""
ASIDE, BELOW = 0.42, 0.22
"""How far the side away from the eye is drawn aside and down, so that left and right stand apart."""
BEFORE = 0.22
"""How far down what is nearer the eye is drawn, so that level rings are no lines."""
ROOM = 0.07
"""Share of a page left free around it."""
LEAST_FACE = 3
"""Controls of a face from which on it has a page of its own."""
APART = 0.034
"""Least share of a page's longer way between the middles of two buttons."""
ROUNDS = 60


@dataclass(frozen=True, slots=True, eq=False)
class Button:
    """A control on a page. middle (2,) : in shares of the page's longer way, y down. lines (m, 2) : around it, likewise."""

    control: str
    side: Side
    middle: FloatArray
    lines: tuple[FloatArray, ...]


@dataclass(frozen=True, slots=True, eq=False)
class Page:
    """shade (h, w) : the figure's picture, 0 for nothing, else 0 to 1. wide, tall : shares of its longer way, one of them 1."""

    key: str
    shade: FloatArray
    wide: float
    tall: float
    buttons: tuple[Button, ...]

    @property
    def title(self) -> str:
        return TITLES.get(self.key, self.key)


def card_pages(character: Character) -> tuple[Page, ...]:
    """The pages of a character's pick card; none without controls. What was moved by hand stands where it was put."""
    if character.rig is None or character.skeleton is None:
        return ()
    pages = _laid_out(character.rig, character.skeleton, character.included, character.front)
    return _arranged(pages, character.card) if character.card else pages


def _arranged(pages: tuple[Page, ...], moved: Iterable[CardButton]) -> tuple[Page, ...]:
    told = {b.control: b for b in moved}
    known = {page.key for page in pages}
    home: dict[str, list[Button]] = {page.key: [] for page in pages}
    for page in pages:
        for button in page.buttons:
            place = told.get(button.control)
            if place is None:
                home[page.key].append(button)
                continue
            at = np.array([place.x, place.y])
            home[place.page if place.page in known else page.key].append(replace(button, middle=at))
    return tuple(replace(page, buttons=tuple(home[page.key])) for page in pages)


@of_the_latest(4)
def _laid_out(rig: ControlRig, skeleton: Skeleton, parts: tuple[Part, ...], front: tuple[float, ...]) -> tuple[Page, ...]:
    axes = rotation_matrix(np.array(front))
    shown = [p for p in parts if p.detail == 0 and p.mesh.face_count]
    points, triangles = points_of(shown), triangles_of(shown)
    every = points if len(points) else skeleton.positions
    size = np.ptp(every @ axes, axis=0)
    # Rows lead from a place to the page's x (right) and y (up), and toward the eye.
    view = np.array([[1.0, 0.0, 0.0], [0.0, 1.0, -BEFORE], [0.0, 0.0, 1.0]]) @ axes.T
    if size[2] > LONG * size[0]:
        view = np.array([[ASIDE, 0.0, -1.0], [-BELOW, 1.0, 0.0], [1.0, 0.0, 0.0]]) @ axes.T
    groups = _groups(rig, skeleton)
    pages = []
    for key, controls in groups.items():
        if not controls:
            continue
        if key in (LEFT_HAND, RIGHT_HAND):
            pages.append(_page(key, controls, _hand_view(controls), points, triangles))
        else:
            pages.append(_page(key, controls, view, points, triangles, whole=key == BODY))
    return tuple(pages)


def _groups(rig: ControlRig, skeleton: Skeleton) -> dict[str, list[Control]]:
    """Which control is on which page."""
    joint_of = {control: joint for joint, control in rig.turned_by.items()}
    head = head_of(skeleton)
    carries_face = {control for control, joint in joint_of.items() if joint == head}
    palms = {j.parent for j in skeleton.joints if j.role == "finger" and j.parent is not None and _role(skeleton, j.parent) != "finger"}
    found: dict[str, list[Control]] = {BODY: [], FACE: [], LEFT_HAND: [], RIGHT_HAND: []}
    for control in rig.handles:
        joint = joint_of.get(control.id)
        hand = joint is not None and _role(skeleton, joint) == "finger"
        # What has no joint of its own and rides on a palm, the curl of its fingers.
        hand = hand or (joint is None and control.parent.kind is NodeKind.JOINT and control.parent.id in palms)
        if hand and control.side is not Side.CENTRE:
            found[LEFT_HAND if control.side is Side.LEFT else RIGHT_HAND].append(control)
        elif control.id not in carries_face and _rides_on(rig, control, carries_face, head):
            found[FACE].append(control)
        else:
            found[BODY].append(control)
    if len(found[FACE]) < LEAST_FACE:
        found[BODY] += found.pop(FACE)
    return found


def _role(skeleton: Skeleton, joint: str) -> str:
    return skeleton.joint(joint).role or ""


def _rides_on(rig: ControlRig, control: Control, controls: set[str], joint: str) -> bool:
    above: str | None = control.id
    while above is not None:
        parent = rig.control(above).parent
        if parent.id in controls or (parent.kind is NodeKind.JOINT and parent.id == joint):
            return True
        above = rig.handle_above(above)
    return False


def _hand_view(controls: list[Control]) -> FloatArray:
    """A view on a hand's back, its fingers up."""
    places = np.array([c.matrix[:3, 3] for c in controls])
    middle = places.mean(axis=0)
    _, _, axes = np.linalg.svd(places - middle)
    along = np.mean([c.matrix[:3, 1] for c in controls], axis=0)
    along = along / max(float(np.linalg.norm(along)), 1e-9)
    normal = axes[2]
    right = np.cross(along, normal)
    right = right / max(float(np.linalg.norm(right)), 1e-9)
    out = np.cross(right, along)
    # The back of the hand: what the fingers' backs face.
    back = -np.mean([c.matrix[:3, 2] for c in controls], axis=0)
    if float(out @ back) < 0:
        right, out = -right, -out
    return np.stack([right, along, out])


def _page(
    key: str, controls: list[Control], view: FloatArray, points: FloatArray, triangles: IntArray, *, whole: bool = False
) -> Page:
    worlds = [[line @ c.matrix[:3, :3].T + c.matrix[:3, 3] for line in shape_lines(c)] for c in controls]
    drawn = [[line @ view.T for line in lines] for lines in worlds]
    flat = np.concatenate([line[:, :2] for lines in drawn for line in lines])
    body = points @ view.T
    if whole and len(body):
        # Poles far before or behind take no room of the page.
        low, high = body[:, :2].min(axis=0), body[:, :2].max(axis=0)
        reach = 0.35 * (high - low)
        near = np.clip(flat, low - reach, high + reach)
        low, high = np.minimum(low, near.min(axis=0)), np.maximum(high, near.max(axis=0))
    else:
        low, high = flat.min(axis=0), flat.max(axis=0)
        space = 0.18 * float((high - low).max())
        low, high = low - space, high + space
    room = ROOM * float((high - low).max())
    low, high = low - room, high + room
    longer = float((high - low).max())
    wide, tall = ((high - low) / longer).tolist()
    inside = np.ones(len(triangles), dtype=bool)
    if not whole and len(triangles):
        # A hand's page has nothing of the hip behind it.
        deep = np.concatenate([line[:, 2] for lines in drawn for line in lines])
        reach = 0.6 * longer
        middle = body[triangles].mean(axis=1)
        inside = (middle[:, 2] > deep.min() - reach) & (middle[:, 2] < deep.max() + reach)
    shade = np.zeros((max(round(TALL * tall), 1), max(round(TALL * wide), 1)))
    if len(triangles):
        screen = np.stack([(body[:, 0] - low[0]) / longer * TALL, (high[1] - body[:, 1]) / longer * TALL, body[:, 2]], axis=1)
        shade_triangles(np.ascontiguousarray(screen), np.ascontiguousarray(triangles[inside]), TALL / longer, shade)
    buttons = []
    for control, lines in zip(controls, drawn, strict=True):
        at = [np.stack([(line[:, 0] - low[0]) / longer, (high[1] - line[:, 1]) / longer], axis=1) for line in lines]
        both = np.concatenate(at)
        middle = (both.min(axis=0) + both.max(axis=0)) / 2
        middle = np.clip(middle, 0.02, [wide - 0.02, tall - 0.02])
        offset = (both.min(axis=0) + both.max(axis=0)) / 2
        buttons.append(Button(control.id, control.side, middle, tuple(line - offset for line in at)))
    return Page(key, shade, wide, tall, _spread(buttons, wide, tall))


def _spread(buttons: list[Button], wide: float, tall: float) -> tuple[Button, ...]:
    """Buttons whose middles lie too near each other moved apart, as little as is needed."""
    if len(buttons) < 2:
        return tuple(buttons)
    at = np.array([b.middle for b in buttons])
    for _ in range(ROUNDS):
        way = at[:, None] - at[None]
        away = np.linalg.norm(way, axis=2)
        np.fill_diagonal(away, np.inf)
        if float(away.min()) >= APART:
            break
        # What lies on one spot goes apart sideways, each its own way.
        turn = np.arange(len(at)) * 2.4
        same = np.stack([np.cos(turn), np.sin(turn)], axis=1)
        unit = np.where((away < 1e-6)[:, :, None], same[:, None], way / np.maximum(away, 1e-6)[:, :, None])
        push = np.where((away < APART)[:, :, None], unit * (APART - np.minimum(away, APART))[:, :, None], 0.0)
        at = np.clip(at + 0.5 * push.sum(axis=1), 0.02, [wide - 0.02, tall - 0.02])
    return tuple(replace(b, middle=place) for b, place in zip(buttons, at, strict=True))


@njit(cache=True)
def shade_triangles(screen, triangles, scale, shade):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Draw triangles (t, 3) of points (n, 3: pixels right and down, metres toward the eye; scale: pixels a metre) into a picture (h, w) by how much
    they face the eye; the nearest one counts."""
    tall, wide = shade.shape
    depth = np.full((tall, wide), -np.inf)
    for t in range(len(triangles)):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        ax, ay, bx, by, cx, cy = screen[a, 0], screen[a, 1], screen[b, 0], screen[b, 1], screen[c, 0], screen[c, 1]
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if abs(area) < 1e-12:
            continue
        ux, uy, uz = bx - ax, by - ay, (screen[b, 2] - screen[a, 2]) * scale
        vx, vy, vz = cx - ax, cy - ay, (screen[c, 2] - screen[a, 2]) * scale
        nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
        facing = abs(nz) / max(np.sqrt(nx * nx + ny * ny + nz * nz), 1e-12)
        low_x, high_x = max(int(np.floor(min(ax, bx, cx))), 0), min(int(np.ceil(max(ax, bx, cx))), wide - 1)
        low_y, high_y = max(int(np.floor(min(ay, by, cy))), 0), min(int(np.ceil(max(ay, by, cy))), tall - 1)
        for y in range(low_y, high_y + 1):
            for x in range(low_x, high_x + 1):
                px, py = x + 0.5, y + 0.5
                wb = ((px - ax) * (cy - ay) - (py - ay) * (cx - ax)) / area
                wc = ((bx - ax) * (py - ay) - (by - ay) * (px - ax)) / area
                wa = 1.0 - wb - wc
                if wa < -1e-3 or wb < -1e-3 or wc < -1e-3:
                    continue
                z = wa * screen[a, 2] + wb * screen[b, 2] + wc * screen[c, 2]
                if z > depth[y, x]:
                    depth[y, x] = z
                    shade[y, x] = 0.35 + 0.65 * facing


def partner(rig: ControlRig, control: str) -> str | None:
    """The control across the middle, None for one of the middle or without."""
    other = rig.other_side(control)
    return other if other not in (None, control) else None
