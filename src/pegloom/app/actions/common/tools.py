"""Tools that every area may use."""

from __future__ import annotations

from functools import partial

from pegloom.app.actions.action import Action
from pegloom.app.context import Context
from pegloom.app.state.state import HandSettings, Tool


def take(tool: str, c: Context) -> None:
    c.store.put(tool=tool)


def both_sides(c: Context) -> None:
    c.store.put_setting(HandSettings, both_sides=not c.state.hand.both_sides)


def _tool(tool: Tool, title: str, tip: str, key: str) -> Action:
    return Action(f"tool.{tool}", title, "Tools", tip, partial(take, tool), key=key, on=lambda s: s.tooling.tool == tool)


ACTIONS = (
    _tool(Tool.PICK, "Pick", "Pick and drag", "V"),
    _tool(Tool.MOVE, "Move", "Move handle", "M"),
    _tool(Tool.TURN, "Rotate", "Rotate handle", "R"),
    _tool(Tool.GROW, "Scale", "Scale handle", "S"),
    Action("tool.sides", "Both sides", "Tools", "Act on both sides at once", both_sides, key="U", on=lambda s: s.hand.both_sides),
)  # fmt: skip
