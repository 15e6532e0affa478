"""The snags of the character, found on a thread: looking for them must not hold up a stroke."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from PyQt6.QtCore import QObject

from pegloom.app.jobs import Background, Order
from pegloom.app.state.state import State
from pegloom.app.state.store import Store
from pegloom.checks import Snag, search_snags
from pegloom.core.geometry.mesh import is_watertight
from pegloom.core.jobs import Cancelled
from pegloom.document.edits import evenness
from pegloom.document.model import Character, Document


class SnagWatch(QObject):
    """Puts what it finds into the state: `snags`, and with `snags_known` whether they are the present character's."""

    def __init__(self, store: Store, background: Background) -> None:
        super().__init__(store)
        self.store, self.background = store, background
        self._wanted: Character | None = None
        store.changed.connect(self._look)

    def _look(self, old: State, new: State) -> None:
        """Of several states in haste only the last is looked at; none in the middle of a drag."""
        character = new.character
        if new.dragging or (character is old.character and not old.dragging):
            return
        if character is None:
            self._wanted = None
            self.background.drop(Order.SNAGS)
            self._put((), known=False)
        elif self._wanted is None or not _alike(character, self._wanted):
            self._wanted = character
            if new.snags_known:
                self.store.put(snags_known=False)
            self.background.put(
                Order.SNAGS, partial(_look_over, character, self._go_on), partial(self._landed, character)
            )

    def _go_on(self, character: Character) -> None:
        """Asked on the thread between two checks: what nobody wants any more is given up."""
        if character is not self._wanted or self.background.closed:
            raise Cancelled

    def _landed(self, character: Character, result: Any) -> None:
        # A search given up for another state may land when its own is wanted again: by then it is looked for anew.
        if character is not self._wanted or isinstance(result, Cancelled):
            return
        # A check that fails is a fault of ours, told where it is seen; the program goes on.
        failed = isinstance(result, BaseException)
        self._put(() if failed else result, known=True)
        if failed:
            raise result

    def _put(self, snags: tuple[Snag, ...], *, known: bool) -> None:
        now = self.store.state
        self.store.put(snags=now.snags if snags == now.snags else snags, snags_known=known)


def _look_over(character: Character, go_on: Callable[[Character], None]) -> tuple[Snag, ...]:
    """The snags; and what the Mesh cards show of the meshes, so that they have it at hand by then."""
    evenness(Document((character,)))
    for part in character.included:
        go_on(character)
        is_watertight(part.mesh)
    return search_snags(character, lambda fraction, text: go_on(character))


def _alike(a: Character, b: Character) -> bool:
    """Whether two states differ in what no snag looks at, if at all."""
    pairs = (
        (a.parts, b.parts), (a.standing, b.standing), (a.pegs, b.pegs), (a.skeleton, b.skeleton), (a.skin, b.skin),
        (a.rig, b.rig), (a.clips, b.clips), (a.rig_changes, b.rig_changes),
    )  # fmt: skip
    return all(x is y for x, y in pairs)
