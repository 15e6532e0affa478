"""Another language: texts are exchanged where they reach the toolkit, so that the code says them in English and in one place.

`assets/texts/en.json` has every text there is (`tools/texts.py` gathers them). A translation is a copy of it with the values
filled in, `LANGUAGE.json` in the user's folder `texts`, or named by PEGLOOM_TEXTS. In English nothing of this is loaded.
"""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterable, Mapping
from functools import lru_cache, wraps
from pathlib import Path
from typing import Any

import platformdirs
from PyQt6.QtCore import QLocale
from PyQt6.QtGui import QAction, QPainter
from PyQt6.QtWidgets import (
    QAbstractButton,
    QCheckBox,
    QComboBox,
    QLabel,
    QLineEdit,
    QListWidgetItem,
    QMenu,
    QPushButton,
    QRadioButton,
    QTableWidget,
    QTableWidgetItem,
    QTabWidget,
    QWidget,
)

from pegloom.core.errors import MeshFileError
from pegloom.files.plain_json import read_kind

FORMAT, VERSION = "peg loom texts", 1
NAMED = "PEGLOOM_TEXTS"
LEAST = 4
"""Letters a text with gaps must have around them: one of fewer fits anything."""
REMEMBERED = 4096
EDGES: tuple[tuple[type, tuple[str, ...]], ...] = (
    (QLabel, ("__init__", "setText")), (QAbstractButton, ("setText",)), (QPushButton, ("__init__",)), (QCheckBox, ("__init__",)), (QRadioButton, ("__init__",)),
    (QAction, ("__init__", "setText", "setToolTip", "setStatusTip", "setIconText")),
    (QWidget, ("setToolTip", "setWindowTitle", "setAccessibleName", "setAccessibleDescription", "setStatusTip")),
    (QComboBox, ("addItem", "addItems", "insertItem", "setItemText", "setPlaceholderText")), (QMenu, ("__init__", "addAction", "addMenu", "addSection", "setTitle")),
    (QLineEdit, ("setPlaceholderText",)), (QListWidgetItem, ("__init__", "setText", "setToolTip")), (QTableWidgetItem, ("__init__", "setText", "setToolTip")),
    (QTableWidget, ("setHorizontalHeaderLabels", "setVerticalHeaderLabels")), (QTabWidget, ("addTab", "setTabText")), (QPainter, ("drawText",)),
)  # fmt: skip
"""Where a text reaches the toolkit: classes and their methods; every text among a method's values is exchanged."""


class Texts:
    """A translation. table : texts in English, their gaps as {0}, and in the other language; "" for one not translated."""

    def __init__(self, table: Mapping[str, str]) -> None:
        self.exact = {a: b for a, b in table.items() if b and "{0}" not in a}
        gaps = ((a, b) for a, b in table.items() if b and "{0}" in a and len(re.findall(r"[A-Za-z]", re.sub(r"\{\d+\}", "", a))) >= LEAST)
        # Of several that fit, the one that says most counts.
        self.gaps = [(_longest(a), _pattern(a), b) for a, b in sorted(gaps, key=lambda row: -len(row[0]))]
        self.told = lru_cache(REMEMBERED)(self._told)

    def _told(self, text: str) -> str:
        if not text or text in self.exact:
            return self.exact.get(text, text)
        for part, pattern, told in self.gaps:
            if part in text and (found := pattern.fullmatch(text)):
                return re.sub(r"\{(\d+)\}", lambda gap: self.told(found[f"g{gap[1]}"]), told)
        for between in ("\n", "; ", ", "):
            if between in text:
                return between.join(self.told(one) for one in text.split(between))
        return text


def _longest(text: str) -> str:
    return max(re.split(r"\{\d+\}", text), key=len)


def _pattern(text: str) -> re.Pattern[str]:
    pieces = re.split(r"\{(\d+)\}", text)
    made = "".join(re.escape(p) if k % 2 == 0 else f"(?P<g{p}>.*?)" for k, p in enumerate(pieces))
    return re.compile(made, re.DOTALL)


def read_texts(path: Path) -> Texts:
    """A translation's file. Raises MeshFileError: which file, what is wrong."""
    tree = read_kind(path, FORMAT, VERSION, "a translation")
    groups = tree.get("texts")
    if not isinstance(groups, dict) or not all(isinstance(g, dict) for g in groups.values()):
        raise MeshFileError(path.name, "texts: groups of texts were expected", hint="copy assets/texts/en.json and fill it in")
    rows = [(a, b) for group in groups.values() for a, b in group.items()]
    for a, b in rows:
        if not isinstance(b, str) or set(re.findall(r"\{\d+\}", b)) - set(re.findall(r"\{\d+\}", a)):
            raise MeshFileError(path.name, f"{a[:40]}: its translation is no text, or has a gap the English has not", hint="keep {0}, {1} as they are")
    return Texts(dict(rows))


def chosen() -> Path | None:
    """The translation that was asked for, or the desktop's language's where the user has one."""
    named = os.environ.get(NAMED, "")
    if named:
        return Path(named)
    folder = Path(platformdirs.user_data_dir("pegloom")) / "texts"
    languages: Iterable[str] = (QLocale.system().name(), QLocale.system().name().partition("_")[0])
    return next((p for p in (folder / f"{one}.json" for one in languages) if p.is_file()), None)


def speak(texts: Texts) -> Callable[[], None]:
    """Say everything in another language from now on. Gives what undoes it."""
    before: list[tuple[type, str, Any]] = []
    for owner, methods in EDGES:
        for name in methods:
            real = getattr(owner, name)
            # What stands in the class itself: what `getattr` gives is bound to nothing and would not be bound again.
            before.append((owner, name, owner.__dict__.get(name)))
            setattr(owner, name, _translated(real, texts))

    def undo() -> None:
        for owner, name, own in reversed(before):
            if own is None:
                delattr(owner, name)
            else:
                setattr(owner, name, own)

    return undo


def _translated(real: Callable[..., Any], texts: Texts) -> Callable[..., Any]:
    def told(value: Any) -> Any:
        if isinstance(value, str):
            return texts.told(value)
        return [texts.told(v) for v in value] if isinstance(value, list) and all(isinstance(v, str) for v in value) else value

    @wraps(real)
    def method(self: Any, *values: Any, **more: Any) -> Any:
        return real(self, *map(told, values), **more)

    return method


def begin() -> None:
    """Take the translation there is, if any. One that is damaged is said on the terminal and left."""
    path = chosen()
    if path is None:
        return
    try:
        speak(read_texts(path))
    except MeshFileError as error:
        print(error)


def template() -> Path:
    """The file to translate from."""
    from importlib import resources

    return Path(str(resources.files("pegloom.assets") / "texts" / "en.json"))
