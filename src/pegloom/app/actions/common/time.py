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
    Action("time.first", "First frame", "Motion", "Of what is played", lambda c: c.player.to_end(-1), key="Home"),
    Action("time.last", "Last frame", "Motion", "Of what is played", lambda c: c.player.to_end(1), key="End"),
    Action("time.from_here", "Range begins here", "Motion", "Only from this frame on is played and shown", lambda c: c.player.play_part(first=c.state.snapped_time)),
    Action("time.to_here", "Range ends here", "Motion", "Only up to this frame is played and shown", lambda c: c.player.play_part(last=c.state.snapped_time)),
    Action("time.whole", "The whole clip", "Motion", "All of it is played and shown", lambda c: c.player.play_part()),
    Action("time.loop", "Loop", "Motion", "Begin again at the end, or stop there", loop, on=lambda s: s.hand.looping),
)  # fmt: skip
