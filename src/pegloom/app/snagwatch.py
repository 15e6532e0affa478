"""The snags of the character in hand, found on a thread: looking for them must not hold up a stroke."""

from __future__ import annotations

from concurrent.futures import Future, ThreadPoolExecutor

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from pegloom.checks import Snag, find_snags
from pegloom.core.geometry.mesh import is_watertight
from pegloom.document.edits import evenness
from pegloom.document.model import Character, Document


class SnagWatch(QObject):
    """`snags` are those found last; `changed` when there are others."""

    changed = pyqtSignal()
    looked = pyqtSignal()
    """The character in hand has been looked over, whether or not there is anything new."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self.snags: tuple[Snag, ...] = ()
        self._wanted: Character | None = None
        self._known: Character | None = None
        self._task: tuple[Character, Future[tuple[Snag, ...]]] | None = None
        self._pool = ThreadPoolExecutor(max_workers=1, thread_name_prefix="snags")
        self.timer = QTimer(self)
        self.timer.setInterval(15)
        self.timer.timeout.connect(self._step)

    @property
    def current(self) -> bool:
        """Whether `snags` are those of the character last looked at."""
        return self._known is self._wanted

    def look(self, character: Character | None) -> None:
        """Find the snags of a character; of several asked for in haste only the last is looked at."""
        if character is None:
            self._wanted = self._known = None
            self._tell(())
        elif self._wanted is None or not _alike(character, self._wanted):
            self._wanted = character
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
                self._tell(future.result() if future.exception() is None else ())
                self.looked.emit()
                if future.exception() is not None:
                    raise future.exception()
        if self._wanted is None or self._wanted is self._known:
            self.timer.stop()
            return
        self._task = (self._wanted, self._pool.submit(_look_over, self._wanted))

    def _tell(self, snags: tuple[Snag, ...]) -> None:
        if snags != self.snags:
            self.snags = snags
            self.changed.emit()

    def stop(self) -> None:
        """No more work: the window closes."""
        self.timer.stop()
        self.timer.timeout.disconnect()
        self._pool.shutdown(wait=True, cancel_futures=True)


def _look_over(character: Character) -> tuple[Snag, ...]:
    """The snags; and what the Mesh bench shows of the meshes, so that it has it at hand by then."""
    evenness(Document((character,)))
    for part in character.included:
        is_watertight(part.mesh)
    return find_snags(character)


def _alike(a: Character, b: Character) -> bool:
    """Whether two states differ in pose and motion at most, which no snag looks at."""
    pairs = ((a.parts, b.parts), (a.standing, b.standing), (a.pegs, b.pegs), (a.skeleton, b.skeleton), (a.skin, b.skin))
    return all(x is y for x, y in pairs) and a.rig is b.rig
