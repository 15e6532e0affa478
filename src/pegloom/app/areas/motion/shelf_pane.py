"""The clip shelf at the view's edge: one line of search, rows by kind with small figures that move under the pointer."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import QEvent, QModelIndex, QPointF, QRect, QRectF, QSize, Qt, QTimer
from PyQt6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QVBoxLayout,
    QWidget,
)

from pegloom.app.areas.motion.borrowing import BorrowSettings, Onto
from pegloom.app.areas.motion.shelving import (
    ALL,
    FAVOURITES,
    OWN,
    RECENT,
    Figure,
    Row,
    ShelfSettings,
    body_here,
    favour,
    figure_of,
    look,
    made_ready,
    others,
    pick,
    rows_of,
    search,
    settings,
    shelf,
    toggle,
    understood,
)
from pegloom.app.context import Context
from pegloom.app.jobs import Order
from pegloom.app.state.state import State
from pegloom.app.theme import current, put_icon
from pegloom.app.widgets import action_button, button, label
from pegloom.app.widgets.fields import choice, fill, narrow, number, tick, whole
from pegloom.app.widgets.panel import Panel
from pegloom.core.errors import PegLoomError
from pegloom.core.motion.shelf.card import KINDS, ClipCard

TALL, HEAD = 52, 22
STILLS = (0.12, 0.45, 0.8)
"""Shares of a clip at which it is drawn while nothing points at it."""
TICK = 60
WAITS = 220
"""Milliseconds without another letter after which is searched."""
ROLE_ROW, ROLE_HEAD = Qt.ItemDataRole.UserRole, Qt.ItemDataRole.UserRole + 1
BODIES = {"people": "", "four legs": "four legs", "bird": "bird", "prop": "prop", "cut-out": "cut-out"}


class RowPainter(QStyledItemDelegate):
    """Draws a row: three moments of a small figure, the name, and what is to be known of it."""

    def __init__(self, pane: ShelfPane) -> None:
        super().__init__(pane)
        self.pane = pane

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        return QSize(200, HEAD if index.data(ROLE_HEAD) else TALL)

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        assert painter is not None
        theme, head = current(), index.data(ROLE_HEAD)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = option.rect
        if head:
            painter.setPen(QColor(theme.soft))
            painter.drawText(box.adjusted(6, 4, -6, 0), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, head)
            painter.setPen(QPen(QColor(theme.line), 1))
            painter.drawLine(box.left() + 6, box.bottom(), box.right() - 6, box.bottom())
            painter.restore()
            return
        row: Row = index.data(ROLE_ROW)
        chosen = bool(option.state & QStyle.StateFlag.State_Selected)
        if chosen:
            fill = QColor(theme.woad)
            fill.setAlphaF(0.3)
            painter.setBrush(fill)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.drawRoundedRect(QRectF(box).adjusted(2, 1, -2, -1), 5, 5)
        self._figures(painter, row.card, QRect(box.left() + 4, box.top() + 3, 126, box.height() - 6), index.row() == self.pane.pointed)
        words = box.adjusted(136, 5, -6, -4)
        painter.setPen(QColor(theme.text))
        metrics = painter.fontMetrics()
        title = row.card.title
        half = QRect(words.left(), words.top(), words.width(), words.height() // 2)
        painter.drawText(half, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, metrics.elidedText(title, Qt.TextElideMode.ElideRight, words.width()))
        font = painter.font()
        font.setPixelSize(11)
        painter.setFont(font)
        painter.setPen(QColor(theme.soft))
        below = QRect(words.left(), words.top() + words.height() // 2, words.width(), words.height() // 2)
        painter.drawText(below, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, painter.fontMetrics().elidedText(self._said(row), Qt.TextElideMode.ElideRight, words.width()))
        painter.restore()

    def _said(self, row: Row) -> str:
        card = row.card
        marks = [f"{card.seconds:.1f} s"]
        if card.id in self.pane.favourites:
            marks.insert(0, "★")
        if card.loops:
            marks.append("loops")
        if BODIES.get(card.body):
            marks.append(BODIES[card.body])
        if card.partner:
            marks.append("for two")
        if not card.may_deliver:
            marks.append("not to deliver")
        return " · ".join(marks)

    def _figures(self, painter: QPainter, card: ClipCard, box: QRect, moving: bool) -> None:
        figure = self.pane.figures.get(card.id)
        if figure is None:
            self.pane.want(card.id)
            return
        theme = current()
        wide = box.width() / 3.0
        if moving:
            at = self.pane.moment % len(figure.places)
            self._figure(painter, figure, at, QRectF(box.left() + wide, box.top(), wide, box.height()), QColor(theme.woad))
            return
        for k, share in enumerate(STILLS):
            at = min(int(share * len(figure.places)), len(figure.places) - 1)
            self._figure(painter, figure, at, QRectF(box.left() + k * wide, box.top(), wide, box.height()), QColor(theme.soft))

    def _figure(self, painter: QPainter, figure: Figure, at: int, box: QRectF, colour: QColor) -> None:
        size = min(box.width(), box.height()) * 0.96
        x0, y0 = box.center().x() - size / 2, box.center().y() + size / 2
        painter.setPen(QPen(colour, 2.0, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
        places = figure.places[at]
        for a, b in figure.bones:
            painter.drawLine(QPointF(x0 + size * places[a, 0], y0 - size * places[a, 1]), QPointF(x0 + size * places[b, 0], y0 - size * places[b, 1]))
        if figure.head >= 0:
            painter.setBrush(colour)
            x, y = places[figure.head]
            painter.drawEllipse(QPointF(x0 + size * x, y0 - size * y - 1.5), 2.2, 2.2)


class ClipList(QListWidget):
    """Rows; the pointer over one lets its figure move."""

    def __init__(self, pane: ShelfPane) -> None:
        super().__init__()
        self.pane = pane
        self.setMouseTracking(True)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        super().mouseMoveEvent(event)
        self.pane.point_at(self.row(item) if (item := self.itemAt(event.position().toPoint())) is not None else -1)

    def leaveEvent(self, event: QEvent | None) -> None:
        super().leaveEvent(event)
        self.pane.point_at(-1)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.pane.c.actions.run("shelf.take")
            return
        super().keyPressEvent(event)


class ShelfPane(Panel):
    def __init__(self, c: Context) -> None:
        super().__init__(c)
        self.setObjectName("shelf.pane")
        self.figures: dict[str, Figure] = {}
        self.wanted: list[str] = []
        self.favourites: frozenset[str] = frozenset()
        self.pointed, self.moment = -1, 0
        self.rows_for: object = None
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 10, 12, 10)
        column.setSpacing(6)
        head = QHBoxLayout()
        head.addWidget(label("Clip shelf", "area"))
        head.addStretch(1)
        shut = button("", "shelf.close", lambda: toggle(c), role="plain", tip="Close (Esc)")
        shut.setAccessibleName("Close the clip shelf")
        put_icon(shut, "x")
        head.addWidget(shut)
        column.addLayout(head)
        self.search = QLineEdit()
        self.search.setObjectName("shelf.search")
        self.search.setAccessibleName("Find clips in plain words")
        self.search.setPlaceholderText("in your words: someone tired walking home")
        self.search.setClearButtonEnabled(True)
        self.search.setToolTip("English, German, French, Spanish, Italian, Portuguese, Polish, Turkish, Japanese, Korean, Chinese")
        self.later = QTimer(self)
        self.later.setSingleShot(True)
        self.later.setInterval(WAITS)
        self.later.timeout.connect(self._search)
        self.search.textEdited.connect(lambda _: self.later.start())
        self.search.returnPressed.connect(self._search)
        column.addWidget(self.search)
        self.words = label("", "caption", wrap=True, name="shelf.words")
        column.addWidget(self.words)
        line = QHBoxLayout()
        self.group = QComboBox()
        narrow(self.group)
        self.group.setObjectName("shelf.group")
        self.group.setAccessibleName("Which clips")
        for text, value in (("all clips", ALL), ("favourites", FAVOURITES), ("recent", RECENT), ("my own", OWN), *((kind, kind) for kind in KINDS)):
            self.group.addItem(text, value)
        self.group.activated.connect(lambda _: c.store.put_setting(ShelfSettings, group=self.group.currentData(), like=""))
        line.addWidget(self.group, 1)
        q = c.actions.qactions
        line.addWidget(action_button(q["shelf.put"], "Add my own"))
        column.addLayout(line)
        self.list = ClipList(self)
        self.list.setObjectName("shelf.list")
        self.list.setAccessibleName("Clips")
        self.list.setItemDelegate(RowPainter(self))
        self.list.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.list.currentItemChanged.connect(self._chosen)
        self.list.itemDoubleClicked.connect(lambda _: c.actions.run("shelf.take"))
        column.addWidget(self.list, 1)
        self.about = label("", "caption", wrap=True, name="shelf.about")
        column.addWidget(self.about)
        self.partner = button("", "shelf.partner", self._to_partner, role="plain", tip="The clip another figure plays at the same time")
        column.addWidget(self.partner)
        self.two = QWidget()
        line = QHBoxLayout(self.two)
        line.setContentsMargins(0, 0, 0, 0)
        self.other = QComboBox()
        narrow(self.other)
        self.other.setObjectName("shelf.other")
        self.other.setAccessibleName("Who plays the clip that belongs to it")
        self.other.activated.connect(lambda _: c.store.put_setting(ShelfSettings, other=self.other.currentData()))
        line.addWidget(label("With", "soft"))
        line.addWidget(self.other, 1)
        line.addWidget(action_button(q["shelf.for_two"], "Take for two"))
        column.addWidget(self.two)
        line = QHBoxLayout()
        self.speed = number(self, ShelfSettings, "speed", 0.25, 4.0, name="shelf.speed", suffix=" x", step=0.1)
        self.speed.setAccessibleName("Speed")
        self.speed.setKeyboardTracking(False)
        line.addWidget(label("Speed", "soft"))
        line.addWidget(self.speed)
        line.addWidget(tick(self, ShelfSettings, "mirror", "Mirror", name="shelf.mirror", tip="Its other side"))
        line.addWidget(tick(self, ShelfSettings, "in_place", "In place", name="shelf.in_place", tip="The ground goes under it"))
        column.addLayout(line)
        line = QHBoxLayout()
        line.addWidget(tick(self, ShelfSettings, "part", "Trim", name="shelf.part", tip="Take only these frames"))
        self.first = whole(self, ShelfSettings, "first", 0, 100_000, name="shelf.first")
        self.last = whole(self, ShelfSettings, "last", 0, 100_000, name="shelf.last")
        self.first.setAccessibleName("First frame")
        self.last.setAccessibleName("Last frame")
        line.addWidget(self.first, 1)
        line.addWidget(label("to", "soft"))
        line.addWidget(self.last, 1)
        column.addLayout(line)
        line = QHBoxLayout()
        line.addWidget(label("Onto", "soft"))
        onto = choice(self, BorrowSettings, "onto", [(o.value, o) for o in Onto], name="shelf.onto")
        onto.setAccessibleName("Onto")
        onto.setToolTip("What the motion is told by")
        line.addWidget(onto, 2)
        column.addLayout(line)
        line = QHBoxLayout()
        line.addWidget(action_button(q["shelf.take"], "Take it", role="main"), 2)
        line.addWidget(action_button(q["shelf.like"], "More like this"), 2)
        self.star = button("★", "shelf.star", partial(favour, c), role="plain", tip="Favourite, or no more")
        self.star.setAccessibleName("Favourite")
        self.star.setCheckable(True)
        line.addWidget(self.star)
        self.off = action_button(q["shelf.drop"], "Off")
        line.addWidget(self.off)
        column.addLayout(line)
        self.clock = QTimer(self)
        self.clock.setInterval(TICK)
        self.clock.timeout.connect(self._tick)
        self.looked: tuple[object, ...] = ()
        made_ready(c)

    # What the user does

    def _search(self) -> None:
        self.later.stop()
        search(self.c, self.search.text())

    def _chosen(self, item: QListWidgetItem | None) -> None:
        row = item.data(ROLE_ROW) if item is not None else None
        if not self.showing and row is not None:
            pick(self.c, row.card.id)

    def _to_partner(self) -> None:
        card = self._card(self.c.state)
        if card is not None and card.partner:
            pick(self.c, card.partner)

    def point_at(self, row: int) -> None:
        if row == self.pointed:
            return
        self.pointed, self.moment = row, 0
        if row >= 0:
            self.clock.start()
        else:
            self.clock.stop()
        self._redraw()

    def _tick(self) -> None:
        self.moment += 1
        self._redraw()

    def _redraw(self) -> None:
        view = self.list.viewport()
        if view is not None:
            view.update()

    def want(self, card_id: str) -> None:
        """A figure that is not known yet: read beside the window's own work, one after the other."""
        if card_id in self.wanted:
            return
        self.wanted.append(card_id)
        if len(self.wanted) == 1:
            self._next()

    def _next(self) -> None:
        if not self.wanted:
            return
        card_id = self.wanted[-1]

        def done(result: object) -> None:
            self.wanted.remove(card_id)
            if isinstance(result, Figure):
                self.figures[card_id] = result
                self._redraw()
            self._next()

        self.c.background.put(Order.STILLS, lambda: figure_of(card_id), done)

    # What is shown

    def key(self, state: State) -> tuple[object, ...]:
        return (settings(state), *state.stored.characters, state.stored.active)

    def _card(self, state: State) -> ClipCard | None:
        try:
            return shelf().card(settings(state).picked) if settings(state).picked else None
        except PegLoomError:
            return None

    def show_state(self, state: State) -> None:
        own = settings(state)
        rows_for = (own.words, own.group, own.like, own.kept)
        if self.rows_for != rows_for:
            self.rows_for = rows_for
            self.favourites = frozenset(shelf().favourites)
            self._fill(rows_of(own, body_here(state)), own.picked)
        if self.search.text() != own.words and not self.search.hasFocus():
            self.search.setText(own.words)
        self.words.setText(f"moves like {shelf().card(own.like).title}" if own.like else understood(own.words))
        self.words.setVisible(bool(self.words.text()))
        self.group.setCurrentIndex(max(self.group.findData(own.group), 0))
        card = self._card(state)
        self.about.setText(self._about(card) if card is not None else "Pick one: it plays on this character.")
        self.partner.setVisible(card is not None and bool(card.partner))
        if card is not None and card.partner:
            self.partner.setText(f"With it: {shelf().card(card.partner).title}")
        some = others(state)
        self.two.setVisible(card is not None and bool(card.partner) and bool(some))
        fill(self.other, [(one.name, one.id) for one in some])
        self.other.setCurrentIndex(max(self.other.findData(own.other), 0))
        self.star.setChecked(card is not None and card.id in self.favourites)
        self.off.setVisible(card is not None and card.own)
        if card is not None and not own.part:
            for box, value in ((self.first, 0), (self.last, round(card.seconds * card.rate))):
                box.setEnabled(False)
                box.setValue(value)
        for box in (self.first, self.last):
            box.setEnabled(own.part)
        looked = (own.mirror, own.in_place, own.speed)
        if self.looked and looked != self.looked and own.picked:
            QTimer.singleShot(0, lambda: look(self.c))
        self.looked = looked

    def _about(self, card: ClipCard) -> str:
        deliver = "may be delivered" if card.may_deliver else "not to be delivered"
        licence = card.licence or "licence not known"
        kinds = f"{', '.join(card.kinds)}. " if card.kinds else ""
        return f"{kinds}{card.seconds:.2f} s at {card.rate:g}; {card.origin}, {licence}, {deliver}."

    def _fill(self, rows: list[Row], picked: str) -> None:
        self.list.clear()
        self.pointed = -1
        heading = ""
        for row in rows:
            if row.heading != heading:
                heading = row.heading
                head = QListWidgetItem()
                head.setData(ROLE_HEAD, heading)
                head.setFlags(Qt.ItemFlag.NoItemFlags)
                self.list.addItem(head)
            item = QListWidgetItem()
            item.setData(ROLE_ROW, row)
            item.setData(Qt.ItemDataRole.AccessibleTextRole, row.card.title)
            item.setToolTip("; ".join(row.matched) or ", ".join(row.card.tags))
            self.list.addItem(item)
            if row.card.id == picked:
                self.list.setCurrentItem(item)


