"""What the window knows and does, under short names for tests. Every change is shown before the next line runs."""

from __future__ import annotations

from types import MappingProxyType

from PyQt6.QtWidgets import QApplication

from pegloom.app.actions.common.file import offer_recovery, save_to
from pegloom.app.areas.joints.settings import PatternSettings
from pegloom.app.state.state import BrushSettings, HandSettings
from pegloom.app.widgets.panel import refresher_of

STATE = ("character", "document", "selection", "vertices", "area", "at_rest", "clip", "kept_pose", "length", "trials", "rate",
         "shown_parts", "snapped_time", "unsaved", "path", "saved", "snags", "brush")  # fmt: skip
VIEWING = ("display", "lens", "wire_over", "clean_view", "hidden", "level", "influence", "compared", "seam", "reach_shown",
           "middle_shown", "ghost", "moves", "panes")  # fmt: skip
TOOLING = ("tool", "painting", "locked", "copied", "ladder", "pressure")
CLOCK = ("source", "time", "playing")
HAND = ("both_sides", "with_children", "auto_key", "looping")


class Session:
    def __init__(self, window):
        object.__setattr__(self, "window", window)
        object.__setattr__(self, "c", window.c)

    @property
    def said(self):
        return self.c.said

    def __getattr__(self, name):
        state = self.c.state
        for names, of in ((STATE, state), (VIEWING, state.viewing), (TOOLING, state.tooling), (CLOCK, state.clock), (HAND, state.hand)):
            if name in names:
                return getattr(of, name)
        raise AttributeError(name)

    def __setattr__(self, name, value):
        if name == "vertices":
            self.c.store.put(vertices=MappingProxyType(dict(value)))
        else:
            self.c.store.put(**{name: value})
        self.settle()

    def settle(self):
        refresher_of(self.c).now()

    @property
    def difference_said(self):
        return self.c.frames.difference_said

    @property
    def history(self):
        return self.c.store.history

    @property
    def jobs(self):
        return self.c.jobs

    @property
    def shown_pose(self):
        return self.c.frames.pose

    @property
    def other(self):
        return self.c.frames.other

    @property
    def ticker(self):
        return self.c.player.ticker

    @property
    def snag_watch(self):
        return self.window.snag_watch

    def frame(self):
        return self.c.frames.frame()

    def other_frame(self):
        return self.c.frames.other_frame()

    def reach(self):
        return self.c.frames.reach()

    @property
    def reach_radius(self):
        return self.c.frames.reach_radius

    def commit(self, name, document):
        self.c.store.commit(name, document)
        self.settle()

    def preview(self, document):
        self.c.store.draft(document)
        self.settle()

    def drop_preview(self):
        self.c.store.drop_draft()
        self.settle()

    def undo(self):
        self.window.actions_.run("edit.undo")
        self.settle()

    def redo(self):
        self.window.actions_.run("edit.redo")
        self.settle()

    def try_edit(self, name, edit):
        done = self.c.try_edit(name, edit)
        self.settle()
        return done

    def say(self, text, *, error=False):
        self.c.say(text, error=error)

    def select(self, kind, *ids, add=False):
        self.c.store.select(kind, *ids, add=add)
        self.settle()

    def set_view(self, **values):
        brush = values.pop("brush", None)
        if brush is not None:
            self.c.store.put_setting(BrushSettings, **{f: getattr(brush, f) for f in brush.__dataclass_fields__})
        plan = {name: values.pop(name) for name in ("pattern", "fingers", "pairs") if name in values}
        if plan:
            self.c.store.put_setting(PatternSettings, **plan)
        hand = {name: values.pop(name) for name in HAND if name in values}
        if hand:
            self.c.store.put_setting(HandSettings, **hand)
        if values:
            self.c.store.put(**values)
        self.settle()

    def run(self, action):
        self.window.actions_.run(action)
        self.settle()

    def go(self, area):
        self.c.go(area)
        self.settle()

    def set_area(self, area):
        self.c.enter(area)
        self.settle()

    def start_with(self, document, path):
        self.c.store.start_with(document, path)
        self.settle()

    def play_source(self, source, at=0.0):
        self.c.player.play_source(source, at)
        self.settle()

    def go_to(self, seconds):
        self.c.player.go_to(seconds)
        self.settle()

    def toggle_play(self):
        self.c.player.toggle()
        self.settle()

    def settings(self, kind):
        return self.c.state.settings.of(kind)

    def put_setting(self, kind, **values):
        self.c.store.put_setting(kind, **values)
        self.settle()

    def open(self, path, **more):
        """Open a file and wait until it is there."""
        self.window.open_path(path, **more)
        self.wait()

    def save(self, path):
        """Save and wait until it is done."""
        document = self.c.store.history.present
        save_to(self.c, path)
        self.wait()
        return self.c.state.saved is document and self.c.state.path == path

    def recover(self, *, again=False):
        """Offer unsaved work, and wait until what was taken is open."""
        taken = offer_recovery(self.c, again=again)
        self.wait()
        return taken

    def wait(self):
        """Until nothing is under way."""
        while self.jobs.busy:
            QApplication.processEvents()
        self.settle()
