"""What the lens in hand means: a bar of its colours with words and numbers, in the stage's lower right corner."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QLinearGradient, QPainter

from pegloom.app.context import Context
from pegloom.app.stage.lens import difference_full
from pegloom.app.state.proved import Proved
from pegloom.app.theme import INK
from pegloom.scene.brushes import Painting
from pegloom.scene.drawing import SIDE_COLOURS
from pegloom.scene.lenses import CLAY, RAMP, SQUEEZED, STRAY, STRETCHED, Lens, step_colour

WIDE = 170
LEFT, MIDDLE, RIGHT = Qt.AlignmentFlag.AlignLeft, Qt.AlignmentFlag.AlignHCenter, Qt.AlignmentFlag.AlignRight


def draw_legend(painter: QPainter, c: Context, stage: QRectF) -> None:
    """The legend of the lens in hand; nothing for none, or while nothing is bound."""
    character = c.state.character
    if character is None or character.skin is None or character.skeleton is None:
        return
    bar = QRectF(stage.right() - 22 - WIDE, stage.bottom() - 44, WIDE, 9)
    lens, skeleton = c.state.viewing.lens, character.skeleton
    if lens is Lens.INFLUENCE:
        if c.state.tooling.painting is not Painting.WEIGHTS:
            _bar(painter, bar, RAMP, c.state.tooling.painting.value)
            _spread(painter, bar, ("0", "1/4", "1/2", "3/4", "1"))
        elif c.state.viewing.influence in skeleton.index:
            joint = skeleton.joint(c.state.viewing.influence)
            _bar(painter, bar, RAMP, joint.name, dot=SIDE_COLOURS[joint.side])
            _spread(painter, bar, ("0", "1/4", "1/2", "3/4", "1"))
    elif lens is Lens.STRAIN:
        _bar(painter, bar, (SQUEEZED, CLAY, STRETCHED), "length of edges")
        _ends(painter, bar, "half", "as at rest", "twice")
    elif lens is Lens.VOLUME:
        _bar(painter, bar, (SQUEEZED, CLAY, STRETCHED), "girth around the bone")
        _ends(painter, bar, "half", "kept", "twice")
    elif lens is Lens.DIFFERENCE:
        if c.frames.other is None:
            _words(painter, bar, "Compare with a weave first")
            return
        full, largest, metres = difference_full(c)
        _bar(painter, bar, RAMP, "apart in this pose" if metres else "apart in weight")
        _ends(
            painter,
            bar,
            "0",
            f"most {1000 * largest:.0f} mm" if metres else "",
            f"{1000 * full:.1f} mm" if metres else "1",
        )
    elif lens is Lens.COUNT:
        limit = character.skin.most
        _plate(painter, bar, 24)
        step = WIDE / limit
        for k in range(limit):
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor.fromRgbF(*step_colour(k + 1, limit).tolist()))
            cell = QRectF(bar.left() + k * step, bar.top(), step - 2, bar.height())
            painter.drawRect(cell)
            painter.setPen(QColor(INK.soft))
            text = f"{k + 1}+" if k + 1 == limit else str(k + 1)
            painter.drawText(QRectF(cell.left() - 6, cell.bottom() + 3, cell.width() + 12, 15), MIDDLE, text)
        _title(painter, bar, "influences per vertex")
    elif lens is Lens.DELIVERED:
        found = c.state.settings.of(Proved)
        _bar(painter, bar, RAMP, "the file differs")
        _ends(painter, bar, "0", "", f"{1000 * found.worst:.2f} mm")
    elif lens is Lens.STRAYS:
        _plate(painter, bar, 24)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(STRAY))
        painter.drawRect(bar.adjusted(0, 0, -WIDE + 22, 0))
        painter.setPen(QColor(INK.text))
        painter.drawText(QRectF(bar.left() + 30, bar.top() - 5, WIDE - 30, 18), LEFT, "tied to a far joint")


def _plate(painter: QPainter, bar: QRectF, above: float) -> None:
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(QColor(20, 23, 31, 190))
    painter.drawRoundedRect(bar.adjusted(-12, -above, 12, 22), 6, 6)


def _title(painter: QPainter, bar: QRectF, text: str, *, aside: float = 0.0) -> None:
    painter.setPen(QColor(INK.text))
    painter.drawText(QRectF(bar.left() + aside, bar.top() - 20, WIDE, 16), LEFT, text)


def _bar(painter: QPainter, bar: QRectF, colours: tuple[str, ...], title: str, *, dot: str = "") -> None:
    _plate(painter, bar, 24)
    gradient = QLinearGradient(bar.topLeft(), bar.topRight())
    for i, colour in enumerate(colours):
        gradient.setColorAt(i / (len(colours) - 1), QColor(colour))
    painter.setBrush(gradient)
    painter.drawRect(bar)
    if dot:
        painter.setBrush(QColor(dot))
        painter.drawEllipse(QPointF(bar.left() + 3, bar.top() - 11), 3.5, 3.5)
    _title(painter, bar, title, aside=12.0 if dot else 0.0)


def _spread(painter: QPainter, bar: QRectF, words: tuple[str, ...]) -> None:
    painter.setPen(QColor(INK.soft))
    for i, text in enumerate(words):
        x = bar.left() + WIDE * i / (len(words) - 1)
        painter.drawText(QRectF(x - 20, bar.bottom() + 3, 40, 15), MIDDLE, text)


def _ends(painter: QPainter, bar: QRectF, *words: str) -> None:
    painter.setPen(QColor(INK.soft))
    below = QRectF(bar.left(), bar.bottom() + 3, WIDE, 15)
    for side, text in zip((LEFT, MIDDLE, RIGHT), words, strict=True):
        painter.drawText(below, side, text)


def _words(painter: QPainter, bar: QRectF, text: str) -> None:
    _plate(painter, bar, 10)
    painter.setPen(QColor(INK.soft))
    painter.drawText(bar.adjusted(0, -6, 0, 12), LEFT | Qt.AlignmentFlag.AlignVCenter, text)
