"""The window: title row, rail, the area's cards, the view, panes beside and under it, the strip. It names no area."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial
from pathlib import Path

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QKeyEvent
from PyQt6.QtWidgets import QApplication, QBoxLayout, QHBoxLayout, QMainWindow, QStackedWidget, QVBoxLayout, QWidget

from pegloom.app.actions.action import Action
from pegloom.app.actions.common import ACTIONS
from pegloom.app.actions.common.file import may_leave, open_path
from pegloom.app.actions.registry import Actions
from pegloom.app.areas import AREAS
from pegloom.app.context import Ask, Context
from pegloom.app.dialogs.ask import AskByDialog
from pegloom.app.dialogs.history import HistorySheet
from pegloom.app.dialogs.keysheet import KeySheet
from pegloom.app.jobs import Background, JobRunner
from pegloom.app.panels.bench import Bench
from pegloom.app.panels.drawer import PartsDrawer
from pegloom.app.panels.next_step import GuideSettings, NextStep
from pegloom.app.panels.palette import Palette
from pegloom.app.panels.rail import Rail
from pegloom.app.panels.strip import Strip
from pegloom.app.panels.title import Title
from pegloom.app.spec import AreaSpec, Pane, Place
from pegloom.app.stage.frame import StageFrame
from pegloom.app.stage.stage import STAGE_TABLE, Stage
from pegloom.app.state.kept import keep_theme, read_keys, read_ladder, read_theme, read_usual
from pegloom.app.state.state import COMMON_SETTINGS, State
from pegloom.app.state.store import Store
from pegloom.app.theme import INK, LINEN, Theme, apply_theme, current, renew_icons
from pegloom.app.watch.autosave import Autosave
from pegloom.app.watch.collector import Collector
from pegloom.app.watch.desk import Desk
from pegloom.app.watch.live import LiveEdit
from pegloom.app.watch.quality import QualityWatch
from pegloom.app.watch.ready import prepare
from pegloom.app.watch.revised import RevisedFile
from pegloom.app.watch.snags import SnagWatch
from pegloom.app.watch.snapshots import Snapshots
from pegloom.app.widgets.panel import Panel, refresher_of
from pegloom.app.widgets.splits import Split


class Host(Panel):
    """Where panes of a place stand; each is made when it is first shown."""

    always = True

    def __init__(self, c: Context, place: Place) -> None:
        super().__init__(c)
        self.place = place
        self.setObjectName(f"host.{place.name.lower()}")
        self.box = QHBoxLayout(self) if place is Place.SIDE else QVBoxLayout(self)
        self.box.setContentsMargins(0, 0, 0, 0)
        self.box.setSpacing(0)
        self.panes: dict[str, tuple[Pane, Panel]] = {}
        self.hide()

    def _wanted(self, state: State) -> tuple[str, ...]:
        return tuple(p.id for p in self.c.area.panes if p.place is self.place and p.shown(state))

    def key(self, state: State) -> tuple[object, ...]:
        return (state.area, self._wanted(state))

    def show_state(self, state: State) -> None:
        wanted = self._wanted(state)
        for pane in self.c.area.panes:
            if pane.id in wanted and pane.id not in self.panes:
                panel = pane.make(self.c)
                if pane.size and self.place is Place.SIDE:
                    panel.setFixedWidth(pane.size)
                elif pane.size:
                    panel.setFixedHeight(pane.size)
                self.box.addWidget(panel)
                self.panes[pane.id] = (pane, panel)
        for pane_id, (_, panel) in self.panes.items():
            panel.setVisible(pane_id in wanted)
        self.setVisible(bool(wanted))


class PaneWindow(QWidget):
    """A pane as a window of its own."""

    def __init__(self, c: Context, pane: Pane, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Window)
        self.c, self.pane = c, pane
        self.setObjectName(f"window.{pane.id}")
        self.setWindowTitle(f"{pane.title} - Peg Loom")
        self.panel = pane.make(c)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.addWidget(self.panel)
        self.resize(max(pane.size, 320), 560)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        assert event is not None
        event.accept()
        if self.pane.shown(self.c.state):
            self.pane.closed(self.c)


class Windows(Panel):
    """Panes that are windows of their own, as long as their area wants them."""

    always = True

    def __init__(self, c: Context, parent: QWidget) -> None:
        super().__init__(c, parent)
        self.over = parent
        self.shown: dict[str, PaneWindow] = {}
        self.hide()

    def _wanted(self, state: State) -> tuple[str, ...]:
        return tuple(p.id for p in self.c.area.panes if p.place is Place.WINDOW and p.shown(state))

    def key(self, state: State) -> tuple[object, ...]:
        return (state.area, self._wanted(state))

    def show_state(self, state: State) -> None:
        wanted = self._wanted(state)
        for pane in self.c.area.panes:
            if pane.id in wanted and pane.id not in self.shown:
                self.shown[pane.id] = PaneWindow(self.c, pane, self.over)
        for pane_id, window in self.shown.items():
            window.setVisible(pane_id in wanted)


LEAST_BENCH = 300
"""Pixels the column of cards is wide at least: no card is cut off at that."""


class Window(QMainWindow):
    """Made from the areas; tests may hand in others."""

    def __init__(
        self, ask: Ask | None = None, *, autosave_folder: Path | None = None, areas: tuple[AreaSpec, ...] = AREAS
    ) -> None:
        super().__init__()
        self.setObjectName("window")
        self.setWindowTitle("Peg Loom")
        self.resize(1280, 800)
        self.setAcceptDrops(True)
        self.ask = ask or AskByDialog()
        if isinstance(self.ask, AskByDialog):
            self.ask.window = self
        self.collector = Collector(self)
        self.store = Store(parent=self)
        self.c = c = Context(self.store, self.ask, JobRunner(self, prepare=prepare), areas, self)
        kinds = (*COMMON_SETTINGS, GuideSettings, *(kind for area in areas for kind in area.settings))
        self.store.put(settings=read_usual(kinds), ladder=read_ladder())
        self.theme = INK
        self.closes_later = False
        self.c.jobs.finished.connect(self._job_ended)
        self.actions_ = Actions(self, c)
        self.actions_.add(*ACTIONS, *(action for area in areas for action in area.actions))
        self.actions_.add(*(_go_to(area, number) for number, area in enumerate(areas, 1)))
        self.actions_.rebind_all(read_keys(), keep=False)
        c.actions, c.frame = self.actions_, self
        c.background = Background(lambda: c.state.dragging or c.state.clock.playing or c.live.busy, self)
        c.live = LiveEdit(c.store, c.background, lambda text: c.say(text, error=True), self)
        c.desk = Desk(c.store, c.frames, self)
        c.quality = QualityWatch(self.store, c.frames, c.background)
        self.snag_watch = SnagWatch(self.store, c.background)
        c.autosave = self.autosave = Autosave(self.store, folder=autosave_folder, picture=self._small_picture)
        self.autosave.failed.connect(lambda text: c.say(text, error=True))
        c.snapshots = Snapshots(self, folder=autosave_folder and autosave_folder.with_name("snapshots"), picture=self._small_picture)
        c.snapshots.failed.connect(lambda text: c.say(text, error=True))
        c.revised = RevisedFile(self)
        c.revised.changed.connect(self._revised)
        self.store.leaving.connect(self._other_document)
        self._build()
        self.actions_.follow()
        self.store.changed.connect(self._area)
        c.enter(areas[0].id)
        refresher_of(c).now()

    def _build(self) -> None:
        c = self.c
        self.frame_ = StageFrame(c)
        c.view = self.frame_.stage
        c.desk.drawn.connect(self.frame_.stage.update)
        self.palette_box = Palette(self.actions_, self)
        middle = QWidget()
        column = QVBoxLayout(middle)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(Title(c))
        row = QHBoxLayout()
        row.setSpacing(0)
        column.addLayout(row, 1)
        self.rail = Rail(c)
        self.rail.chosen.connect(c.go)
        self.rail.doubted.connect(self.show_snags)
        row.addWidget(self.rail)
        right = QVBoxLayout()
        right.setSpacing(0)
        row.addLayout(right, 1)
        self.stack = QStackedWidget()
        self.stack.setObjectName("bench")
        self.columns: dict[str, Bench] = {}
        self.drawer = PartsDrawer(c)
        self.strip = Strip(c)
        bench = _stacked(QVBoxLayout(), self.stack, NextStep(c))
        side = Split("side", Qt.Orientation.Vertical, bench, self.drawer, sizes=[500, 150], grows=0)
        side.setMinimumWidth(LEAST_BENCH)
        view = _stacked(QHBoxLayout(), self.frame_, Host(c, Place.SIDE))
        upper = Split("upper", Qt.Orientation.Horizontal, side, view, sizes=[LEAST_BENCH, 980], grows=1)
        lower = _stacked(QVBoxLayout(), upper, Host(c, Place.LOWER))
        right.addWidget(Split("road", Qt.Orientation.Vertical, lower, self.strip, sizes=[650, 132], grows=0))
        self.setCentralWidget(middle)
        self.windows = Windows(c, self)
        self.palette_box.raise_()

    @property
    def stage(self) -> Stage:
        return self.frame_.stage

    @property
    def benches(self) -> Mapping[str, Bench]:
        """The columns of cards made so far, by area; each is made when its area is first entered."""
        return self.columns

    def _area(self, old: State, new: State) -> None:
        if new.area not in self.columns:
            bench = Bench(self.c, self.c.area)
            self.columns[new.area] = bench
            self.stack.addWidget(bench)
        if self.stack.currentWidget() is not self.columns[new.area]:
            self.stack.setCurrentWidget(self.columns[new.area])

    # What actions may ask of the window

    def show_snags(self, area: str) -> None:
        """Go to a work area's list of snags."""
        self.c.go(area)
        self.columns[area].show_snags()

    def show_history(self) -> None:
        HistorySheet(self.store, self).show()

    def show_keys(self) -> None:
        """Mouse and keys, from the same tables everything else uses; keys are changed in it."""
        KeySheet(self.actions_, list(STAGE_TABLE), self).show()

    def find_action(self) -> None:
        self.palette_box.open()

    def close_popups(self) -> bool:
        """Put away what floats over the window. Returns whether anything did."""
        seen = self.palette_box.isVisible()
        self.palette_box.hide()
        return seen

    def toggle_theme(self) -> None:
        keep_theme("linen" if current() is INK else "ink")
        self.show_theme(LINEN if current() is INK else INK)

    def follow_desktop(self) -> None:
        """The theme that was chosen; without a choice the desktop's, light or dark, and whatever becomes of it."""
        hints = QApplication.styleHints()

        def look() -> None:
            chosen = read_theme()
            light = chosen == "linen" or (not chosen and hints is not None and hints.colorScheme() is Qt.ColorScheme.Light)
            self.show_theme(LINEN if light else INK)

        if hints is not None:
            hints.colorSchemeChanged.connect(lambda _: look())
        look()

    def show_theme(self, theme: Theme) -> None:
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        if theme is not current():
            apply_theme(app, theme)
            renew_icons()
            self.theme = current()
            refresher_of(self.c).anew()

    def open_path(self, path: Path, *, choose: bool = False) -> None:
        """Open a mesh or a project."""
        open_path(self.c, path, choose=choose)

    # The user's work

    def _small_picture(self) -> bytes:
        """The view for the list of unsaved work; none in the middle of a drag or while playing: drawing it takes a frame."""
        busy = self.c.state.dragging or self.c.state.clock.playing
        return b"" if busy else self.stage.small_picture().data

    def _other_document(self) -> None:
        """Before another document is current: this one's unsaved work is saved or given up."""
        self.c.desk.close()
        self.autosave.clear()
        self.autosave.new_document()

    def _revised(self) -> None:
        """Another file is watched, or the watched one has changed."""
        self.c.stale.emit()
        if self.c.revised.fresh and self.c.revised.path is not None and self.c.state.character is not None:
            self.c.say(f"{self.c.revised.path.name} has changed", offer="file.take_again")

    def _job_ended(self) -> None:
        """The window was closed while a file was being written: it goes now."""
        if self.closes_later:
            QTimer.singleShot(0, self.close)

    # Keys held on the view, files dropped, closing

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        if event.key() == Qt.Key.Key_A and not event.isAutoRepeat():
            self.stage.even_held = True
        super().keyPressEvent(event)

    def keyReleaseEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        if event.key() == Qt.Key.Key_A and not event.isAutoRepeat():
            self.stage.even_held = False
        super().keyReleaseEvent(event)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        assert event is not None
        data = event.mimeData()
        if data is not None and data.hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        assert event is not None
        data = event.mimeData()
        files = [Path(u.toLocalFile()) for u in data.urls() if u.isLocalFile()] if data is not None else []
        if files:
            self.open_path(files[0])

    def closeEvent(self, event: QCloseEvent | None) -> None:
        assert event is not None
        if self.c.jobs.must_end:
            # A file is being written: the window closes when it is.
            self.closes_later = True
            event.ignore()
            return
        self.closes_later = False
        if not may_leave(self.c):
            event.ignore()
            return
        self.c.player.stop()
        self.c.desk.close()
        self.c.desk.simulate(False)
        self.autosave.stop()
        self.c.jobs.shut_down()
        self.c.background.stop()
        self.collector.stop()
        event.accept()


def _stacked(layout: QBoxLayout, first: QWidget, *others: QWidget) -> QWidget:
    """Widgets one after the other without gaps; the first takes what room there is."""
    box = QWidget()
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(0)
    layout.addWidget(first, 1)
    for widget in others:
        layout.addWidget(widget)
    box.setLayout(layout)
    return box


def _go_to(area: AreaSpec, number: int) -> Action:
    go = partial(_go, area.id)
    key = str(number) if number < 10 else ""
    return Action(f"area.{area.id}", area.title, "Areas", f"Work on {area.title.lower()}", go, key=key)


def _go(area: str, c: Context) -> None:
    c.go(area)

