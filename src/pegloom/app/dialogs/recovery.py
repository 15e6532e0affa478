"""The sheet of unsaved work that was left behind, with pictures."""

from __future__ import annotations

from PyQt6.QtWidgets import QWidget

from pegloom.app.dialogs.pictured import PicturedSheet, Row
from pegloom.files.leftovers import KEPT_DAYS, LeftOver, when_told


class RecoverySheet(PicturedSheet):
    """`chosen`: the number of the work to open, -1 for none now."""

    def __init__(self, found: list[LeftOver], parent: QWidget | None = None) -> None:
        words = (
            f"Peg Loom was stopped before it was saved. Not now keeps it for {KEPT_DAYS} days; "
            "“Unsaved work left behind” finds it again."
        )
        super().__init__("recovery", "Unsaved work was left behind", words, [_row(one) for one in found], ["Open it"], "Not now", parent)


def _row(one: LeftOver) -> Row:
    of = f"not saved in {one.project.name}" if one.project is not None else "never saved"
    return f"{one.name or 'untitled'}\n{of}\nkept {when_told(one.when)}", one.picture
