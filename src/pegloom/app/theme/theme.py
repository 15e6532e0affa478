"""The look, from one table of names."""

from __future__ import annotations

import weakref
from dataclasses import dataclass
from functools import lru_cache
from importlib import resources
from pathlib import Path

from PyQt6 import sip
from PyQt6.QtCore import QByteArray, QSize, Qt
from PyQt6.QtGui import QFont, QFontDatabase, QIcon, QPainter, QPixmap
from PyQt6.QtSvg import QSvgRenderer
from PyQt6.QtWidgets import QAbstractButton, QApplication

ASSETS = Path(str(resources.files("pegloom.assets")))


@dataclass(frozen=True)
class Theme:
    window: str
    panel: str
    card: str
    raised: str
    line: str
    text: str
    soft: str
    faint: str
    woad: str
    woad_deep: str
    on_woad: str
    madder: str


INK = Theme(
    "#14171F", "#1B202B", "#232938", "#2C3447", "#353D50", "#F2ECE0", "#C6BFB1", "#9A968F", "#6FA0F2", "#2B4066",
    "#0F1626", "#E2664F",
)  # fmt: skip
LINEN = Theme(
    "#EFE8DA", "#F6F1E6", "#FFFDF7", "#EDE5D4", "#CFC5B2", "#22252E", "#4B4C52", "#6A675F", "#2F63BE", "#D3E0F7",
    "#FFFFFF", "#B23D28",
)  # fmt: skip

