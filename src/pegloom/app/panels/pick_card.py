"""The pick card: the figure's picture with a button where each control is; keys, IK and FK, spaces and sets under it."""

from __future__ import annotations

from functools import partial

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF, QResizeEvent
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from pegloom.app.actions.posing import blend_limb, follow
from pegloom.app.context import Context
from pegloom.app.spec import Pane, Place
from pegloom.app.state.state import PickSettings, Selection, State
from pegloom.app.theme import INK, put_icon
from pegloom.app.widgets import action_button, button, clear, label
from pegloom.app.widgets.fields import narrow, tick
from pegloom.app.widgets.panel import Panel
from pegloom.app.widgets.spaces import show_spaces
from pegloom.core.arrays import FloatArray
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.use import out_of_use
from pegloom.core.skeleton.joints import Side
from pegloom.document import edits
from pegloom.scene.pick_card import BODY, Button, Page, card_pages, partner
from pegloom.scene.rig_drawing import control_colour, limb_words

NEAR = 11.0
"""Pixels within which a button is picked."""
START = 4.0
WIDE = 300
FIGURE = ("#2A3142", "#5A6580")
"""The figure's picture, from its edges to what faces the eye; on every theme, since side colours are made for it."""
GROUND = "#1B202B"


class Sheet(QWidget):
    """One page. A click picks, Shift adds, a drag on free ground draws a box; arrow keys go from button to button."""

    def __init__(self, c: Context) -> None:
        super().__init__()
        self.c = c
        self.setObjectName("pick.sheet")
        self.setAccessibleName("Pick card: arrow keys go from control to control, Enter picks")
        self.setMinimumHeight(220)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.page: Page | None = None
        self.picture: QImage | None = None
        self.hovered = ""
        self.focused = ""
        self.start: FloatArray | None = None
        self.corner: FloatArray | None = None
        self.dragged: Button | None = None
        self.add = False

    # Where things are

    def _scale(self) -> tuple[float, FloatArray]:
        """Pixels of a page's longer way, and its upper left corner."""
        assert self.page is not None
        scale = min(self.width() / self.page.wide, self.height() / self.page.tall)
        return scale, np.array([(self.width() - scale * self.page.wide) / 2, (self.height() - scale * self.page.tall) / 2])

    def place(self, control: str) -> FloatArray | None:
        """Where a control's button stands, pixels (2,)."""
        if self.page is None:
            return None
        scale, corner = self._scale()
        return next((np.asarray(b.middle * scale + corner) for b in self.page.buttons if b.control == control), None)

    def _seen(self) -> list[Button]:
        unseen = self.c.frames.unseen
        return [b for b in self.page.buttons if f"control:{b.control}" not in unseen] if self.page is not None else []

    def at(self, x: float, y: float) -> Button | None:
        """The button under a pixel: the nearest line, and of those about as near the smaller one."""
        if self.page is None:
            return None
        scale, corner = self._scale()
        here = np.array([x, y])
        best: tuple[float, float, Button] | None = None
        for one in self._seen():
            away, wide = float(np.linalg.norm(one.middle * scale + corner - here)), 0.0
            for line in one.lines:
                points = (line + one.middle) * scale + corner
                wide = max(wide, float(np.ptp(points, axis=0).max()))
                d = points[1:] - points[:-1]
                t = np.clip(((here - points[:-1]) * d).sum(axis=1) / np.maximum((d**2).sum(axis=1), 1e-9), 0.0, 1.0)
                away = min(away, float(np.linalg.norm(points[:-1] + t[:, None] * d - here, axis=1).min()))
            if away <= NEAR and (best is None or (away - best[0] < -2.5) or (abs(away - best[0]) <= 2.5 and wide < best[1])):
                best = (away, wide, one)
        return None if best is None else best[2]

    def show_page(self, page: Page | None) -> None:
        if page is not self.page and (page is None or self.page is None or page.shade is not self.page.shade):
            self.picture = None if page is None else _picture(page.shade)
        self.page = page
        self.update()

    # Painting

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.fillRect(self.rect(), QColor(GROUND))
        character = self.c.state.character
        if self.page is None or character is None or character.rig is None:
            painter.end()
            return
        scale, corner = self._scale()
        if self.picture is not None:
            painter.drawImage(QRectF(corner[0], corner[1], scale * self.page.wide, scale * self.page.tall), self.picture)
        dim = out_of_use(character.rig, self.c.frames.control_pose)
        picked = self.c.state.selection.ids if self.c.state.selection.kind == "control" else ()
        for one in sorted(self._seen(), key=lambda b: b.control in picked):
            self._button(painter, character.rig, one, scale, corner, one.control in picked, one.control in dim)
        if self.start is not None and self.corner is not None and self.dragged is None:
            fill = QColor(INK.woad)
            painter.setPen(QPen(fill, 1.2, Qt.PenStyle.DashLine))
            fill.setAlpha(28)
            painter.setBrush(fill)
            painter.drawRect(QRectF(QPointF(*self.start), QPointF(*self.corner)).normalized())
        painter.end()

    def _button(
        self, painter: QPainter, rig: ControlRig, one: Button, scale: float, corner: FloatArray, chosen: bool, dim: bool
    ) -> None:
        control = rig.control(one.control)
        red, green, blue = (round(255 * float(v)) for v in control_colour(control))
        colour = QColor(red, green, blue, 90 if dim and not chosen else 255)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        lines = [QPolygonF([QPointF(float(x), float(y)) for x, y in (line + one.middle) * scale + corner]) for line in one.lines]
        if chosen:
            painter.setPen(QPen(QColor(red, green, blue, 80), 8.0, cap=Qt.PenCapStyle.RoundCap, join=Qt.PenJoinStyle.RoundJoin))
            for line in lines:
                painter.drawPolyline(line)
        painter.setPen(QPen(colour, 2.8 if chosen else 1.6))
        for line in lines:
            painter.drawPolyline(line)
        middle = one.middle * scale + corner
        # One tick for the left side, two for the right: told apart without colour, too.
        for k in range({Side.LEFT: 1, Side.RIGHT: 2}.get(one.side, 0)):
            x = float(middle[0]) + 4.0 * k
            painter.drawLine(QPointF(x, float(middle[1]) - 3.0), QPointF(x, float(middle[1]) + 3.0))
        if one.control in (self.hovered, self.focused if self.hasFocus() else ""):
            painter.setPen(QPen(QColor(INK.text), 1.6))
            for line in lines:
                painter.drawPolyline(line)
            painter.drawEllipse(QPointF(*middle), 9.0, 9.0)

    # Mouse and keys

    def _pick(self, controls: list[str], add: bool) -> None:
        rig = self.c.character.require_rig()
        if self.c.state.settings.of(PickSettings).both:
            controls = list(dict.fromkeys([*(p for c in controls if (p := partner(rig, c)) is not None), *controls]))
        if not add:
            self.c.store.pick("control", *controls)
            return
        now = self.c.state.selection
        before = now.ids if now.kind == "control" else ()
        gone = controls[-1] in before
        kept = tuple(i for i in before if i not in controls)
        ids = kept if gone else (*kept, *controls)
        self.c.store.put(selection=Selection("control" if ids else "", ids))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self.setFocus()
        if event.button() != Qt.MouseButton.LeftButton:
            return
        here = event.position()
        self.start, self.corner = np.array([here.x(), here.y()]), None
        self.add = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        found = self.at(here.x(), here.y())
        self.dragged = found if self.c.state.settings.of(PickSettings).arranging else None
        if found is not None:
            self.focused = found.control
            self._pick([found.control], self.add)
            if self.dragged is None:
                self.start = None

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        here = np.array([event.position().x(), event.position().y()])
        if self.start is None:
            found = self.at(float(here[0]), float(here[1]))
            self.hovered = found.control if found is not None else ""
            self.setToolTip(self.c.character.require_rig().control(self.hovered).name if self.hovered else "")
            self.update()
            return
        if self.corner is None and float(np.linalg.norm(here - self.start)) < START:
            return
        self.corner = here
        if self.dragged is not None:
            self._drag(here)
        self.update()

    def _drag(self, here: FloatArray) -> None:
        assert self.dragged is not None
        told = self._placed(here)
        self.c.preview(lambda d: edits.place_button(d, *told[0], page=told[1], across=told[2]))

    def _placed(self, here: FloatArray) -> tuple[tuple[str, float, float], str, float | None]:
        assert self.dragged is not None and self.page is not None and self.start is not None
        scale, _ = self._scale()
        at = self.dragged.middle + (here - self.start) / scale
        both = self.c.state.settings.of(PickSettings).both and self.page.key == BODY
        return (self.dragged.control, float(at[0]), float(at[1])), "", self.page.wide if both else None

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        start, corner, dragged = self.start, self.corner, self.dragged
        if dragged is not None and corner is not None:
            told = self._placed(corner)
            name = self.c.character.require_rig().control(dragged.control).name
            self.c.try_edit(f"Place {name} on the pick card", lambda d: edits.place_button(d, *told[0], page=told[1], across=told[2]))
        elif start is not None and dragged is None:
            self._box(start, corner)
        self.start = self.corner = self.dragged = None
        self.update()

    def _box(self, start: FloatArray, corner: FloatArray | None) -> None:
        if corner is None:
            if not self.add:
                self.c.store.select("")
            return
        low, high = np.minimum(start, corner), np.maximum(start, corner)
        scale, origin = self._scale()
        inside = [b.control for b in self._seen() if ((b.middle * scale + origin >= low) & (b.middle * scale + origin <= high)).all()]
        if inside:
            self._pick(inside, self.add)
        elif not self.add:
            self.c.store.select("")

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        way = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)}.get(Qt.Key(event.key()))
        if way is not None and not event.modifiers():
            self._step(np.array(way, dtype=np.float64))
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.focused:
            self._pick([self.focused], bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))
        else:
            super().keyPressEvent(event)

    def _step(self, way: FloatArray) -> None:
        """To the next button that way."""
        some = self._seen()
        if not some:
            return
        here = next((b for b in some if b.control == self.focused), None)
        if here is None:
            self.focused = some[0].control
        else:
            found = []
            for one in some:
                to = one.middle - here.middle
                ahead, aside = float(to @ way), float(np.linalg.norm(to - way * (to @ way)))
                if ahead > 1e-4:
                    found.append((ahead + 2.0 * aside, one.control))
            self.focused = min(found)[1] if found else self.focused
        self.setToolTip(self.c.character.require_rig().control(self.focused).name)
        self.update()

    def leaveEvent(self, event: object) -> None:
        self.hovered = ""
        self.update()


