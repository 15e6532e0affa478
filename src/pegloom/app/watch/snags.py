"""The snags of the character, found on a thread: looking for them must not hold up a stroke."""

from __future__ import annotations

from concurrent.futures import Future, ThreadPoolExecutor

from PyQt6.QtCore import QObject, QTimer

from pegloom.app.state.state import State
from pegloom.app.state.store import Store
from pegloom.checks import Snag, find_snags
from pegloom.core.geometry.mesh import is_watertight
from pegloom.document.edits import evenness
from pegloom.document.model import Character, Document


class SnagWatch(QObject):
    """Puts what it finds into the state: `snags`, and with `snags_known` whether they are the present character's."""

    def __init__(self, store: Store) -> None:
        super().__init__(store)
        self.store = store
        self._wanted: Character | None = None
        self._known: Character | None = None
        self._task: tuple[Character, Future[tuple[Snag, ...]]] | None = None
        self._pool = ThreadPoolExecutor(max_workers=1, thread_name_prefix="snags")
        self.timer = QTimer(self)
        self.timer.setInterval(15)
        self.timer.timeout.connect(self._step)
        store.changed.connect(self._look)

    def _look(self, old: State, new: State) -> None:
        """Of several states in haste only the last is looked at; none in the middle of a drag."""
        character = new.character
        if new.dragging or (character is old.character and not old.dragging):
            return
        if character is None:
            self._wanted = self._known = None
            self._put((), known=False)
        elif self._wanted is None or not _alike(character, self._wanted):
            self._wanted = character
            if new.snags_known:
                self.store.put(snags_known=False)
            self.timer.start()

    def _step(self) -> None:
        if self._task is not None:
            character, future = self._task
            if not future.done():
                return
            self._task = None
            if character is self._wanted:
                self._known = character
                # A check that fails is a fault of ours, told where it is seen; the program goes on.
                self._put(future.result() if future.exception() is None else (), known=True)
                error = future.exception()
                if error is not None:
                    raise error
        if self._wanted is None or self._wanted is self._known:
            self.timer.stop()
            return
        self._task = (self._wanted, self._pool.submit(_look_over, self._wanted))

    def _put(self, snags: tuple[Snag, ...], *, known: bool) -> None:
        now = self.store.state
        self.store.put(snags=now.snags if snags == now.snags else snags, snags_known=known)

    def stop(self) -> None:
        """No more work: the window closes."""
        self.timer.stop()
        self.timer.timeout.disconnect()
        self._pool.shutdown(wait=True, cancel_futures=True)


def _look_over(character: Character) -> tuple[Snag, ...]:
    """The snags; and what the Mesh cards show of the meshes, so that they have it at hand by then."""
    evenness(Document((character,)))
    for part in character.included:
        is_watertight(part.mesh)
    return find_snags(character)


def _alike(a: Character, b: Character) -> bool:
    """Whether two states differ in what no snag looks at, if at all."""
    pairs = (
        (a.parts, b.parts), (a.standing, b.standing), (a.pegs, b.pegs), (a.skeleton, b.skeleton), (a.skin, b.skin),
        (a.rig, b.rig), (a.clips, b.clips), (a.rig_changes, b.rig_changes),
    )  # fmt: skip
    return all(x is y for x, y in pairs)
