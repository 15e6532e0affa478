"""The palette finds an action by what the trade calls it, by the beginnings of its words, the best first."""

from __future__ import annotations

import pytest

from pegloom.app.actions.trade_words import TRADE_WORDS

WANTED = {
    "import": "file.open", "rotate": "tool.turn", "scale": "tool.grow", "wireframe": "view.wire", "x-ray": "view.see_through",
    "xray": "view.see_through", "parent": "joints.attach_kit", "unparent": "joints.float", "reparent": "joints.attach_kit",
    "symmetry": "mesh.even_out", "mirror": "weights.mirror", "invert": "vertices.others", "LOD": "mesh.level",
    "edge loop": "mesh.edge_rows", "insert joint": "joints.insert", "split": "joints.split", "rename": "joints.rename",
    "hide": "view.hide", "prune": "weights.prune", "normalise": "weights.prune", "limit influences": "weights.reduce",
    "keyframe": "keys.write", "set key": "keys.write", "auto-key": "keys.auto", "autokey": "keys.auto", "timeline": "time.play",
    "loop": "time.loop", "range of motion": "trial.range", "T-pose": "rest.t", "A-pose": "rest.a", "rest": "pose.rest",
    "bind": "weights.bind", "copy weights": "vertices.copy", "transfer": "weights.transfer", "texture": "mesh.picture",
    "brush": "tool.brush", "falloff": "tool.brush", "history": "edit.steps", "shortcuts": "help.sheet", "theme": "view.theme", "export": "file.export",
    "units": "mesh.stand_up", "lock": "influence.lock", "isolate": "view.isolate", "unbind": "influence.drop",
}  # fmt: skip


@pytest.mark.parametrize("said", WANTED)
def test_what_the_trade_says_is_found_near_the_top(hand, said):
    found = [action.id for action in hand.window.actions_.find(said)]
    assert WANTED[said] in found[:6], found[:8]


def test_words_are_matched_from_their_beginnings_and_titles_come_first(hand):
    find = hand.window.actions_.find
    assert find("bind")[0].id == "weights.bind"
    assert "weights.bind" not in [a.id for a in find("ind")]
    assert next(a.id for a in find("mirr weig")) == "weights.mirror"
    assert find("nothing is called so") == []
    assert set(TRADE_WORDS) <= set(hand.window.actions_.entries), "words of actions there are"