def _picture(shade: FloatArray) -> QImage:
    """A page's picture as an image, see-through where there is nothing."""
    edge, face = (np.array([QColor(c).red(), QColor(c).green(), QColor(c).blue()], dtype=np.float64) for c in FIGURE)
    amount = np.clip((shade - 0.35) / 0.65, 0.0, 1.0)[:, :, None] ** 1.5
    pixels = np.zeros((*shade.shape, 4), dtype=np.uint8)
    pixels[:, :, :3] = np.round(edge + amount * (face - edge))
    pixels[:, :, 3] = np.where(shade > 0, 255, 0)
    tall, wide = shade.shape
    return QImage(pixels.tobytes(), wide, tall, 4 * wide, QImage.Format.Format_RGBA8888).copy()


class PickCard(Panel):
    def __init__(self, c: Context) -> None:
        super().__init__(c)
        self.setObjectName("pick")
        self.setProperty("role", "pane")
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 8, 8, 8)
        column.setSpacing(6)
        head = QHBoxLayout()
        head.addWidget(label("Pick card", "heading"))
        head.addStretch(1)
        self.apart = button("Own window", "pick.apart", self._apart, role="plain", tip="In a window of its own, or beside the view again")
        self.apart.setAccessibleName("In a window of its own, or beside the view again")
        shut = button("", "pick.close", lambda: c.store.put_setting(PickSettings, open=False), role="plain", tip="Put the pick card away")
        put_icon(shut, "x")
        shut.setAccessibleName("Put the pick card away")
        head.addWidget(self.apart)
        head.addWidget(shut)
        column.addLayout(head)
        self.pages = QHBoxLayout()
        self.pages.setSpacing(4)
        column.addLayout(self.pages)
        self.sheet = Sheet(c)
        column.addWidget(self.sheet, 1)
        self.said = label("", "caption", name="pick.said")
        # Nothing here comes and goes with what is picked: the picture would hop under the pointer.
        self.said.setFixedHeight(16)
        column.addWidget(self.said)
        ticks = QHBoxLayout()
        ticks.addWidget(tick(self, PickSettings, "both", "Both sides", name="pick.both", tip="A press picks the partner, too"))
        ticks.addWidget(tick(self, PickSettings, "arranging", "Arrange", name="pick.arranging", tip="Drag buttons elsewhere; saved with the rig"))
        self.again = button("Lay out", "pick.lay_out", self._lay_out, role="plain", tip="The picked buttons, or all, where they stand by themselves")
        ticks.addWidget(self.again)
        column.addLayout(ticks)
        q = c.actions.qactions
        keys = QHBoxLayout()
        keys.setSpacing(4)
        for action, text in (("keys.write", "Set key"), ("keys.write_all", "All keys"), ("pose.rest", "To rest")):
            keys.addWidget(action_button(q[action], text))
        column.addLayout(keys)
        self.space = QComboBox()
        self.space.setObjectName("pick.space")
        self.space.setAccessibleName("What the picked control follows")
        narrow(self.space)
        self.space.activated.connect(lambda _: follow(c, c.state.selection.lead, self.space.currentData()))
        self.space_row = QWidget()
        spaces = QHBoxLayout(self.space_row)
        spaces.setContentsMargins(0, 0, 0, 0)
        spaces.addWidget(label("Follows", "soft"))
        spaces.addWidget(self.space, 1)
        column.addWidget(self.space_row)
        self.limbs = Flow()
        self.sets = Flow()
        column.addWidget(self.limbs)
        column.addWidget(self.sets)
        self.shown: tuple[Page, ...] = ()

    def _apart(self) -> None:
        self.c.store.put_setting(PickSettings, apart=not self.c.state.settings.of(PickSettings).apart)

    def _lay_out(self) -> None:
        ids = self.c.state.selection.ids if self.c.state.selection.kind == "control" else ()
        self.c.try_edit("Lay out the pick card", lambda d: edits.lay_out_card(d, ids))

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        pieces = (one.rig, one.skeleton, one.parts, one.card, one.control_sets) if one is not None else ()
        return (*pieces, state.selection.kind, state.selection.ids, self.c.frames.control_pose, state.settings.of(PickSettings), state.viewing.hidden, state.viewing.animators)

    def show_state(self, state: State) -> None:
        one, chosen = state.character, state.settings.of(PickSettings)
        rig = one.rig if one is not None else None
        pages = card_pages(one) if one is not None else ()
        keys = [p.key for p in pages]
        if keys != [p.key for p in self.shown]:
            clear(self.pages)
            for page in pages if len(pages) > 1 else ():
                chip = QPushButton(page.title)
                chip.setObjectName(f"pick.page.{page.key.replace(' ', '_')}")
                chip.setCheckable(True)
                chip.clicked.connect(partial(self._turn_to, page.key))
                self.pages.addWidget(chip)
        self.shown = pages
        shown = next((p for p in pages if p.key == chosen.page), pages[0] if pages else None)
        for k in range(self.pages.count()):
            item = self.pages.itemAt(k)
            turned = item.widget() if item is not None else None
            if isinstance(turned, QPushButton):
                turned.setChecked(shown is not None and turned.text() == shown.title)
        self.sheet.show_page(shown)
        self.apart.setText("Beside the view" if chosen.apart else "Own window")
        lead = state.selection.lead if state.selection.kind == "control" else ""
        count = len(state.selection.ids) if lead else 0
        self.said.setText("" if rig is None or lead not in rig.index else rig.control(lead).name + (f" and {count - 1} more" if count > 1 else ""))
        if rig is None:
            self.said.setText("Build controls first: the card is made from them.")
        show_spaces(self.space, one.skeleton if one is not None else None, rig, self.c.frames.control_pose, lead)
        self._show_limbs(rig)
        self.sets.show_words([(name, name, partial(self._pick_set, name)) for name in (one.control_sets if one is not None else {})], "pick.set")

    def _turn_to(self, page: str, *_: object) -> None:
        self.c.store.put_setting(PickSettings, page=page)

    def _show_limbs(self, rig: ControlRig | None) -> None:
        """A button a limb: what it is on, a press puts it on the other."""
        pose, words = self.c.frames.control_pose, []
        for limb in rig.limbs if rig is not None else ():
            assert rig is not None
            on = rig.value(pose, limb.amount) >= 0.5
            name = limb_words(limb)
            words.append((f"{name}: {'IK' if on else 'FK'}", limb.id, partial(self._switch, limb.id, name, 0.0 if on else 1.0)))
        self.limbs.show_words(words, "pick.limb")

    def _switch(self, limb: str, name: str, to: float) -> None:
        blend_limb(self.c, f"{name} to {'IK' if to else 'FK'}", limb, to)

    def _pick_set(self, name: str) -> None:
        rig = self.c.character.require_rig()
        self.c.store.select("control", *(i for i in self.c.character.control_sets[name] if i in rig.index))


