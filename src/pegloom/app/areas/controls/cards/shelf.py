"""Kept poses as pictures, put on by a click or as far as one drags; sets of controls."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QAction, QIcon, QMouseEvent, QPixmap
from PyQt6.QtWidgets import QApplication, QGridLayout, QHBoxLayout, QToolButton, QVBoxLayout

from pegloom.app.areas.controls.posing import drop_pose, drop_set, pick_set, put_pose, rename_pose, try_pose
from pegloom.app.areas.controls.settings import ShelfSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.theme import put_icon
from pegloom.app.widgets import action_button, button, clear, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import slider, tick
from pegloom.core.said import counted
from pegloom.document.model import ShelfPose

PICTURE = QSize(72, 54)
A_ROW = 3
WHOLE = 140.0
"""Pixels a picture is dragged sideways for all of its pose."""
START = 4.0


class PosePicture(QToolButton):
    """A kept pose. A click puts it on by the card's amount; dragged sideways, it comes on as far as it is dragged."""

    def __init__(self, c: Context, pose: ShelfPose) -> None:
        super().__init__()
        self.c, self.pose = c, pose
        self.from_x: float | None = None
        self.amount: float | None = None
        self.setObjectName(f"controls.pose.{pose.id}")
        self.setProperty("role", "shape")
        self.setAccessibleName(pose.name)
        self.setToolTip(f"{pose.name}{', of some controls' if pose.part else ''}: click to put it on, drag sideways for as much as you like")
        self.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextUnderIcon)
        self.setText(self.fontMetrics().elidedText(pose.name, Qt.TextElideMode.ElideRight, PICTURE.width()))
        self.setIconSize(PICTURE)
        self.setFixedSize(PICTURE.width() + 8, PICTURE.height() + 24)
        if pose.picture is not None:
            pixmap = QPixmap()
            pixmap.loadFromData(pose.picture.data)
            self.setIcon(QIcon(pixmap))
        self.clicked.connect(self._click)
        self.setContextMenuPolicy(Qt.ContextMenuPolicy.ActionsContextMenu)
        for word, run in (("Rename", rename_pose), ("Forget", drop_pose)):
            action = QAction(word, self)
            action.triggered.connect(partial(self._then, run))
            self.addAction(action)

    def _then(self, run: Callable[[Context, str], None], *_: object) -> None:
        run(self.c, self.pose.id)

    def _click(self) -> None:
        if self.amount is None:
            put_pose(self.c, self.pose.id, self.c.state.settings.of(ShelfSettings).amount)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        super().mousePressEvent(event)
        if event.button() == Qt.MouseButton.LeftButton:
            self.from_x, self.amount = event.globalPosition().x(), None

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self.from_x is None:
            return
        moved = event.globalPosition().x() - self.from_x
        if self.amount is None and abs(moved) < START:
            return
        self.amount = min(max(moved / WHOLE, 0.0), 1.0)
        self.c.store.put(dragging=True)
        try_pose(self.c, self.pose.id, self.amount)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        amount, self.from_x = self.amount, None
        super().mouseReleaseEvent(event)
        if amount is not None:
            self.c.store.put(dragging=False)
            self.c.store.drop_draft()
            put_pose(self.c, self.pose.id, amount)
        self.amount = None


class ShelfCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Poses and sets", "controls.poses", sentence="Click a picture to put its pose on; drag it sideways for a part of it.",
        )  # fmt: skip
        self.field("Amount", slider(self, ShelfSettings, "amount", 0.0, 1.0, lambda v: f"{v:.0%}", name="controls.poses.amount"))
        self.body.addWidget(tick(self, ShelfSettings, "picked_only", "Only the picked controls", name="controls.poses.picked"))
        self.body.addWidget(action_button(c.actions.qactions["pose.keep"], "Keep this pose"))
        self.grid = QGridLayout()
        self.grid.setSpacing(4)
        self.grid.setAlignment(Qt.AlignmentFlag.AlignLeft)
        self.body.addLayout(self.grid)
        self.body.addWidget(label("Sets: controls that are picked together", "soft"))
        q = c.actions.qactions
        self.row(action_button(q["sets.keep"], "Keep picked as a set"), action_button(q["view.isolate"], "Isolate"))
        self.rows = QVBoxLayout()
        self.rows.setSpacing(3)
        self.body.addLayout(self.rows)

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        return (one.poses, one.control_sets, one.rig) if one is not None else ()

    def show_state(self, state: State) -> None:
        some = state.character.poses if state.character is not None else ()
        self.note.setText(counted(len(some), "pose") if some else "none kept yet")
        clear(self.grid)
        for k, pose in enumerate(some):
            self.grid.addWidget(PosePicture(self.c, pose), k // A_ROW, k % A_ROW)
        self._show_sets(state)

    def _show_sets(self, state: State) -> None:
        one = state.character
        sets = one.control_sets if one is not None else {}
        clear(self.rows)
        for name, ids in sets.items():
            there = sum(i in one.rig.index for i in ids) if one is not None and one.rig is not None else 0
            line = QHBoxLayout()
            said = f"{name}  ·  {there}" if there == len(ids) else f"{name}  ·  {there} of {len(ids)}"
            pick = button(said, f"sets.pick.{name}", partial(self._pick, name), tip="Pick these; with Shift these too")
            line.addWidget(pick, 1)
            forget = button("", f"sets.drop.{name}", partial(drop_set, self.c, name), role="plain", tip=f"Forget the set {name}; its controls stay")
            put_icon(forget, "x")
            forget.setAccessibleName(f"Forget the set {name}")
            line.addWidget(forget)
            self.rows.addLayout(line)

    def _pick(self, name: str) -> None:
        add = bool(QApplication.keyboardModifiers() & Qt.KeyboardModifier.ShiftModifier)
        pick_set(self.c, name, add=add)
