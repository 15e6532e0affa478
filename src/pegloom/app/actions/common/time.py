"""Playing and stepping."""

from __future__ import annotations

from pegloom.app.actions.action import Action
from pegloom.app.actions.needs import WITH_JOINTS
from pegloom.app.context import Context
from pegloom.app.state.state import HandSettings


def loop(c: Context) -> None:
    c.store.put_setting(HandSettings, looping=not c.state.hand.looping)


ACTIONS = (
    Action("time.play", "Play or stop", "Motion", "Play the strip", lambda c: c.player.toggle(), key="Space", needs=WITH_JOINTS),
    Action("time.next", "Next frame", "Motion", "One frame on", lambda c: c.player.step(1), key="Right"),
    Action("time.previous", "Previous frame", "Motion", "One frame back", lambda c: c.player.step(-1), key="Left"),
    Action("time.next_key", "Next key", "Motion", "To the next key", lambda c: c.player.to_key(1), key="PgDown"),
    Action("time.previous_key", "Previous key", "Motion", "To the previous key", lambda c: c.player.to_key(-1), key="PgUp"),
    Action("time.loop", "Loop", "Motion", "Begin again at the end, or stop there", loop, on=lambda s: s.hand.looping),
)  # fmt: skip
