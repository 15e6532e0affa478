"""The window: title row, rail, bench, drawer, stage, strip."""

from __future__ import annotations

from pathlib import Path
from typing import Protocol

from PyQt6.QtCore import QSize, Qt, QTimer
from PyQt6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QKeyEvent
from PyQt6.QtWidgets import (
    QApplication,
    QDialog,
    QFileDialog,
    QHBoxLayout,
    QInputDialog,
    QListWidget,
    QMainWindow,
    QMessageBox,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from pegloom.app.actions import Actions
from pegloom.app.arrival import ArrivalSheet
from pegloom.app.autosave import Autosave
from pegloom.app.benches import BENCHES
from pegloom.app.benches.bench import Bench
from pegloom.app.collector import Collector
from pegloom.app.keys import read_keys
from pegloom.app.keysheet import KeySheet
from pegloom.app.lender import LenderSheet
from pegloom.app.numbers import NumberTable
from pegloom.app.overlay import StageFrame
from pegloom.app.palette import Palette
from pegloom.app.parts import PartsDrawer
from pegloom.app.rail import Rail
from pegloom.app.recovery import RecoverySheet, when_told
from pegloom.app.session import Area, Selection, Session, Tool
from pegloom.app.strip import Strip
from pegloom.app.theme import INK, LINEN, apply_theme, icon
from pegloom.app.verbs import Verbs
from pegloom.app.verbs_joints import JointVerbs
from pegloom.app.verbs_mesh import MeshVerbs
from pegloom.app.verbs_weights import WeightVerbs
from pegloom.app.widgets import button, label, tip
from pegloom.core.errors import PegLoomError
from pegloom.core.skeleton.joints import Skeleton
from pegloom.document.model import Character, Document
from pegloom.files.choosing import Take
from pegloom.files.imported import Imported
from pegloom.files.leftovers import LeftOver, left_over, of_project, refuse, taken_over
from pegloom.files.project import SUFFIX, open_project
from pegloom.files.reading import READABLE as READABLE_MESHES
from pegloom.render.renderer import Display

READABLE = f"Meshes and projects ({' '.join(f'*{s}' for s in READABLE_MESHES)} *.pegloom)"
MOTIONS = "Motion of the same skeleton (*.bvh *.glb *.gltf)"
PICTURES = "Pictures (*.png *.jpg *.jpeg *.webp *.tif *.tiff *.bmp *.tga)"


class Ask(Protocol):
    """Questions to the user; tests hand in their own answers."""

    def open_file(self) -> str: ...
    def open_picture(self) -> str: ...
    def open_motion(self) -> str: ...
    def choose_import(self, imported: Imported) -> Take | None: ...
    def pair_joints(self, other: Character, ours: Skeleton) -> dict[str, str] | None: ...
    def name(self, title: str, suggestion: str) -> str: ...
    def one_of(self, title: str, options: list[str]) -> int: ...
    def save_file(self, title: str, name: str, kind: str) -> str: ...
    def confirm(self, question: str) -> bool: ...
    def recover(self, found: list[LeftOver]) -> int: ...


class AskByDialog:
    """The real questions."""

    def __init__(self) -> None:
        self.window: QWidget | None = None

    def open_file(self) -> str:
        return QFileDialog.getOpenFileName(self.window, "Open a mesh or project", "", READABLE)[0]

    def open_picture(self) -> str:
        return QFileDialog.getOpenFileName(self.window, "Choose a picture", "", PICTURES)[0]

    def choose_import(self, imported: Imported) -> Take | None:
        sheet = ArrivalSheet(imported, self.window)
        return sheet.take if sheet.exec() == QDialog.DialogCode.Accepted else None

    def pair_joints(self, other: Character, ours: Skeleton) -> dict[str, str] | None:
        sheet = LenderSheet(other, ours, self.window)
        return sheet.pairs if sheet.exec() == QDialog.DialogCode.Accepted else None

    def open_motion(self) -> str:
        return QFileDialog.getOpenFileName(self.window, "Bring in motion", "", MOTIONS)[0]

    def name(self, title: str, suggestion: str) -> str:
        text, sure = QInputDialog.getText(self.window, title, "Name", text=suggestion)
        return text if sure else ""

    def one_of(self, title: str, options: list[str]) -> int:
        """The number of the option taken, -1 for none."""
        text, sure = QInputDialog.getItem(self.window, title, "Take", options, 0, False)
        return options.index(text) if sure else -1

    def save_file(self, title: str, name: str, kind: str) -> str:
        return QFileDialog.getSaveFileName(self.window, title, name, kind)[0]

    def confirm(self, question: str) -> bool:
        yes, no = QMessageBox.StandardButton.Yes, QMessageBox.StandardButton.No
        box = QMessageBox(QMessageBox.Icon.Question, "Peg Loom", question, yes | no, self.window)
        box.setTextFormat(Qt.TextFormat.PlainText)
        return box.exec() == yes

    def recover(self, found: list[LeftOver]) -> int:
        """The number of the unsaved work to open, -1 for none now."""
        sheet = RecoverySheet(found, self.window)
        sheet.exec()
        return sheet.chosen


class Window(QMainWindow):
    def __init__(self, ask: Ask | None = None, *, autosave_folder: Path | None = None) -> None:
        super().__init__()
        self.setObjectName("window")
        self.setWindowTitle("Peg Loom")
        self.resize(1280, 800)
        self.setAcceptDrops(True)
        self.ask = ask or AskByDialog()
        if isinstance(self.ask, AskByDialog):
            self.ask.window = self
        self.collector = Collector(self)
        self.session = Session(self)
        self.theme = INK
        self.actions_ = Actions(self, lambda text: self.session.say(text, error=True))
        self.frame_ = StageFrame(self.session, self.actions_)
        self.stage = self.frame_.stage
        self.autosave = Autosave(self.session, folder=autosave_folder, picture=self._small_picture)
        self.autosave.failed.connect(lambda text: self.session.say(text, error=True))
        self.palette_box = Palette(self.actions_, self)
        self.benches: dict[Area, Bench] = {}
        self.verbs = Verbs(self)
        self.mesh_verbs = MeshVerbs(self)
        self.actions_.add(
            *self.verbs.declare(), *self.mesh_verbs.declare(), *JointVerbs(self).declare(), *WeightVerbs(self).declare()
        )
        self.actions_.rebind_all(read_keys(), keep=False)
        # The tag was made before the actions; what it shows is built when something is selected.
        self._build()
        self.session.changed.connect(lambda *_: self._title())
        self.session.view_changed.connect(self._area)
        self.session.look_at.connect(self.stage.show_point)
        self.session.choose = self.ask.choose_import
        self.session.confirm = self.ask.confirm
        self.session.leaving.connect(self._other_document)
        self.palette_box.raise_()
        self._title()
        self._area()

    def _build(self) -> None:
        middle = QWidget()
        column = QVBoxLayout(middle)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self._title_row())
        row = QHBoxLayout()
        row.setSpacing(0)
        column.addLayout(row, 1)
        self.rail = Rail(self.session)
        self.rail.chosen.connect(self.go)
        self.rail.doubted.connect(self.go_to_snags)
        row.addWidget(self.rail)
        right = QVBoxLayout()
        right.setSpacing(0)
        row.addLayout(right, 1)
        upper = QHBoxLayout()
        upper.setSpacing(0)
        right.addLayout(upper, 1)
        side = QSplitter(Qt.Orientation.Vertical)
        side.setObjectName("side")
        side.setFixedWidth(300)
        side.setHandleWidth(2)
        side.setChildrenCollapsible(False)
        self.stack = QStackedWidget()
        self.stack.setObjectName("bench")
        for area, kind in BENCHES.items():
            bench = kind(self.session, self.actions_)
            bench.setObjectName(f"bench.{area.name.lower()}")
            self.benches[area] = bench
            self.stack.addWidget(bench)
        self.drawer = PartsDrawer(self.session)
        side.addWidget(self.stack)
        side.addWidget(self.drawer)
        side.setSizes([524, 104])
        upper.addWidget(side)
        upper.addWidget(self.frame_, 1)
        self.numbers = NumberTable(self.session, self.actions_)
        upper.addWidget(self.numbers)
        self.strip = Strip(self.session, self.actions_)
        for bench in self.benches.values():
            bench.follow(self.strip.ruler.watch)
        right.addWidget(self.strip)
        self.setCentralWidget(middle)

    def _title_row(self) -> QWidget:
        row = QWidget()
        row.setObjectName("title")
        row.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        row.setFixedHeight(40)
        line = QHBoxLayout(row)
        line.setContentsMargins(16, 0, 12, 0)
        line.setSpacing(10)
        self.name = label("", "heading", name="title.project")
        self.dot = label("", "caption", name="title.saved")
        self.undo = button("", "title.undo", lambda: self.actions_.run("edit.undo"), role="plain")
        self.redo = button("", "title.redo", lambda: self.actions_.run("edit.redo"), role="plain")
        self.undo.setIcon(icon("undo-2"))
        self.redo.setIcon(icon("redo-2"))
        self.redo.setAccessibleName("Redo")
        search = button(
            "Find an action", "title.search", lambda: self.actions_.run("edit.palette"), role="search", tip="Ctrl+K"
        )
        search.setIcon(icon("search"))
        search.setFixedWidth(230)
        help_ = button(
            "Help", "title.help", lambda: self.actions_.run("help.sheet"), role="plain", tip="Mouse and keys (F1)"
        )
        help_.setIcon(icon("circle-help"))
        for made in (self.undo, self.redo, help_):
            made.setIconSize(QSize(15, 15))
        steps = button(
            "Steps", "title.steps", lambda: self.actions_.run("edit.steps"), role="plain", tip="All steps (Ctrl+H)"
        )
        for widget in (self.name, self.dot, self.undo, self.redo):
            line.addWidget(widget)
        line.addStretch(1)
        line.addWidget(search)
        line.addStretch(1)
        for text, action, name in (("Open", "file.open", "open"), ("Save", "file.save", "save")):
            line.addWidget(button(text, f"title.{name}", lambda x=action: self.actions_.run(x), role="plain"))
        line.addWidget(steps)
        line.addWidget(help_)
        return row

    def _title(self) -> None:
        session = self.session
        self.name.setText(session.document.name if session.character else "Peg Loom")
        unsaved = session.history.present is not session.saved
        self.dot.setText(("● unsaved" if unsaved else "saved") if session.character else "")
        colour = "#E5A04A" if unsaved else self.theme.soft
        self.dot.setStyleSheet(f"color: {colour};")
        undo, redo = session.history.undo_name, session.history.redo_name
        short = undo if undo is None or len(undo) < 40 else undo[:38] + "…"
        self.undo.setText(f" Undo: {short}" if short else " Undo")
        self.undo.setToolTip(tip(f"Undo: {undo}  (Ctrl+Z)") if undo else "Nothing to undo")
        self.undo.setEnabled(undo is not None)
        self.redo.setVisible(redo is not None)
        self.redo.setToolTip(tip(f"Redo: {redo}  (Ctrl+Shift+Z)") if redo else "")

    def _area(self) -> None:
        self.stack.setCurrentWidget(self.benches[self.session.area])
        self.stage.look_again()

    def go(self, area: Area) -> None:
        """Go to a work area."""
        if area is not self.session.area:
            self.session.set_area(area)
        self.rail.update()

    def go_to_snags(self, area: Area) -> None:
        """Go to a work area's list of snags."""
        self.go(area)
        self.benches[area].show_snags()

    def offer_recovery(self, *, again: bool = False) -> bool:
        """After a crash: offer the unsaved work that was left behind. Returns whether some was taken.

        again : asked for by the user; what was declined before is offered too, and nothing left is said.
        """
        found = [one for one in left_over(self.autosave.folder) if again or not one.refused]
        if not found:
            if again:
                self.session.say("No unsaved work was left behind")
            return False
        chosen = self.ask.recover(found)
        if chosen < 0:
            for one in found:
                refuse(one, self.autosave.folder)
            return False
        return self._may_leave() and self._recover(found[chosen])

    def _recover(self, one: LeftOver) -> bool:
        """Open unsaved work and own it from now on; where it is damaged, the last save. Returns whether any opened."""
        keeper = taken_over(one, self.autosave.folder)
        if keeper is None:
            self.session.say(f"Another window has {one.name} open by now", error=True)
            return False
        try:
            document = open_project(one.file)
        except PegLoomError as error:
            keeper.let_go()
            refuse(one, self.autosave.folder)
            if one.project is None or not one.project.is_file():
                self.session.say(f"The unsaved work of {one.name} cannot be opened: {error}", error=True)
                return False
            self._open_saved(one.project)
            self.session.say(
                f"The unsaved work of {one.project.name} is damaged; the last save was opened instead ({error})", error=True
            )
            return True
        if self.session.character is not None:
            self.autosave.clear()
        self.autosave.new_document(keeper)
        self.session.start_with(document, one.project)
        # What was recovered is not in the project yet.
        self.session.saved = Document()
        self.session.say(f"Unsaved work of {one.name}, kept {when_told(one.when)}. Save it to keep it for good")
        self._title()
        self._arrived()
        return True

    def open_path(self, path: Path, *, choose: bool = False) -> None:
        """Open a mesh or a project; a newer autosave beside a project is offered."""
        if self._may_leave():
            if path.suffix.lower() != SUFFIX:
                self.session.open(path, choose=choose)
                return
            found = of_project(path, self.autosave.folder)
            if found is not None and self.ask.confirm(
                f"There is newer unsaved work of {path.name}, kept {when_told(found.when)}. Open that instead?"
            ):
                self._recover(found)
                return
            self._open_saved(path)

    def _open_saved(self, path: Path) -> None:
        before = self.session.document
        self.session.open(path)
        if self.session.character is not None and self.session.document is not before:
            demo = "demo" in path.parts and "assets" in path.parts
            if demo:  # shown in his colours; saving asks for a place of its own
                self.session.path = None
                self.session.set_view(display=Display.TEXTURED)
            self._arrived()

    def _arrived(self) -> None:
        """A project has just opened: where its work goes on."""
        self.go(Area.CONTROLS if self.session.character.rig else Area.MESH)
        QTimer.singleShot(0, self.stage.show_all)

    def _small_picture(self) -> bytes:
        """The stage for the list of unsaved work; none in the middle of a drag or while playing: drawing it takes a frame."""
        busy = not self.session.drag_free or self.session.playing
        return b"" if busy else self.stage.small_picture().data

    def _other_document(self) -> None:
        """Before another document is in hand: this one's unsaved work is saved or given up."""
        self.autosave.clear()
        self.autosave.new_document()

    def _may_leave(self) -> bool:
        session = self.session
        if session.character is None or session.history.present is session.saved:
            return True
        return self.ask.confirm(f"{session.document.name} has unsaved changes. Leave it without saving?")

    def escape(self) -> None:
        """Esc: the drag, else the brush, else the selection."""
        if self.palette_box.isVisible():
            self.palette_box.hide()
        elif self.stage.cancel_drag():
            return
        elif self.session.moves:
            self.session.set_view(moves=[])
        elif self.session.tool is not Tool.PICK:
            self.session.set_view(tool=Tool.PICK)
        else:
            self.session.vertices = {}
            self.session.selection = Selection()
            self.session.selection_changed.emit()

    def toggle_theme(self) -> None:
        self.theme = LINEN if self.theme is INK else INK
        apply_theme(QApplication.instance(), self.theme)
        self._title()
        self.rail.update()
        self.strip.ruler.update()

    def show_steps(self) -> None:
        """All steps in a list; choosing one goes there."""
        dialog = QDialog(self)
        dialog.setWindowTitle("Steps")
        dialog.setObjectName("steps")
        column = QVBoxLayout(dialog)
        steps = QListWidget()
        steps.setObjectName("steps.list")
        for step in self.session.history.steps:
            steps.addItem(step.name)
        steps.setCurrentRow(self.session.history.at)
        steps.itemActivated.connect(lambda _: go())
        steps.itemClicked.connect(lambda _: go())

        def go() -> None:
            self.session._show(self.session.history.go_to(steps.currentRow()))

        column.addWidget(label("Choose a step to go there; later ones stay until you do something else.", "caption"))
        column.addWidget(steps)
        dialog.resize(380, 420)
        dialog.show()

    def show_sheet(self) -> None:
        """Mouse and keys, from the same table everything else uses; keys are changed in it."""
        from pegloom.app.stage import stage as stage_module

        text = (stage_module.__doc__ or "").split("Help):", 1)[-1]
        rows = [line.strip().partition("  ") for line in text.strip().splitlines()]
        KeySheet(self.actions_, [(hand.strip(), meaning.strip()) for hand, _, meaning in rows], self).show()

    # Keys held on the stage, files dropped, closing

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_A and not event.isAutoRepeat():
            self.stage.even_held = True
        super().keyPressEvent(event)

    def keyReleaseEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_A and not event.isAutoRepeat():
            self.stage.even_held = False
        super().keyReleaseEvent(event)

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        files = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        if files:
            self.open_path(files[0])

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self._may_leave():
            event.ignore()
            return
        self.session.ticker.stop()
        self.autosave.stop()
        self.session.jobs.shut_down()
        self.strip.ruler.watch.stop()
        self.session.snag_watch.stop()
        self.collector.stop()
        event.accept()
