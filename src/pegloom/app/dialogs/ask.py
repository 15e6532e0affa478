"""The questions the window asks by dialogs."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QUrl
from PyQt6.QtGui import QDesktopServices
from PyQt6.QtWidgets import QDialog, QFileDialog, QWidget

from pegloom.app.dialogs.import_sheet import ImportSheet
from pegloom.app.dialogs.pairing_sheet import PairingSheet
from pegloom.app.dialogs.pictured import PicturedSheet, Row
from pegloom.app.dialogs.question import ChoiceSheet, QuestionSheet, ask_name
from pegloom.app.dialogs.recovery import RecoverySheet
from pegloom.app.dialogs.revised_sheet import RevisedSheet
from pegloom.app.dialogs.ways_sheet import WaysSheet
from pegloom.app.state.kept import folder_of, keep_folder
from pegloom.checks.ways import Told
from pegloom.core.skeleton.joints import Skeleton
from pegloom.document.edits.revised import Arrived, Taking
from pegloom.document.edits.revised import Row as RevisedRow
from pegloom.document.model import Character
from pegloom.files.import_choice import ImportChoice
from pegloom.files.imported import Imported
from pegloom.files.leftovers import LeftOver
from pegloom.files.reading import READABLE as READABLE_MESHES

READABLE = f"Meshes and projects ({' '.join(f'*{s}' for s in READABLE_MESHES)} *.pegloom)"
REVISED = f"Meshes and motion ({' '.join(f'*{s}' for s in READABLE_MESHES)} *.bvh)"
FIGURES = f"Projects, meshes and motion ({' '.join(f'*{s}' for s in READABLE_MESHES)} *.pegloom *.bvh)"
ANY_MOTION = "Motion of any body (*.bvh *.glb *.gltf *.usd *.usda *.usdc *.usdz)"
MOTIONS = "Motion of the same skeleton (*.bvh *.glb *.gltf)"
PICTURES = "Pictures (*.png *.jpg *.jpeg *.webp *.tif *.tiff *.bmp *.tga)"


class AskByDialog:
    """The real questions."""

    def __init__(self) -> None:
        self.window: QWidget | None = None

    def open_file(self) -> str:
        return self._open("work", "Open a mesh or project", READABLE)

    def open_revised(self) -> str:
        return self._open("revised", "Take in a revised file", REVISED)

    def open_sculpted(self) -> str:
        return self._open("sculpted", "Take a mesh corrected in this pose", f"Meshes ({' '.join(f'*{s}' for s in READABLE_MESHES)})")

    def choose_revised(self, character: Character, arrived: Arrived, taking: Taking, rows: list[RevisedRow]) -> Taking | None:
        sheet = RevisedSheet(character, arrived, taking, rows, self.window)
        return sheet.taking if sheet.exec() == QDialog.DialogCode.Accepted else None

    def open_master(self) -> str:
        return self._open("masters", "Wear a master's rig", "Projects and bodies (*.pegloom *.body.json)")

    def open_figure(self) -> str:
        return self._open("work", "Bring in another character", FIGURES)

    def open_picture(self) -> str:
        return self._open("pictures", "Choose a picture", PICTURES)

    def open_expressions(self) -> str:
        return self._open("expressions", "Load expressions", "Expressions (*.json)")

    def open_body(self) -> str:
        return self._open("bodies", "Load a body", "Bodies (*.body.json)")

    def choose_import(self, imported: Imported) -> ImportChoice | None:
        sheet = ImportSheet(imported, self.window)
        return sheet.choice if sheet.exec() == QDialog.DialogCode.Accepted else None

    def pair_joints(self, other: Character, ours: Skeleton) -> dict[str, str] | None:
        sheet = PairingSheet(other, ours, self.window)
        return sheet.pairs if sheet.exec() == QDialog.DialogCode.Accepted else None

    def open_motion(self) -> str:
        return self._open("motion", "Import motion", MOTIONS)

    def open_takes(self) -> list[str]:
        found = QFileDialog.getOpenFileNames(self.window, "Bring motion of another body", folder_of("motion"), ANY_MOTION)[0]
        return [keep_folder("motion", one) for one in found]

    def open_pairing(self) -> str:
        return self._open("pairings", "Open a pairing", "Pairing (*.json)")

    def name(self, title: str, suggestion: str) -> str:
        return ask_name(title, suggestion, self.window)

    def one_of(self, title: str, options: list[str]) -> int:
        """The number of the option taken, -1 for none."""
        sheet = ChoiceSheet(title, options, self.window)
        return sheet.chosen if sheet.exec() == QDialog.DialogCode.Accepted else -1

    def save_file(self, title: str, name: str, kind: str) -> str:
        where = "work" if kind.endswith(".pegloom") else f"save {kind}"
        start = str(Path(folder_of(where)) / name) if folder_of(where) else name
        return keep_folder(where, QFileDialog.getSaveFileName(self.window, title, start, kind)[0])

    def _open(self, where: str, title: str, kinds: str) -> str:
        """Ask for a file, in the folder the last one of its kind came from; that is kept for the next session, too."""
        return keep_folder(where, QFileDialog.getOpenFileName(self.window, title, folder_of(where), kinds)[0])

    def confirm(self, question: str, yes: str, no: str) -> bool:
        return QuestionSheet(question, yes, no, self.window).exec() == QDialog.DialogCode.Accepted

    def pictured(self, title: str, words: str, rows: list[Row], ways: list[str]) -> tuple[int, int]:
        """The number of the row and of the way taken, -1 for no row."""
        sheet = PicturedSheet("pictured", title, words, rows, ways, "Cancel", self.window)
        sheet.exec()
        return sheet.chosen, sheet.way

    def choose_way(self, told: tuple[Told, ...]) -> int:
        """The number of the way of bending taken, -1 for none."""
        sheet = WaysSheet(told, self.window)
        sheet.exec()
        return sheet.chosen

    def show_folder(self, folder: Path) -> None:
        """The folder in the desktop's own program for that."""
        QDesktopServices.openUrl(QUrl.fromLocalFile(str(folder)))

    def recover(self, found: list[LeftOver]) -> int:
        """The number of the unsaved work to open, -1 for none now."""
        sheet = RecoverySheet(found, self.window)
        sheet.exec()
        return sheet.chosen
