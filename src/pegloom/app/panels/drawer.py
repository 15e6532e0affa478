"""The parts drawer: the tree of everything in the character."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QDropEvent
from PyQt6.QtWidgets import QAbstractItemView, QHBoxLayout, QLineEdit, QTreeWidget, QTreeWidgetItem, QVBoxLayout

from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.theme import current, put_icon
from pegloom.app.widgets import button, label
from pegloom.app.widgets.panel import Panel, same
from pegloom.core.said import counted
from pegloom.core.skeleton.uses import Use
from pegloom.document import edits
from pegloom.document.model import Character
from pegloom.document.uses import uses_in


class JointTree(QTreeWidget):
    """A tree in which a joint can be dragged onto another joint."""

    def __init__(self, hang: Callable[[str, str], None]) -> None:
        super().__init__()
        self.hang = hang
        self.setDragDropMode(QAbstractItemView.DragDropMode.InternalMove)

    def dropEvent(self, event: QDropEvent | None) -> None:
        """Tell which joint fell on which; the tree itself is filled anew from the document."""
        assert event is not None
        target, source = self.itemAt(event.position().toPoint()), self.currentItem()
        event.setDropAction(Qt.DropAction.IgnoreAction)
        event.accept()
        if target is None or source is None:
            return
        (kind, thing), (over, parent) = (
            source.data(0, Qt.ItemDataRole.UserRole),
            target.data(0, Qt.ItemDataRole.UserRole),
        )
        if kind == over == "joint" and thing != parent:
            self.hang(thing, parent)


class PartsDrawer(Panel):
    """Meshes, skeleton, controls and clips; picking here picks on the stage."""

    def __init__(self, c: Context) -> None:
        super().__init__(c)
        self.setObjectName("drawer")
        self.rows_of: tuple[object, ...] | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 6, 6, 4)
        column.setSpacing(4)
        head = QHBoxLayout()
        self.fold = button("", "parts.fold", self._toggle, role="plain", tip="Fold or unfold the parts drawer")
        put_icon(self.fold, "chevron-down")
        self.fold.setAccessibleName("Fold or unfold the parts drawer")
        self.search = QLineEdit()
        self.search.setObjectName("parts.find")
        self.search.setPlaceholderText("find")
        self.search.setAccessibleName("Find a part")
        self.search.setFixedWidth(110)
        self.search.textChanged.connect(lambda _: self._filter())
        head.addWidget(self.fold)
        head.addWidget(label("Contents", "heading"))
        head.addStretch(1)
        head.addWidget(self.search)
        column.addLayout(head)
        self.tree = JointTree(self._hang)
        self.tree.setObjectName("parts.tree")
        self.tree.setAccessibleName("Contents of the character")
        self.tree.setHeaderHidden(True)
        self.tree.setColumnCount(2)
        self.tree.setIndentation(9)
        columns = self.tree.header()
        assert columns is not None
        columns.setStretchLastSection(False)
        columns.setSectionResizeMode(0, columns.ResizeMode.Stretch)
        columns.setSectionResizeMode(1, columns.ResizeMode.ResizeToContents)
        self.tree.itemClicked.connect(self._pick)
        self.tree.itemActivated.connect(self._pick)
        column.addWidget(self.tree)

    def _hang(self, joint: str, parent: str) -> None:
        """A joint dropped onto another one."""
        skeleton = self.c.skeleton
        names = skeleton.joint(joint).name, skeleton.joint(parent).name
        self.c.try_edit(
            f"Parent {names[0]} to {names[1]}",
            lambda d: edits.reparent_joint(d, joint, parent, both_sides=self.c.state.hand.both_sides),
        )

    def _toggle(self) -> None:
        self.tree.setVisible(not self.tree.isVisible())
        folded = not self.tree.isVisible()
        put_icon(self.fold, "chevron-right" if folded else "chevron-down")
        self.setMaximumHeight(38 if folded else 16777215)

    def key(self, state: State) -> tuple[object, ...]:
        # As stored: what a drag shows meanwhile makes no new rows.
        return (*self._rows_of(state), state.selection.kind, state.selection.ids)

    @staticmethod
    def _rows_of(state: State) -> tuple[object, ...]:
        character = state.stored.character
        if character is None:
            return ()
        names = tuple(clip.name for clip in character.clips)
        return (character.parts, character.skeleton, character.uses, character.rig, names, state.viewing.animators)

    def show_state(self, state: State) -> None:
        rows = (*self._rows_of(state), current().soft)
        if self.rows_of is None or not same(rows, self.rows_of):
            self.rows_of = rows
            self._fill(state.stored.character)
        self._mark()

    def _fill(self, character: Character | None) -> None:
        self.tree.clear()
        if character is None:
            return
        animators = self.c.state.viewing.animators
        for part in character.parts if not animators else ():
            kind = part.kind.value if part.included else "left out"
            self._row(None, part.name, kind, "part", part.id)
        if character.skeleton is not None and not animators:
            top = self._row(None, "skeleton", counted(len(character.skeleton.joints), "joint"), "", "")
            rows: dict[str, QTreeWidgetItem] = {}
            uses = uses_in(character)
            for joint in character.skeleton.joints:
                parent = rows.get(joint.parent or "", top)
                use = uses[joint.id]
                word = "" if use is Use.BONE else use.value
                rows[joint.id] = self._row(parent, joint.name, word, "joint", joint.id)
            top.setExpanded(True)
            for item in rows.values():
                item.setExpanded(True)
        if character.rig is not None:
            some = [control for control in character.rig.handles if not (animators and control.hidden)]
            top = self._row(None, "controls", str(len(some)), "", "")
            top.setExpanded(animators)
            by_hand = {fk for limb in character.rig.limbs for fk in limb.fk}
            for control in some:
                self._row(top, control.name, "FK" if control.id in by_hand else "", "control", control.id)
        if character.clips:
            top = self._row(None, "clips", str(len(character.clips)), "", "")
            for clip in character.clips:
                self._row(top, clip.name, f"{clip.length:.1f} s", "clip", clip.id)
        self._filter()
        self.tree.scrollToTop()

    def _row(self, parent: QTreeWidgetItem | None, text: str, note: str, kind: str, thing: str) -> QTreeWidgetItem:
        item = QTreeWidgetItem([text, note])
        item.setData(0, Qt.ItemDataRole.UserRole, (kind, thing))
        item.setForeground(1, self.palette().placeholderText())
        if parent is None:
            self.tree.addTopLevelItem(item)
        else:
            parent.addChild(item)
        item.setFirstColumnSpanned(not note)
        return item

    def _filter(self) -> None:
        wanted = self.search.text().lower()

        def keep(item: QTreeWidgetItem | None) -> bool:
            assert item is not None
            below = [keep(item.child(i)) for i in range(item.childCount())]
            shown = not wanted or wanted in item.text(0).lower() or any(below)
            item.setHidden(not shown)
            if wanted and any(below):
                item.setExpanded(True)
            return shown

        for i in range(self.tree.topLevelItemCount()):
            keep(self.tree.topLevelItem(i))

    def _pick(self, item: QTreeWidgetItem) -> None:
        kind, thing = item.data(0, Qt.ItemDataRole.UserRole)
        if not kind:
            return
        wanted = self.c.state.tooling.wanted
        if wanted is not None and kind in wanted.kinds:
            self.c.store.pick(kind, thing)
            return
        if kind not in self.c.area.picks:
            home = next((area.id for area in self.c.areas if kind in area.picks), "")
            if home:
                self.c.enter(home)
        if kind == "clip":
            self.c.player.play_source(thing)
        else:
            self.c.store.select(kind, thing)

    def _mark(self) -> None:
        self.tree.blockSignals(True)
        self.tree.clearSelection()

        def walk(item: QTreeWidgetItem | None) -> None:
            assert item is not None
            kind, thing = item.data(0, Qt.ItemDataRole.UserRole)
            if kind == self.c.state.selection.kind and thing in self.c.state.selection.ids:
                item.setSelected(True)
                if thing == self.c.state.selection.lead:
                    self.tree.scrollToItem(item)
            for i in range(item.childCount()):
                walk(item.child(i))

        for i in range(self.tree.topLevelItemCount()):
            walk(self.tree.topLevelItem(i))
        self.tree.blockSignals(False)
