"""The one place the state stands in, with its history. Whoever shows something hears `changed`."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from types import MappingProxyType
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from pegloom.app.state.settings import Setting
from pegloom.app.state.state import Selection, State, with_values, without_stale
from pegloom.core.arrays import IntArray
from pegloom.document import edits
from pegloom.document.history import History
from pegloom.document.model import Document
from pegloom.document.stand_ins import refreshed


class Store(QObject):
    """Every call below is one change, told once."""

    changed = pyqtSignal(object, object)
    """changed(old, new): the state before and after."""
    refused = pyqtSignal(str)
    """A step was not made, and why."""
    leaving = pyqtSignal()
    """Another document takes the place of this one now; what it holds is still the present one."""

    def __init__(self, state: State | None = None, parent: QObject | None = None) -> None:
        super().__init__(parent)
        empty = Document()
        self.state = state if state is not None else State(empty, empty, empty)
        self.history = History(self.state.stored)

    def put(self, **values: Any) -> None:
        """Change what is no document: fields of the state or of its parts, by name."""
        self._take(with_values(self.state, **values))

    def put_setting(self, kind: type[Setting], /, **values: Any) -> None:
        """Change fields of a card's settings."""
        self.put(settings=self.state.settings.put(kind, **values))

    def select(self, kind: str, *ids: str, add: bool = False) -> None:
        """Pick things; with add, toggle them within what is picked of the same kind. A joint picked is the active one."""
        now = self.state.selection
        if add and kind == now.kind:
            ids = (*(i for i in now.ids if i not in ids), *(i for i in ids if i not in now.ids))
        more = {"influence": ids[-1]} if kind == "joint" and ids else {}
        self.put(selection=Selection(kind if ids else "", tuple(ids)), **more)

    def pick(self, kind: str, *ids: str, add: bool = False) -> None:
        """Pick things by hand; where a field waits for a thing of this kind, it is filled and the selection stays."""
        wanted = self.state.tooling.wanted
        if wanted is None or kind not in wanted.kinds or not ids:
            self.select(kind, *ids, add=add)
            return
        settings = self.state.settings.put(wanted.setting, **{wanted.field: wanted.told(kind, ids[-1])})
        self.put(settings=settings, wanted=None)

    def pick_vertices(self, vertices: Mapping[str, IntArray], **more: Any) -> None:
        """Picked vertices by part; parts without any are left out."""
        self.put(vertices=MappingProxyType({p: v for p, v in vertices.items() if len(v)}), **more)

    # The document

    def commit(self, name: str, document: Document, **values: Any) -> bool:
        """One step that can be undone, with what changes besides; False where it is refused, see `closed_to`. What is posed over a clip and not keyed
        (`posed_over`) is kept with the step, though it is no part of the document."""
        document = refreshed(document)
        closed = self.closed_to(self.history.present, document)
        if closed:
            # A step of a hand that does not know that the rig is closed: nothing of it is done.
            self.drop_draft()
            self.refused.emit(closed)
            return False
        draft = values.pop("posed_over", self.history.draft)
        self.history.commit(name, document, draft)
        self._show(document, posed_over=draft, **values)
        return True

    def closed_to(self, before: Document, after: Document) -> str:
        """Why a step may not be made, "" where it may: the rig is closed, or seen as animators see it."""
        if not self.state.viewing.animators:
            return edits.refused(before, after)
        old, new = before.character, after.character
        if old is None or new is None or old.id != new.id or old.closed is not new.closed:
            return ""
        changed = edits.changed_pieces(old, new)
        return f"In the Animator's view only controls change, not the {changed[0].replace('_', ' ')}; leave it first" if changed else ""

    def draft(self, document: Document) -> None:
        """Show a document without a step: the middle of a drag."""
        state = with_values(self.state, document=refreshed(document, only=self.state.clock.source))
        self._take(without_stale(state, self.state.character))

    def drop_draft(self) -> None:
        """Show what is stored again."""
        self._show(self.history.present, posed_over=self.history.draft)

    def undo(self) -> None:
        self.history.undo()
        self.drop_draft()

    def redo(self) -> None:
        self.history.redo()
        self.drop_draft()

    def go_to(self, step: int) -> None:
        """Any step of the history."""
        self.history.go_to(step)
        self.drop_draft()

    def start_with(self, document: Document, path: Path | None, **values: Any) -> None:
        """A document just opened: a new history, nothing picked, nothing played."""
        self.history = History(document)
        values = {
            "settings": self.state.settings.of_another_document(), "locked": frozenset(), "pins": frozenset(), "wanted": None,
            "saved": document, "path": path, "selection": Selection(), "vertices": MappingProxyType({}), "influence": "",
            "level": 0, "source": "", "time": 0.0, "playing": False, "compared": "", "ghost": None, "moves": (), "animators": False, **values,
        }  # fmt: skip
        self._show(document, posed_over=None, **values)

    def _show(self, document: Document, **values: Any) -> None:
        before = self.state.character
        state = with_values(self.state, document=document, stored=self.history.present, **values)
        self._take(without_stale(state, before))

    def _take(self, state: State) -> None:
        old, self.state = self.state, state
        if state is not old:
            self.changed.emit(old, state)
