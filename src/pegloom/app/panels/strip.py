"""The strip: trials and clips on the left; time with its ruler, and under it the lanes of the work area."""

from __future__ import annotations

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QIcon, QPixmap
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QListWidget, QListWidgetItem, QSplitter, QVBoxLayout, QWidget

from pegloom.app.context import Context
from pegloom.app.panels.ruler import HEIGHT, Ruler
from pegloom.app.spec import Lane
from pegloom.app.state.state import RANGE_TEST, SCENE, TRIAL_FRAMES, State
from pegloom.app.theme import current, icon, put_icon
from pegloom.app.widgets import button, label
from pegloom.app.widgets.panel import Panel, same
from pegloom.core.said import counted
from pegloom.document.model import Image
from pegloom.document.world import scene_length, scene_rate

LEAST = 132
"""Pixels the strip is high at least: the list needs them."""


class Strip(Panel):
    always = True
    """It is hidden by itself, and has to see when there is something to show."""

    def __init__(self, c: Context) -> None:
        super().__init__(c)
        self.setObjectName("strip")
        self.setMinimumHeight(LEAST)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        trials = QFrame()
        trials.setObjectName("trials")
        trials.setFixedWidth(216)
        column = QVBoxLayout(trials)
        column.setContentsMargins(10, 6, 6, 4)
        column.setSpacing(2)
        head = QHBoxLayout()
        head.addWidget(label("Strip", "heading"))
        head.addStretch(1)
        for name, action, picture, text in (
            ("strip.keep", "trial.keep", "plus", "Keep the pose shown as a trial"),
            ("strip.bring", "trial.bring", "download", "Bring in motion of this skeleton (BVH, GLB)"),
        ):
            button_ = button("", name, lambda a=action: c.actions.run(a), role="plain", tip=text)  # type: ignore[misc]
            put_icon(button_, picture)
            button_.setAccessibleName(text)
            button_.setIconSize(QSize(15, 15))
            head.addWidget(button_)
        self.play = button("", "strip.play", lambda: c.actions.run("time.play"), role="plain", tip="Play or stop (Space)")
        self.play.setAccessibleName("Play or stop")
        self.play.setIconSize(QSize(18, 18))
        head.addWidget(self.play)
        column.addLayout(head)
        self.list = QListWidget()
        self.list.setObjectName("strip.trials")
        self.list.setAccessibleName("Trials and clips")
        self.list.setIconSize(QSize(36, 27))
        self.list.itemClicked.connect(self._choose)
        self.list.itemActivated.connect(self._choose)
        self.pictures: dict[int, tuple[Image, QIcon]] = {}
        """By address, held with the picture that has it."""
        column.addWidget(self.list)
        row.addWidget(trials)
        self.times = QVBoxLayout()
        self.times.setContentsMargins(0, 0, 0, 0)
        self.times.setSpacing(0)
        self.ruler = Ruler(c)
        self.times.addWidget(self.ruler)
        self.rest = QWidget()
        self.times.addWidget(self.rest, 1)
        row.addLayout(self.times, 1)
        self.lanes: dict[str, tuple[Lane, Panel]] = {}
        self.rows_of: tuple[object, ...] | None = None

    def key(self, state: State) -> tuple[object, ...]:
        return (state.area, state.clock.playing, *self._rows_of(state), self._wanted(state))

    @staticmethod
    def _rows_of(state: State) -> tuple[object, ...]:
        one = state.character
        clips = tuple((clip.id, clip.name, round(clip.length * clip.rate)) for clip in one.clips) if one else ()
        jointed = one is not None and one.skeleton is not None
        together = tuple((c.figure, c.clips) for c in state.document.characters) if len(state.document.characters) > 1 else ()
        return (jointed, clips, state.clock.source, state.trials, one.trials if one else (), one is None, together)

    def _wanted(self, state: State) -> tuple[str, ...]:
        return tuple(lane.id for lane in self.c.area.lanes if lane.shown(state))

    def show_state(self, state: State) -> None:
        self.play.setIcon(icon("pause" if state.clock.playing else "play", current().woad))
        rows = self._rows_of(state)
        if self.rows_of is None or not same(rows, self.rows_of):
            self.rows_of = rows
            self._fill(state)
        self._show_lanes(self._wanted(state))
        # Without joints and clips there is nothing to show, and the view has the room.
        one = state.character
        together = len(state.document.characters) > 1
        self.setVisible(one is not None and (one.skeleton is not None or bool(one.clips) or together))

    def _show_lanes(self, wanted: tuple[str, ...]) -> None:
        """The lanes of the area, each made when it is first shown."""
        for lane in self.c.area.lanes:
            if lane.id in wanted and lane.id not in self.lanes:
                panel = lane.make(self.c)
                panel.setFixedHeight(lane.height)
                self.times.insertWidget(self.times.count() - 1, panel)
                self.lanes[lane.id] = (lane, panel)
        for lane_id, (_, panel) in self.lanes.items():
            panel.setVisible(lane_id in wanted)
        # In the order the area has them, under the ruler.
        for place, lane_id in enumerate(wanted, 1):
            panel = self.lanes[lane_id][1]
            if self.times.indexOf(panel) != place:
                self.times.removeWidget(panel)
                self.times.insertWidget(place, panel)
        self._be_as_high_as(max(LEAST, HEIGHT + sum(self.lanes[lane_id][0].height for lane_id in wanted)))

    def _be_as_high_as(self, least: int) -> None:
        """Room for the lanes at least; who was only as high as they asked gives it back when they go."""
        before, split = self.minimumHeight(), self.parentWidget()
        self.setMinimumHeight(least)
        if least < before and self.height() <= before + 1 and isinstance(split, QSplitter):
            sizes, own = split.sizes(), split.indexOf(self)
            sizes[own - 1] += sizes[own] - least
            sizes[own] = least
            split.setSizes(sizes)

    def _fill(self, state: State) -> None:
        one = state.character
        jointed = one is not None and one.skeleton is not None
        own, clips = (one.trials, one.clips) if one is not None else ((), ())
        self.list.clear()
        rows = [("Current pose", "", 0.0)] if jointed or clips or len(state.document.characters) > 1 else []
        if len(state.document.characters) > 1:
            rows.append((f"All figures    {counted(round(scene_length(state.document) * scene_rate(state.document)), 'frame')}", SCENE, 0.0))
        if jointed:
            rows.append((f"Range test    {counted(len(state.trials) * TRIAL_FRAMES, 'frame')}", RANGE_TEST, 0.0))
            rows += [(f"{t.name}    kept", t.id, 0.0) for t in own]
        rows += [(f"{clip.name}    {counted(round(clip.length * clip.rate), 'frame')}", clip.id, 0.0) for clip in clips]
        if jointed:
            rows += [
                (f"{t.label}    pose", RANGE_TEST, (i + 0.5) * TRIAL_FRAMES / 30) for i, t in enumerate(state.trials)
            ]
        pictures = {t.id: t.picture for t in own if t.picture is not None}
        for text, source, at in rows:
            item = QListWidgetItem(text)
            if source in pictures:
                item.setIcon(self._picture(pictures[source]))
            item.setData(Qt.ItemDataRole.UserRole, (source, at))
            self.list.addItem(item)
            item.setSelected(source == state.clock.source and at == 0.0)
        if not rows:
            item = QListWidgetItem("Open a mesh to begin" if one is None else "They come with the joints")
            item.setFlags(Qt.ItemFlag.NoItemFlags)
            self.list.addItem(item)

    def _picture(self, image: Image) -> QIcon:
        if id(image) not in self.pictures:
            pixmap = QPixmap()
            pixmap.loadFromData(image.data, "JPEG" if image.kind == "image/jpeg" else "PNG")
            self.pictures[id(image)] = (image, QIcon(pixmap))
        return self.pictures[id(image)][1]

    def _choose(self, item: QListWidgetItem) -> None:
        data = item.data(Qt.ItemDataRole.UserRole)
        if data is not None:
            self.c.player.stop()
            self.c.player.play_source(*data)
