"""Fields bound to a setting: they show it, and what the user puts in becomes it."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QCheckBox, QComboBox, QDoubleSpinBox, QHBoxLayout, QLineEdit, QSpinBox, QWidget

from pegloom.app.state.settings import Setting
from pegloom.app.state.state import Wanted
from pegloom.app.theme import put_icon
from pegloom.app.widgets.buttons import button
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.panel import Panel
from pegloom.app.widgets.sliders import SliderRow


def _bind(panel: Panel, widget: QWidget, kind: type[Setting], field: str, name: str, put: Callable[[Any], None]) -> None:
    widget.setObjectName(name or f"{kind.ID}.{field}")
    shown_by(panel, widget, kind, field, put)


def shown_by(panel: Panel, widget: QWidget, kind: type[Setting], field: str, put: Callable[[Any], None]) -> None:
    """A field of a setting is shown by a widget: put(value) shows it, and the card's menu is for it too."""
    panel.settings_shown.append((kind, field, put))
    panel.field_widgets[kind, field] = widget
    if isinstance(panel, Card):
        panel.bound()


def _write(panel: Panel, kind: type[Setting], field: str, value: Any) -> None:
    if not panel.showing:
        panel.c.store.put_setting(kind, **{field: value})


def choice(
    panel: Panel, kind: type[Setting], field: str, options: Iterable[tuple[str, Any]], *, name: str = "",
    tips: Iterable[str] = (),
) -> QComboBox:  # fmt: skip
    """One of some options."""
    box = QComboBox()
    narrow(box)
    fill(box, options, tips)
    box.currentIndexChanged.connect(lambda _: _write(panel, kind, field, box.currentData()))
    _bind(panel, box, kind, field, name, lambda value: box.setCurrentIndex(max(box.findData(value), 0)))
    return box


def narrow(box: QComboBox) -> None:
    """As wide as its card has room for, whatever its options are called."""
    box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    box.setMinimumContentsLength(6)


def fill(box: QComboBox, options: Iterable[tuple[str, Any]], tips: Iterable[str] = ()) -> None:
    """Other options, without telling anybody."""
    box.blockSignals(True)
    box.clear()
    for text, value in options:
        box.addItem(text, value)
    for row, text in enumerate(tips):
        box.setItemData(row, text, Qt.ItemDataRole.ToolTipRole)
    box.blockSignals(False)


def whole(
    panel: Panel, kind: type[Setting], field: str, low: int, high: int, *, name: str = "", suffix: str = "",
    special: str = "",
) -> QSpinBox:  # fmt: skip
    """A whole number."""
    box = QSpinBox()
    box.setRange(low, high)
    box.setSuffix(suffix)
    box.setSpecialValueText(special)
    box.valueChanged.connect(lambda value: _write(panel, kind, field, value))
    _bind(panel, box, kind, field, name, box.setValue)
    return box


def number(
    panel: Panel, kind: type[Setting], field: str, low: float, high: float, *, name: str = "", suffix: str = "",
    special: str = "", decimals: int = 2, step: float = 1.0,
) -> QDoubleSpinBox:  # fmt: skip
    """A number."""
    box = QDoubleSpinBox()
    box.setRange(low, high)
    box.setDecimals(decimals)
    box.setSingleStep(step)
    box.setSuffix(suffix)
    box.setSpecialValueText(special)
    box.valueChanged.connect(lambda value: _write(panel, kind, field, value))
    _bind(panel, box, kind, field, name, box.setValue)
    return box


def tick(panel: Panel, kind: type[Setting], field: str, text: str, *, name: str = "", tip: str = "") -> QCheckBox:
    """On or off."""
    box = QCheckBox(text)
    box.setAccessibleName(text)
    box.setToolTip(tip)
    box.toggled.connect(lambda on: _write(panel, kind, field, on))
    _bind(panel, box, kind, field, name, box.setChecked)
    return box


def slider(
    panel: Panel, kind: type[Setting], field: str, low: float, high: float, show: Callable[[float], str], *, name: str = "",
) -> SliderRow:  # fmt: skip
    """A number on a slider."""
    row = SliderRow(name or f"{kind.ID}.{field}", low, high, show, lambda value: _write(panel, kind, field, value))
    shown_by(panel, row, kind, field, row.set)
    return row


def line(panel: Panel, kind: type[Setting], field: str, *, name: str = "", hint: str = "") -> QLineEdit:
    """A line of text."""
    box = QLineEdit()
    box.setPlaceholderText(hint)
    box.textChanged.connect(lambda text: _write(panel, kind, field, text))
    _bind(panel, box, kind, field, name, lambda text: box.setText(text) if box.text() != text else None)
    return box


def filled_by_pick(panel: Panel, box: QComboBox, kind: type[Setting], field: str, things: str | tuple[str, ...], says: str) -> QWidget:
    """A field for a joint, control or part, or one of some kinds, with a button beside it after which the next pick in the view fills it."""
    holder = QWidget()
    row = QHBoxLayout(holder)
    row.setContentsMargins(0, 0, 0, 0)
    row.setSpacing(4)
    row.addWidget(box, 1)
    c = panel.c
    kinds = (things,) if isinstance(things, str) else things
    wanted, said = Wanted(kinds, kind, field, says), " or a ".join(kinds)

    def press() -> None:
        waiting = c.state.tooling.wanted == wanted
        c.store.put(wanted=None if waiting else wanted)

    button_ = button("", f"{box.objectName()}.pick", press, role="plain", tip=f"Then pick a {said} in the view: it goes into {says}")
    put_icon(button_, "crosshair")
    button_.setAccessibleName(f"Fill {says} by a pick in the view")
    row.addWidget(button_)
    holder.setFocusProxy(box)
    return holder
