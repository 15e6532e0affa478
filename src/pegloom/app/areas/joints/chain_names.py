"""Names in the view of what a file's chains were recognised as; a click on one picks the chain and says otherwise."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

from PyQt6.QtCore import QPoint, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter
from PyQt6.QtWidgets import QMenu, QWidget

from pegloom.app.areas.joints.actions.joints import say_chain
from pegloom.app.areas.joints.settings import BodySettings
from pegloom.app.stage.tools import Drag, Pointer, StageTool, StageView
from pegloom.app.theme import INK
from pegloom.core.skeleton.body import body_of, unknown_chains
from pegloom.core.skeleton.body_words import NOTHING, chain_title, chains, limbs
from pegloom.core.skeleton.joints import Origin, Skeleton

MOST_UNKNOWN = 8
"""Chains nobody recognised that are named; a head of hair has hundreds."""
NOT_KNOWN = "not known"


@dataclass(frozen=True, slots=True)
class Name:
    """text : what a chain is called. joints : its ids, base first. limb : whether it can be said to be another limb."""

    text: str
    joints: tuple[str, ...]
    limb: bool


def names_of(skeleton: Skeleton) -> list[Name]:
    """The names to show, those of what was recognised first."""
    found = []
    for chain, joints in chains(body_of(skeleton).joint_of).items():
        found.append(Name(chain_title(chain), joints, chain in limbs()))
    return found + [Name(NOT_KNOWN, joints, True) for joints in unknown_chains(skeleton)[:MOST_UNKNOWN]]


class ChainNames(StageTool):
    """Draws the names and takes the clicks on them; where they stand is known from the last drawing."""

    id = "chain names"

    def __init__(self) -> None:
        self.shown: list[tuple[QRectF, Name]] = []

    def paint(self, painter: QPainter, view: StageView) -> None:
        """What the chains of a file's skeleton were recognised as, each beside its middle joint."""
        self.shown = []
        state, character, frame = view.c.state, view.c.state.character, view.c.frames.frame()
        skeleton = character.skeleton if character is not None else None
        if skeleton is None or frame is None or state.viewing.clean_view or state.dragging or "joints" in state.viewing.hidden:
            return
        if not state.settings.of(BodySettings).named or not any(j.origin is Origin.FILE for j in skeleton.joints):
            return
        metrics = painter.fontMetrics()
        for name in names_of(skeleton):
            middle = name.joints[(len(name.joints) - 1) // 2]
            x, y, depth = view.camera.project(frame.joints[skeleton.index[middle], :3, 3], *view.size_in_points)[0]
            if depth <= 0:
                continue
            wide = metrics.horizontalAdvance(name.text) + 12
            left = x - 12 - wide if x < view.size_in_points[0] / 2 else x + 12
            box = QRectF(left, y - 9, wide, 18)
            while any(box.intersects(other) for other, _ in self.shown):
                box.translate(0, 20)
            self.shown.append((box, name))
            picked = set(name.joints) & set(state.selection.ids)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(20, 23, 31, 225 if picked else 165))
            painter.drawRoundedRect(box, 5, 5)
            painter.setPen(QColor(INK.text if picked else INK.faint if name.text == NOT_KNOWN else INK.soft))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, name.text)

    def _under(self, x: float, y: float) -> Name | None:
        return next((name for box, name in self.shown if box.contains(x, y)), None)

    def wants(self, view: StageView, at: Pointer) -> bool:
        return self._under(at.x, at.y) is not None

    def press(self, view: StageView, at: Pointer) -> Drag | None:
        name = self._under(at.x, at.y)
        if name is None:
            return None
        view.c.store.select("joint", *name.joints)
        if isinstance(view, QWidget):
            menu = self.menu(view, name)
            menu.popup(view.mapToGlobal(QPoint(int(at.x), int(at.y) + 12)))
        return None

    def menu(self, view: QWidget, name: Name) -> QMenu:
        """What the chain may be said to be."""
        c = view.c  # type: ignore[attr-defined]
        menu = QMenu(view)
        menu.setObjectName("joints.chain_menu")
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        if name.limb:
            for limb, words in limbs().items():
                menu.addAction(f"This is the {words}", partial(say_chain, c, name.joints, limb))
            menu.addSeparator()
        menu.addAction("None of these", partial(say_chain, c, name.joints, NOTHING))
        menu.addAction("As it was found", partial(say_chain, c, name.joints, None))
        return menu

    def hover(self, view: StageView, x: float, y: float) -> tuple[str, str]:
        name = self._under(x, y)
        return ("", "") if name is None else (name.joints[0], f"{name.text}: click to say what it is")


NAMES = ChainNames()