STYLE = """
* {{ font-family: Figtree; font-size: 13px; color: {text}; outline: none; }}
QMainWindow, QDialog {{ background: {window}; }}
QToolTip {{ background: {raised}; color: {text}; border: 1px solid {line}; padding: 4px 6px; }}
#title {{ background: {panel}; border-bottom: 1px solid {line}; }}
#title QLabel#title\\.project {{ font-size: 14px; font-weight: 600; }}
#rail {{ background: {panel}; border-right: 1px solid {line}; }}
#bench, #drawer {{ background: {panel}; }}
#bench {{ border-right: 1px solid {line}; }}
#drawer {{ border-right: 1px solid {line}; border-top: 1px solid {line}; }}
#strip {{ background: {panel}; border-top: 1px solid {line}; }}
#trials {{ border-right: 1px solid {line}; }}
QLabel[role="area"] {{ font-size: 18px; font-weight: 600; }}
QLabel[role="heading"] {{ font-size: 13px; font-weight: 600; }}
QLabel[role="soft"] {{ color: {soft}; }}
QLabel[role="caption"] {{ color: {soft}; font-size: 11px; }}
QLabel[role="figure"] {{ color: {text}; font-weight: 500; }}
QLabel[role="snag"] {{ color: {madder}; font-size: 12px; }}
QDoubleSpinBox[role="narrow"] {{ padding: 4px 2px; }}
QDoubleSpinBox[driven="true"], QComboBox[driven="true"] {{ color: {woad}; font-style: italic; }}
#coupling, #pick {{ background: {panel}; border-left: 1px solid {line}; }}
QPushButton[role="small"] {{ padding: 2px 7px; border-radius: 10px; font-size: 12px; min-height: 14px; }}
QFrame[role="card"] {{ background: {card}; border-radius: 6px; }}
QToolButton[role="cardhead"] {{ background: transparent; border: none; font-weight: 600; text-align: left; padding: 2px; }}
QToolButton[role="shape"] {{ background: {raised}; border: 1px solid {line}; border-radius: 5px; padding: 0px; }}
QToolButton[role="shape"]:hover, QToolButton[role="shape"]:focus {{ border-color: {woad}; }}
QToolButton[role="shape"]:checked {{ background: {woad_deep}; border-color: {woad}; }}
QToolButton[role="shape"]:disabled {{ background: {card}; }}
QPushButton {{ background: {raised}; border: 1px solid {line}; border-radius: 6px; padding: 5px 7px; min-height: 16px; }}
QPushButton:hover {{ border-color: {woad}; }}
QPushButton:focus {{ border-color: {woad}; }}
QPushButton:pressed {{ background: {line}; }}
QPushButton:disabled {{ color: {faint}; background: {card}; }}
QPushButton:checked {{ background: {woad_deep}; border-color: {woad}; }}
QPushButton[role="main"] {{ background: {woad}; color: {on_woad}; border-color: {woad}; font-weight: 600; }}
QPushButton[role="main"]:hover {{ border-color: {text}; }}
QPushButton[role="main"]:disabled {{ background: {raised}; color: {faint}; border-color: {line}; }}
QPushButton[role="chip"] {{ border-radius: 12px; padding: 2px 11px; background: rgba(27, 32, 43, 215); border-color: #353D50; color: #F2ECE0; min-height: 18px; }}
QPushButton[role="chip"]:checked {{ background: #2B4066; border-color: #6FA0F2; }}
QPushButton[role="rung"] {{ background: transparent; border: none; padding: 20px 0px 0px 0px; color: {soft}; min-width: 18px; }}
QPushButton[role="rung"]:hover {{ color: {text}; }}
QPushButton[role="rung"]:checked {{ background: transparent; color: {text}; font-weight: 600; }}
QPushButton[role="plain"] {{ background: transparent; border: none; padding: 3px 6px; color: {soft}; }}
QPushButton[role="plain"]:hover {{ color: {text}; }}
QPushButton[role="doubts"] {{ background: transparent; border: 1px solid {madder}; border-radius: 10px; padding: 1px 9px; color: {madder}; font-size: 12px; min-height: 16px; }}
QPushButton[role="doubts"]:hover {{ color: {text}; }}
QPushButton[role="search"] {{ background: {window}; border-radius: 12px; text-align: left; padding: 3px 14px; color: {soft}; }}
QLineEdit, QDoubleSpinBox, QSpinBox, QComboBox {{ background: {window}; border: 1px solid {line}; border-radius: 5px; padding: 3px 6px; min-height: 18px; selection-background-color: {woad}; }}
QLineEdit:focus, QDoubleSpinBox:focus, QSpinBox:focus, QComboBox:focus {{ border-color: {woad}; }}
QLineEdit:disabled, QDoubleSpinBox:disabled, QSpinBox:disabled, QComboBox:disabled {{ background: {card}; color: {faint}; }}
QComboBox::drop-down {{ border: none; width: 18px; }}
QComboBox QAbstractItemView {{ background: {card}; border: 1px solid {line}; selection-background-color: {woad_deep}; }}
QDoubleSpinBox::up-button, QSpinBox::up-button, QDoubleSpinBox::down-button, QSpinBox::down-button {{ width: 0; }}
QCheckBox {{ spacing: 7px; background: transparent; }}
QCheckBox::indicator {{ width: 14px; height: 14px; border: 1px solid {faint}; border-radius: 4px; background: {window}; }}
QCheckBox::indicator:checked {{ background: {woad}; border-color: {woad}; }}
QCheckBox:disabled {{ color: {faint}; }}
QCheckBox::indicator:disabled {{ background: {card}; border-color: {line}; }}
QListView::indicator {{ width: 12px; height: 12px; border: 1px solid {faint}; border-radius: 3px; background: {window}; }}
QListView::indicator:checked {{ background: {woad}; border-color: {woad}; }}
QCheckBox:focus {{ color: {woad}; }}
QSlider {{ background: transparent; min-height: 18px; }}
QSlider::groove:horizontal {{ height: 3px; background: {line}; border-radius: 1px; }}
QSlider::sub-page:horizontal {{ background: {woad}; border-radius: 1px; }}
QSlider::handle:horizontal {{ width: 12px; height: 12px; margin: -5px 0; border-radius: 6px; background: {text}; }}
QSlider::handle:horizontal:focus {{ background: {woad}; }}
QTreeWidget, QListWidget {{ background: transparent; border: none; outline: none; }}
QTreeWidget::item, QListWidget::item {{ padding: 2px 4px; border-radius: 4px; }}
QTreeWidget::item {{ border-radius: 0; }}
QTreeWidget::item:selected, QListWidget::item:selected {{ background: {woad_deep}; color: {text}; }}
QTreeWidget::item:hover, QListWidget::item:hover {{ background: {raised}; }}
QTreeWidget {{ show-decoration-selected: 0; selection-background-color: transparent; }}
QTreeWidget::branch, QTreeWidget::branch:selected, QTreeWidget::branch:hover {{ background: transparent; }}
QTableView {{ background: {panel}; border: 1px solid {line}; gridline-color: {line}; selection-background-color: {woad_deep}; selection-color: {text}; color: {text}; }}
QTableView QLineEdit {{ border-radius: 0; padding: 0 4px; min-height: 0; }}
QHeaderView {{ background: {panel}; border: none; }}
QHeaderView::section {{ background: {card}; color: {soft}; border: none; border-right: 1px solid {line}; border-bottom: 1px solid {line}; padding: 2px 5px; }}
QTableCornerButton::section {{ background: {card}; border: none; }}
QFrame#numbers {{ background: {panel}; border: none; border-left: 1px solid {line}; }}
QSplitter::handle {{ background: {panel}; image: none; }}
QSplitter::handle:hover {{ background: {woad_deep}; }}
QScrollArea {{ border: none; background: transparent; }}
QScrollArea > QWidget > QWidget {{ background: transparent; }}
QScrollBar:vertical {{ background: transparent; width: 8px; margin: 0; }}
QScrollBar::handle:vertical {{ background: {line}; border-radius: 4px; min-height: 24px; }}
QScrollBar::add-line, QScrollBar::sub-line, QScrollBar::add-page, QScrollBar::sub-page {{ height: 0; background: transparent; }}
QScrollBar:horizontal {{ height: 0; }}
QProgressBar {{ background: {line}; border: none; border-radius: 3px; max-height: 6px; }}
QProgressBar::chunk {{ background: {woad}; border-radius: 3px; }}
QMenu {{ background: {card}; border: 1px solid {line}; padding: 4px; }}
QMenu::item {{ padding: 5px 22px; border-radius: 4px; }}
QMenu::item:selected {{ background: {woad_deep}; }}
QMenu::item:disabled {{ color: {faint}; }}
QFrame[role="tag"] {{ background: {panel}; border: 1px solid {line}; border-radius: 8px; }}
#hint, #note {{ background: rgba(20, 23, 31, 200); border-radius: 5px; padding: 3px 8px; color: #C6BFB1; }}
#note {{ color: #F2ECE0; border: 1px solid {woad}; }}
#job {{ background: {card}; border: 1px solid {line}; border-radius: 6px; }}
#welcome {{ background: {panel}; border: 1px solid {line}; border-radius: 10px; }}
#palette {{ background: {panel}; border: 1px solid {woad}; border-radius: 8px; }}
"""