class Flow(QWidget):
    """Small buttons in as many rows as they need."""

    def __init__(self) -> None:
        super().__init__()
        self.buttons: list[QPushButton] = []
        self.told: list[tuple[str, str]] = []

    def show_words(self, words: list[tuple[str, str, partial[None]]], stem: str) -> None:
        """(text, id, what it does) of each."""
        if [(text, one) for text, one, _ in words] == self.told:
            return
        self.told = [(text, one) for text, one, _ in words]
        for old in self.buttons:
            old.setObjectName("")
            old.hide()
            old.deleteLater()
        self.buttons = []
        for text, one, run in words:
            made = button(text, f"{stem}.{one}", run, role="small")
            made.setParent(self)
            made.setFocusPolicy(Qt.FocusPolicy.TabFocus)
            made.show()
            self.buttons.append(made)
        self._flow()

    def _flow(self) -> None:
        x = y = 0
        for one in self.buttons:
            size = one.sizeHint()
            if x and x + size.width() > self.width():
                x, y = 0, y + size.height() + 3
            one.setGeometry(x, y, size.width(), size.height())
            x += size.width() + 4
        tall = y + (self.buttons[-1].sizeHint().height() if self.buttons else 0)
        if self.minimumHeight() != tall:
            self.setFixedHeight(tall)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._flow()


def _here(state: State) -> bool:
    return state.settings.of(PickSettings).open and not state.settings.of(PickSettings).apart and state.character is not None


def _away(state: State) -> bool:
    return state.settings.of(PickSettings).open and state.settings.of(PickSettings).apart and state.character is not None


def pick_panes() -> tuple[Pane, Pane]:
    """The pick card beside the view and as a window, for the areas that pose."""
    return (
        Pane("pick", "Pick card", Place.SIDE, PickCard, _here, size=WIDE),
        Pane("pick.window", "Pick card", Place.WINDOW, PickCard, _away, size=360, closed=lambda c: c.store.put_setting(PickSettings, open=False)),
    )
