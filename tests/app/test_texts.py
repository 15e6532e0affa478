"""Every text in one file: it is what the source says, and a translation of it reaches everything a person reads."""

from __future__ import annotations

import json
import re

import pytest
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QAbstractButton, QComboBox, QLabel, QWidget
from tools import texts as gathering

from pegloom.app.texts import Texts, read_texts, speak, template
from pegloom.app.window import Window
from pegloom.core.errors import MeshFileError
from tests.app.conftest import widgets
from tests.support.figures import shipped


def test_the_file_is_what_the_source_says():
    assert template().read_text() == gathering.told(), "run python tools/texts.py"


def english():
    """Every text there is."""
    return [text for group in json.loads(template().read_text())["texts"].values() for text in group]


def test_gaps_are_kept_and_what_fills_them_is_told_too():
    told = Texts({"Opened {0}": "{0} geöffnet", "nothing": "nichts", "{0} of {1} joints are paired": "{1} Gelenke, {0} gepaart", "{0}: {1}": "no"}).told
    assert told("Opened wick.glb") == "wick.glb geöffnet"
    assert told("Opened nothing") == "nichts geöffnet"
    assert told("3 of 20 joints are paired") == "20 Gelenke, 3 gepaart"
    assert told("hips: 3") == "hips: 3", "a text of gaps alone fits anything and is left"
    assert told("nothing; Opened a") == "nichts; a geöffnet"


@pytest.mark.parametrize(
    ("tree", "says"),
    [({"format": "other"}, "translation"), ({"format": "peg loom texts", "version": 1, "texts": []}, "groups"), ({"format": "peg loom texts", "version": 1, "texts": {"a": {"Opened {0}": "{1}"}}}, "gap")],
)
def test_a_damaged_translation_is_one_line(tmp_path, tree, says):
    (tmp_path / "xx.json").write_text(json.dumps(tree))
    with pytest.raises(MeshFileError, match=says):
        read_texts(tmp_path / "xx.json")


def test_a_translation_reaches_the_whole_window(qtbot, hand, tmp_path):
    """Every English text becomes one in marks; what is read in all six areas without them is names and numbers alone."""
    undo = speak(Texts({text: f"⟦{text}⟧" for text in english()}))
    try:
        window = Window(hand.window.answers, autosave_folder=tmp_path / "autosave")
        qtbot.addWidget(window)
        window.show()
        window.store.start_with(shipped("wick"), None)
        bare: dict[str, str] = {}
        count = 0
        character = window.store.state.character
        names = {character.name, *(p.name for p in character.parts), *(j.name for j in character.skeleton.joints), *(c.name for c in character.clips), *(t.name for t in character.trials)}
        names |= {c.name for c in character.rig.controls} | {k.title for c in character.rig.controls for k in c.channels} | set(character.control_sets) | {e.name for e in character.expressions} | {p.name for p in character.poses}
        for area in window.c.areas:
            window.c.enter(area.id)
            qtbot.wait(120)
            for kind in (QLabel, QAbstractButton, QComboBox):
                for widget in widgets(window, kind):
                    if not widget.isVisible():
                        continue
                    some = [widget.itemText(k) for k in range(widget.count())] if isinstance(widget, QComboBox) else [widget.text()]
                    for text in some:
                        for line in re.split(r"[\n;,]", text):
                            if re.search(r"[A-Za-z]{3,}", line):
                                count += 1
                                if "⟦" not in text and "⟧" not in text and line.strip() not in names:
                                    bare[line.strip()] = f"{area.id}: {widget.objectName()}"
        actions = [a for a in window.findChildren(QAction) if a.objectName() and re.search(r"[A-Za-z]{3,}", a.text())]
        unsaid = [a.text() for a in actions if "⟦" not in a.text()]
    finally:
        undo()
    assert count > 300 and len(actions) > 300
    assert len(unsaid) <= 0.01 * len(actions), unsaid
    assert len(bare) <= 0.03 * count, str(bare)
    assert QWidget.setToolTip.__name__ == "setToolTip"