_in_use = [INK]


def current() -> Theme:
    """The theme in use, for what is painted by hand."""
    return _in_use[0]


def apply_theme(app: QApplication, theme: Theme = INK) -> None:
    """Font and style for the whole application. What floats over the stage stays ink: the stage is dark in both."""
    _in_use[0] = theme
    for file in sorted((ASSETS / "fonts").glob("*.ttf")):
        QFontDatabase.addApplicationFont(str(file))
    font = QFont("Figtree")
    font.setPixelSize(13)
    font.setFeature(QFont.Tag(b"tnum"), 1)
    app.setFont(font)
    app.setStyleSheet(STYLE.format(**theme.__dict__))


WITH_ICONS: weakref.WeakKeyDictionary[QAbstractButton, str] = weakref.WeakKeyDictionary()
"""Buttons with a line icon in the theme's own colour, and its name."""


def put_icon(button: QAbstractButton, name: str) -> None:
    """Give a button a line icon that follows the theme."""
    WITH_ICONS[button] = name
    button.setIcon(icon(name, current().soft))


def renew_icons() -> None:
    """Every such icon in the colour of the present theme."""
    for button, name in list(WITH_ICONS.items()):
        if not sip.isdeleted(button):
            button.setIcon(icon(name, current().soft))


@lru_cache(maxsize=128)
def icon(name: str, colour: str = INK.soft, size: int = 16) -> QIcon:
    """A shipped line icon in a colour."""
    data = (ASSETS / "icons" / f"{name}.svg").read_text().replace("currentColor", colour)
    pixmap = QPixmap(QSize(size * 2, size * 2))
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    QSvgRenderer(QByteArray(data.encode())).render(painter)
    painter.end()
    pixmap.setDevicePixelRatio(2)
    return QIcon(pixmap)
