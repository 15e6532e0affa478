"""The real program killed at random moments of saving, autosaving and exporting, and what it leaves looked at.

`python -m tests.support.drill NUMBER` (`./loom drill NUMBER`) kills it that often; the tests do so six times.
"""

from __future__ import annotations

import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

EXPORTS = ("out.glb", "out.usda", "out.obj", "out.stl", "out.ply")


def child(folder: Path) -> None:
    """The program: edits, saves, autosaves and exports without end, telling what it has done."""
    from PyQt6.QtWidgets import QApplication

    from pegloom.app.actions.common.file import save_to
    from pegloom.app.main import make_application
    from pegloom.app.window import Window
    from pegloom.document import edits
    from pegloom.files.project import open_project
    from pegloom.files.snapshots import keep_snapshot
    from pegloom.files.versions import keep_version
    from pegloom.files.writing import write_any
    from tests.support.figures import wick

    app = make_application(["drill"])
    window = Window(autosave_folder=folder / "unsaved")
    window.show()
    store, path = window.store, folder / "w.pegloom"
    start = open_project(path) if path.is_file() else wick()
    store.start_with(start, path)
    count = counter(start)

    def tell(what: str) -> None:
        print(what, count, flush=True)

    tell("ready")
    while True:
        count += 1
        document = edits.set_channels(store.history.present, "body", move_y=-0.0001 * count)
        store.commit(f"Pose {count}", document)
        tell("committed")
        window.autosave.save()
        app.processEvents()
        if count % 3 == 0:
            window.autosave.wait()
            if window.autosave.last is document:
                tell("autosaved")
        if count % 2 == 0:
            save_to(window.c, path)
            while window.c.jobs.busy:
                app.processEvents()
            if store.state.saved is document:
                tell("saved")
        if count % 5 == 0 and store.state.saved is document:
            keep_version(path, str(count))
            tell("versioned")
        if count % 4 == 1:
            keep_snapshot(document, f"step {count}", project=path, folder=folder / "snapshots")
            tell("snapshot")
        write_any(folder / EXPORTS[count % len(EXPORTS)], document)
        QApplication.processEvents()


def counter(document: object) -> int:
    """Which of the child's edits a document holds last."""
    row = document.character.pose.values.get(("body", "move_y"))  # type: ignore[attr-defined]
    return 0 if row is None else round(-row / 0.0001)


def drill(folder: Path, chance: random.Random) -> list[str]:
    """Start it, kill it once, look. Returns what is wrong; the folder is used again by the next."""
    from pegloom.core.errors import PegLoomError
    from pegloom.files.leftovers import left_over
    from pegloom.files.opening import open_any
    from pegloom.files.project import open_project

    environment = {**os.environ, "XDG_DATA_HOME": str(folder / "data")}
    log = folder / "log.txt"
    with log.open("w") as stream:
        process = subprocess.Popen(
            [sys.executable, "-m", "tests.support.drill", "child", str(folder)], stdout=stream, stderr=subprocess.STDOUT,
            env=environment, cwd=Path(__file__).parents[2],
        )  # fmt: skip
        end = time.monotonic() + 180
        while "ready" not in log.read_text() and process.poll() is None and time.monotonic() < end:
            time.sleep(0.02)
        time.sleep(chance.uniform(0.05, 3.0))
        gone = process.poll()
        process.send_signal(signal.SIGKILL)
        process.wait()
    told = [line.split() for line in log.read_text().splitlines()]
    wrong = [f"ended by itself: {log.read_text()[-400:]}"] if gone is not None else []
    last = {what: max((int(n[1]) for n in told if n[:1] == [what]), default=0) for what in ("committed", "saved", "autosaved", "versioned", "snapshot")}
    path = folder / "w.pegloom"
    kept = 0
    if path.exists() or last["saved"]:
        try:
            kept = counter(open_project(path))
            if kept < last["saved"]:
                wrong.append(f"the save holds step {kept}, but {last['saved']} was told as saved")
        except PegLoomError as error:
            wrong.append(f"the save does not open: {error}")
    for one in left_over(folder / "unsaved"):
        try:
            kept = max(kept, counter(open_project(one.file)))
        except PegLoomError as error:
            wrong.append(f"the autosave does not open: {error}")
        one.file.unlink()
        (folder / "unsaved" / f"{one.id}.json").unlink()
    if kept < last["autosaved"]:
        wrong.append(f"step {last['autosaved']} was told as kept, but only {kept} is found")
    for name in EXPORTS:
        if (folder / name).exists():
            try:
                open_any(folder / name)
            except PegLoomError as error:
                wrong.append(f"{name} is not whole: {error}")
    wrong += _kept(folder, path, last)
    known = {*EXPORTS, "w.versions", "snapshots", "out.mtl", "w.pegloom", "log.txt", "unsaved", "data", "wick.png"}
    litter = [p.name for p in folder.iterdir() if p.name not in known and not p.name.endswith(".autosave.pegloom")]
    return wrong + [f"litter: {name}" for name in litter]


def _kept(folder: Path, path: Path, last: dict[str, int]) -> list[str]:
    """What is wrong with versions and snapshots: each there opens and is the step it says; each told of is there."""
    from pegloom.core.errors import PegLoomError
    from pegloom.files.project import open_project
    from pegloom.files.snapshots import snapshots
    from pegloom.files.versions import versions

    wrong, found = [], {"versioned": 0, "snapshot": 0}
    kept = [("versioned", v.path, v.note) for v in versions(path)] + [("snapshot", s.path, s.before.removeprefix("step ")) for s in snapshots(folder=folder / "snapshots")]
    for kind, file, said in kept:
        try:
            step = counter(open_project(file))
        except PegLoomError as error:
            wrong.append(f"{file.name} does not open: {error}")
            continue
        if said and int(said) != step:
            wrong.append(f"{file.name} holds step {step} and says {said}")
        found[kind] = max(found[kind], step)
    wrong += [f"step {last[kind]} was told as {kind}, the latest found is {step}" for kind, step in found.items() if step < last[kind]]
    return wrong + [f"litter: {p.name}" for p in folder.glob("*/.*.part")]


def main() -> int:
    if sys.argv[1:2] == ["child"]:
        child(Path(sys.argv[2]))
    number = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else int(time.time())
    chance = random.Random(seed)
    print(f"seed {seed}")
    bad = 0
    with tempfile.TemporaryDirectory() as folder:
        for k in range(number):
            wrong = drill(Path(folder), chance)
            bad += bool(wrong)
            print(f"{k + 1:4d}  {'; '.join(wrong) or 'whole'}", flush=True)
    print(f"{number} kills, {bad} with something lost")
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
