"""Trials: poses and motion kept for trying the weights."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from pegloom.app.actions.action import Action, Need
from pegloom.app.actions.needs import WITH_JOINTS
from pegloom.app.context import Context
from pegloom.app.jobs import Job
from pegloom.app.state.state import RANGE_TEST
from pegloom.core.jobs import Progress
from pegloom.document import edits
from pegloom.files.motion import read_motion


def keep(c: Context) -> None:
    """The pose in the view as a trial, with a small picture."""
    pose, count = c.frames.pose, len(c.character.trials) + 1
    name = c.ask.name("Keep the pose as a trial", f"trial {count}")
    if not name:
        return
    picture = c.view.small_picture()
    c.try_edit(f"Keep the trial {name}", lambda d: edits.keep_trial(d, name, pose, picture), c.player.play_source)


def drop(c: Context) -> None:
    kept = c.state.kept_pose
    assert kept is not None
    c.try_edit(f"Forget the trial {kept.name}", lambda d: edits.drop_trial(d, kept.id))


def bring_motion(c: Context) -> None:
    path = c.ask.open_motion()
    if not path:
        return
    chosen, skeleton = Path(path), c.skeleton

    def work(progress: Progress) -> object:
        progress(0.1, f"reading {chosen.name}")
        return read_motion(chosen, skeleton)

    def done(result: Any) -> None:
        clips, notes = result

        def then(ids: tuple[str, ...]) -> None:
            c.player.play_source(ids[0])
            c.say("; ".join([f"{chosen.name} is on the strip", *notes]))

        c.try_edit(f"Import {chosen.name}", lambda d: edits.bring_motion(d, clips), then)

    c.jobs.start(Job(f"Reading {chosen.name}", work, done))


KEPT = Need("kept trial", "Pick one of your own trials on the strip first", lambda s: s.kept_pose is not None)


def run_range_test(c: Context) -> None:
    """The range test on the strip, playing."""
    c.player.stop()
    c.player.play_source(RANGE_TEST)
    c.player.toggle()


ACTIONS = (
    Action("trial.range", "Run the range test", "Trials", "Every joint through its range of motion", run_range_test, needs=WITH_JOINTS),
    Action("trial.keep", "Keep the pose as a trial", "Trials", "With a small picture, on the strip", keep, needs=WITH_JOINTS),
    Action("trial.drop", "Forget a kept trial", "Trials", "The one the strip shows", drop, needs=(KEPT,)),
    Action("trial.bring", "Import motion as a trial", "Trials", "BVH or GLB of the same skeleton", bring_motion, needs=WITH_JOINTS),
)  # fmt: skip
