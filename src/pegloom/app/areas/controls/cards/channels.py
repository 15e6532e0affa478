"""Channels of the picked controls: locked, shown, limited, added; and what they show and move."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QHBoxLayout,
    QHeaderView,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
)

from pegloom.app.areas.controls.made import add_channel, drop_channel, drop_output, move_morph, show_by, switch_channels
from pegloom.app.areas.controls.settings_made import ChannelSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, button, clear, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import choice, fill, filled_by_pick, line, narrow, number
from pegloom.core.rig.changes import ChannelChange
from pegloom.core.rig.channels import Channel, Quantity
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.outputs import CONTROL, FIGURE, PART
from pegloom.core.rig.refs import ChannelRef
from pegloom.document import edits

WORDS = {
    Quantity.SHARE: "share, 0 to 1", Quantity.NUMBER: "number", Quantity.LENGTH: "length, cm", Quantity.ANGLE: "angle, degrees",
    Quantity.FACTOR: "factor", Quantity.SWITCH: "switch", Quantity.CHOICE: "choice",
}  # fmt: skip
TITLE, LOCKED, SHOWN, LOW, HIGH = range(5)
TALL = 168


class ChannelCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Channels", "controls.channels", sentence="Of the picked control: lock, show and limit them, or add one. Ticks go to all picked.", is_open=False
        )
        self.stays_on("control")
        self.table = QTableWidget(0, 5)
        self.table.setObjectName("controls.channel_table")
        self.table.setAccessibleName("Channels of the picked control")
        self.table.setHorizontalHeaderLabels(["Channel", "Lock", "Show", "From", "To"])
        header = self.table.horizontalHeader()
        assert header is not None
        header.setSectionResizeMode(TITLE, QHeaderView.ResizeMode.Stretch)
        for column, wide in ((LOCKED, 40), (SHOWN, 44), (LOW, 44), (HIGH, 42)):
            self.table.setColumnWidth(column, wide)
        rows = self.table.verticalHeader()
        assert rows is not None
        rows.hide()
        rows.setDefaultSectionSize(22)
        self.table.setFixedHeight(TALL)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.itemChanged.connect(self._changed)
        self.body.addWidget(self.table)
        self.row(
            button("Lock all", "controls.lock_all", lambda: self._all(locked=True), role="plain"),
            button("Free all", "controls.free_all", lambda: self._all(locked=False), role="plain"),
            button("Drop", "controls.drop_channel", self._drop, role="plain", tip="The chosen channel, where it was added by hand"),
        )
        self.body.addWidget(label("Add a channel", "soft"))
        self.field("Title", line(self, ChannelSettings, "title", name="controls.channel_title", hint="smile"))
        self.kind_box = choice(self, ChannelSettings, "quantity", [(w, q) for q, w in WORDS.items()], name="controls.channel_quantity")
        self.field("Kind", self.kind_box)
        self.low = number(self, ChannelSettings, "low", -1e4, 1e4, name="controls.channel_low")
        self.high = number(self, ChannelSettings, "high", -1e4, 1e4, name="controls.channel_high")
        for box in (self.low, self.high):
            box.setMinimumWidth(70)
        self.low.setAccessibleName("From")
        self.high.setAccessibleName("To")
        self.row(label("From", "soft"), self.low, label("to", "soft"), self.high)
        self.soft = number(self, ChannelSettings, "soft", 0.0, 1e4, name="controls.channel_soft")
        self.soft.setToolTip("Over how much it eases into its limits, instead of stopping hard")
        self.field("Eases over", self.soft)
        self.options = line(self, ChannelSettings, "options", name="controls.channel_options", hint="day, night, out")
        self.field("Options", self.options)
        self.row(
            button("Add", "controls.add_channel", lambda: c.attempt(lambda: add_channel(c, self.subject_id(c.state)))),
            action_button(c.actions.qactions["controls.width"], "Width"),
        )
        self.body.addWidget(label("The chosen channel shows, or moves", "soft"))
        self.thing = QComboBox()
        narrow(self.thing)
        self.thing.setObjectName("controls.shown_thing")
        self.thing.activated.connect(lambda _: c.store.put_setting(ChannelSettings, shown_thing=self.thing.currentData()))
        self.field("Shows", filled_by_pick(self, self.thing, ChannelSettings, "shown_thing", ("control", "part"), "Shows"))
        self.when = QComboBox()
        narrow(self.when)
        self.when.setObjectName("controls.shown_when")
        self.when.setAccessibleName("While it is")
        self.row(label("while it is", "soft"), self.when, button("Show", "controls.show_by", self._show))
        self.morph = choice(self, ChannelSettings, "morph", (), name="controls.morph")
        self.field("Morph", self.morph)
        self.body.addWidget(button("Move it", "controls.move_morph", lambda: c.attempt(lambda: move_morph(c, self.subject_id(c.state), self.chosen))))
        self.outputs = QVBoxLayout()
        self.outputs.setSpacing(2)
        self.body.addLayout(self.outputs)

    @property
    def chosen(self) -> str:
        """Key of the chosen channel."""
        item = self.table.item(self.table.currentRow(), TITLE) if self.table.currentRow() >= 0 else None
        return str(item.data(Qt.ItemDataRole.UserRole)) if item is not None else ""

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        return (one.rig if one is not None else None, one.parts if one is not None else (), tuple((c.id, c.name) for c in state.document.characters), self.subject_id(state), state.selection.ids)

    def show_state(self, state: State) -> None:
        one, lead = state.character, self.subject_id(state)
        rig = one.rig if one is not None else None
        self.note.setText(rig.control(lead).name if rig is not None and lead else "select a control")
        kept = self.chosen
        some = rig.control(lead).channels if rig is not None and lead else ()
        self.table.setRowCount(len(some))
        for row, channel in enumerate(some):
            self._put(row, channel, rig, lead)
            if channel.key == kept:
                self.table.selectRow(row)
        told = state.settings.of(ChannelSettings)
        plain = told.quantity in (Quantity.SWITCH, Quantity.CHOICE)
        self.low.setEnabled(not plain)
        self.high.setEnabled(not plain)
        self.soft.setEnabled(not plain)
        self.options.setEnabled(told.quantity is Quantity.CHOICE)
        names = sorted({m.name for p in (one.parts if one is not None else ()) for m in p.morphs})
        fill(self.morph, [("none", ""), *((n, n) for n in names)])
        self.morph.setCurrentIndex(max(self.morph.findData(told.morph), 0))
        things = [(p.name, p.id) for p in (one.parts if one is not None else ())]
        things += [(h.name, h.id) for h in (rig.handles if rig is not None else ())]
        things += [(c.name, FIGURE + c.id) for c in state.document.characters if c is not one]
        fill(self.thing, [("pick one", ""), *things])
        self.thing.setCurrentIndex(max(self.thing.findData(told.shown_thing), 0))
        about = next((x for x in some if x.key == kept), None)
        words = list(enumerate(about.options)) if about is not None and about.options else [(0, "off (0)"), (1, "on (1)")]
        at = self.when.currentData()
        fill(self.when, [(w, k) for k, w in words])
        self.when.setCurrentIndex(max(self.when.findData(1 if at is None else at), 0))
        self._outputs(rig, lead, {p.id: p.name for p in (one.parts if one is not None else ())})

    def _put(self, row: int, channel: Channel, rig: ControlRig | None, lead: str) -> None:
        driven = rig is not None and ChannelRef(lead, channel.key) in rig.drivers
        title = QTableWidgetItem(("⤷ " if driven else "") + channel.title)
        title.setData(Qt.ItemDataRole.UserRole, channel.key)
        title.setFlags(Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable)
        if driven and rig is not None:
            title.setToolTip("driven by " + ", ".join(d.name for d in rig.drivers[ChannelRef(lead, channel.key)]))
        self.table.setItem(row, TITLE, title)
        for column, on in ((LOCKED, channel.locked), (SHOWN, channel.shown)):
            box = QTableWidgetItem()
            box.setFlags(Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsUserCheckable)
            box.setCheckState(Qt.CheckState.Checked if on else Qt.CheckState.Unchecked)
            self.table.setItem(row, column, box)
        for column, value in ((LOW, channel.low), (HIGH, channel.high)):
            text = "" if value is None else f"{value * channel.quantity.on_screen:.4g}"
            self.table.setItem(row, column, QTableWidgetItem(text))

    def _changed(self, item: QTableWidgetItem) -> None:
        lead = self.subject_id(self.c.state)
        head = self.table.item(item.row(), TITLE)
        if self.showing or not lead or head is None:
            return
        key = str(head.data(Qt.ItemDataRole.UserRole))
        picked = self.c.state.selection
        owners = picked.ids if picked.kind == "control" and lead in picked.ids else (lead,)
        rig = self.c.character.require_rig()
        owners = tuple(o for o in owners if rig.control(o).channel(key) is not None)
        if item.column() in (LOCKED, SHOWN):
            on = item.checkState() is Qt.CheckState.Checked
            switch_channels(self.c, owners, (key,), **{"locked" if item.column() == LOCKED else "shown": on})
        elif item.column() in (LOW, HIGH):
            self._limit(lead, key, item)

    def _limit(self, lead: str, key: str, item: QTableWidgetItem) -> None:
        channel = self.c.character.require_rig().control(lead).channel(key)
        assert channel is not None
        text = item.text().strip().replace(",", ".")
        try:
            value = float(text) / channel.quantity.on_screen if text else None
        except ValueError:
            self.c.say(f"{text} is no number; a limit is one, or empty for none", error=True)
            self.look_anew()
            return
        limits = (value, channel.high) if item.column() == LOW else (channel.low, value)
        old = self.c.character.rig_changes.channels.get((lead, key), ChannelChange())
        change = ChannelChange(old.title, limits, old.soft, old.locked, old.shown)
        if not self.c.try_edit(f"Limits of {channel.title}", lambda d: edits.change_channel(d, lead, key, change)):
            self.look_anew()

    def _all(self, *, locked: bool) -> None:
        picked, lead = self.c.state.selection, self.subject_id(self.c.state)
        owners = picked.ids if picked.kind == "control" and lead in picked.ids else (lead,)
        if lead:
            switch_channels(self.c, owners, (), locked=locked)

    def _drop(self) -> None:
        lead = self.subject_id(self.c.state)
        if lead and self.chosen:
            drop_channel(self.c, lead, self.chosen)
        else:
            self.c.say("Choose a channel in the list first", error=True)

    def _show(self) -> None:
        self.c.attempt(lambda: show_by(self.c, self.subject_id(self.c.state), self.chosen, int(self.when.currentData() or 0)))

    def _outputs(self, rig: ControlRig | None, lead: str, parts: dict[str, str]) -> None:
        """What channels of this control show and move, each with a way to let it go."""
        clear(self.outputs)
        if rig is None or not lead:
            return
        others = {c.id: c.name for c in self.c.state.document.characters}
        rows = [(m.id, f"{m.channel.key.replace('_', ' ')} moves {m.morph}") for m in rig.morphs if m.channel.owner == lead]
        for show in rig.shows:
            if show.channel.owner == lead:
                name = parts.get(show.thing.removeprefix(PART), "") if show.thing.startswith(PART) else ""
                if show.thing.startswith(CONTROL) and show.thing.removeprefix(CONTROL) in rig.index:
                    name = rig.control(show.thing.removeprefix(CONTROL)).name
                name = name or others.get(show.thing.removeprefix(FIGURE), "")
                rows.append((show.id, f"{name or show.thing} is seen while {show.channel.key.replace('_', ' ')} is {show.when}"))
        rows += [(w.id, "width and thickness") for w in rig.widths if w.across.owner == lead]
        for told, words in rows:
            box = QHBoxLayout()
            box.addWidget(label(words, "caption", wrap=True), 1)
            box.addWidget(button("Let go", f"controls.output.{told}", partial(drop_output, self.c, told), role="plain"))
            self.outputs.addLayout(box)
