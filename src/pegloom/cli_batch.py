"""Many files at once: each rigged, bound, given motion and exported in a process that may fall without the others."""

from __future__ import annotations

import contextlib
import importlib
import json
import multiprocessing
import os
import subprocess
import sys
import time
from collections.abc import Iterator
from dataclasses import asdict, dataclass
from multiprocessing.connection import Connection, wait
from pathlib import Path
from typing import Annotated, Any

import typer

from pegloom.cli_rig import Json
from pegloom.core.errors import EditError, MeshFileError, PegLoomError
from pegloom.files.batches import (
    REPORT,
    TABLE,
    BatchRecipe,
    add_row,
    files_of,
    place_of,
    read_recipe,
    read_rows,
    report_text,
    seen,
    table_text,
)

ANSWERS = 15
"""Seconds a scheduler has to answer."""
LOOK = 0.5
"""Seconds between two looks at what takes too long."""


@dataclass(frozen=True)
class Job:
    """file : to be taken in. told : as its row names it. place : a folder of its own for what comes of it."""

    file: str
    told: str
    place: str
    recipe: BatchRecipe


def done(job: Job) -> dict[str, Any]:
    """One file's row. A file that cannot be done has its one line; nothing is raised."""
    begun = time.perf_counter()
    row: dict[str, Any] = {
        "file": job.told, "state": "failed", "error": None, "pattern": None, "confidence": None, "vertices": None, "height_m": None, "joints": None,
        "stretch_p99": None, "folded": None, "snags": None, "clips": [], "slide_mm": None, "exports": [], "picture": None, "notes": [],
    }  # fmt: skip
    try:
        _work(job, row)
        row["state"] = "ok"
    except PegLoomError as error:
        row["error"] = " ".join(str(error).split())
    except MemoryError:
        row["error"] = "not enough memory for this mesh; reduce it and try again"
    except OSError as error:
        row["error"] = f"{error.filename or job.told}: {error.strerror or error}"
    except Exception as error:
        from pegloom.files.reports import unforeseen

        row["error"] = " ".join(unforeseen(error).split())
    row["seconds"] = round(time.perf_counter() - begun, 2)
    return row


def _work(job: Job, row: dict[str, Any]) -> None:
    from pegloom.checks import find_snags, trials
    from pegloom.core.geometry.standing import Direction
    from pegloom.core.skeleton.patterns import pattern
    from pegloom.core.skin.bind import BindMethod
    from pegloom.document import edits
    from pegloom.files.deliver import deliver
    from pegloom.files.motion import read_sources
    from pegloom.files.opening import open_any
    from pegloom.files.patterns import pattern_named
    from pegloom.files.project import save_project
    from pegloom.files.targets import target_named

    recipe, place = job.recipe, Path(job.place)

    def axis(text: str) -> Direction | None:
        try:
            return Direction(text.upper() if text[:1] in "+-" else f"+{text.upper()}") if text else None
        except ValueError:
            raise EditError(f"{text[:8]} is no axis; use +x -x +y -y +z -z") from None

    document = open_any(Path(job.file))
    row["vertices"] = sum(p.mesh.vertex_count for p in document.require_character().included)
    if document.require_character().skeleton is None:
        if not recipe.rig:
            raise EditError("it has no skeleton, and the recipe rigs nothing")
        document = edits.stand_up(document, up=axis(recipe.up), facing=axis(recipe.facing), height=recipe.height or None)
        plan = pattern(edits.guess_plan(document)) if recipe.pattern == "auto" else pattern_named(recipe.pattern)
        found = edits.find_pegs(document, plan=plan)
        row["pattern"], row["confidence"] = found.pattern, round(min((p.confidence for p in found.pegs), default=1.0), 3)
        document = edits.build_joints(edits.set_pegs(document, found))
    else:
        row["pattern"] = "as it came"
    if document.require_character().skin is None:
        document = edits.bind(document, method=BindMethod[recipe.bind], influences=recipe.influences)
    if recipe.controls and document.require_character().rig is None:
        document = edits.build_controls(document)
    slides = []
    for take in recipe.takes:
        sources, _ = read_sources(Path(take))
        document, ids = edits.add_sources(document, sources)
        for source in ids:
            document, _ = edits.pair_source(document, source)
            document, lent = edits.borrow(document, source)
            slides.append(float(lent.carried.figures.slide_mm))
    character = document.require_character()
    figures = trials.trial_figures(character)
    row |= {
        "height_m": round(character.height, 4), "joints": len(character.require_skeleton().joints), "clips": [c.name for c in character.clips],
        "stretch_p99": round(max((f.stretch for f in figures), default=0.0), 3) if figures else None, "folded": sum(f.folded for f in figures) if figures else None,
        "snags": len(find_snags(character)), "slide_mm": round(max(slides), 2) if slides else None,
    }  # fmt: skip
    place.mkdir(parents=True, exist_ok=True)
    stem = place.name
    if recipe.keep:
        save_project(place / f"{stem}.pegloom", document)
        row["exports"].append(f"{stem}/{stem}.pegloom")
    for name in recipe.targets:
        target = target_named(name)
        made = deliver(place / f"{stem}_{target.name}{target.kind}", document, target)
        row["exports"] += [f"{stem}/{f.name}" for f in made.files[:20]]
        row["notes"] += [n for n in made.left if n not in row["notes"]]
    if recipe.pictures:
        _picture(document, place / "picture.png")
        if (place / "picture.png").exists():
            row["picture"] = f"{stem}/picture.png"


def _picture(document: Any, path: Path) -> None:
    from pegloom.files.outgoing import write_bytes
    from pegloom.render.portrait import portraits
    from pegloom.render.studio import NoScreenError

    try:
        ((_, data),) = portraits(document, [("", "", 0.0)], size=(360, 360))
    except NoScreenError:
        return
    write_bytes(path, data)


def _serve(pipe: Connection) -> None:
    """A worker: one job after the other until there is none."""
    while True:
        job = pipe.recv()
        if job is None:
            return
        pipe.send(done(job))


THREADS = ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS", "MKL_NUM_THREADS", "NUMBA_NUM_THREADS")


@contextlib.contextmanager
def _threads(number: int) -> Iterator[None]:
    """Processes begun in here use that many threads: several that each take every core stand in each other's way. What the user
    set stays."""
    own = {name: str(number) for name in THREADS if name not in os.environ}
    os.environ |= own
    try:
        yield
    finally:
        for name in own:
            del os.environ[name]


class _Worker:
    """A process of its own, begun anew where a file ended it. threads : it may use."""

    def __init__(self, threads: int) -> None:
        self.job: Job | None = None
        self.since, self.threads = 0.0, threads
        self.begin()

    def begin(self) -> None:
        self.pipe, theirs = multiprocessing.Pipe()
        self.process = multiprocessing.get_context("spawn").Process(target=_serve, args=(theirs,), daemon=True)
        with _threads(self.threads):
            self.process.start()
        theirs.close()

    def take(self, job: Job) -> None:
        self.job, self.since = job, time.monotonic()
        self.pipe.send(job)

    def end(self, *, hard: bool = False) -> None:
        if hard:
            self.process.kill()
        else:
            try:
                self.pipe.send(None)
            except OSError:
                self.process.kill()
        self.process.join(10.0)
        self.pipe.close()


def rows_of(jobs: list[Job], processes: int) -> Iterator[dict[str, Any]]:
    """Rows as they are done, one for every job. A process that dies, or takes too long, costs its file and no other."""
    waiting = list(reversed(jobs))
    count = min(processes, len(jobs))
    threads = max(len(os.sched_getaffinity(0)) // max(count, 1), 1)
    workers = [_Worker(threads) for _ in range(count)]
    try:
        for worker in workers:
            worker.take(waiting.pop())
        while any(w.job is not None for w in workers):
            wait([w.pipe for w in workers if w.job is not None] + [w.process.sentinel for w in workers if w.job is not None], timeout=LOOK)
            for worker in workers:
                job = worker.job
                if job is None:
                    continue
                row = _row(worker, job)
                if row is None:
                    continue
                worker.job = None
                yield row
                if waiting:
                    worker.take(waiting.pop())
    finally:
        for worker in workers:
            worker.end(hard=worker.job is not None)


def _row(worker: _Worker, job: Job) -> dict[str, Any] | None:
    """A worker's row, None while it has none; where it died, or took too long, the row that says so."""
    late = job.recipe.seconds > 0.0 and time.monotonic() - worker.since > job.recipe.seconds
    said = ""
    if worker.pipe.poll():
        try:
            row: dict[str, Any] = worker.pipe.recv()
            return row
        except (EOFError, OSError):
            said = "ended the process that read it"
    elif not worker.process.is_alive():
        said = "ended the process that read it"
    elif late:
        said = f"took longer than {job.recipe.seconds:g} seconds"
    if not said:
        return None
    worker.end(hard=True)
    code = worker.process.exitcode
    worker.begin()
    signal = f" (signal {-code})" if code is not None and code < 0 and not late else ""
    return lost(job, f"{said}{signal}", time.monotonic() - worker.since)


def done_apart(job: Job) -> dict[str, Any]:
    """`done` in a program of its own: on a machine of a cluster a file that ends it, or takes too long, must not end the worker."""
    begun = time.monotonic()
    told = json.dumps({**asdict(job), "recipe": asdict(job.recipe)})
    late, code = False, 0
    try:
        run = subprocess.run([sys.executable, "-c", ONE], input=told, capture_output=True, text=True, check=False, timeout=job.recipe.seconds or None)
        code = run.returncode
        if code == 0:
            row: dict[str, Any] = json.loads(run.stdout.splitlines()[-1])
            return row
    except subprocess.TimeoutExpired:
        late = True
    except (ValueError, IndexError):
        code = 1
    signal = f" (signal {-code})" if code < 0 else ""
    return lost(job, f"took longer than {job.recipe.seconds:g} seconds" if late else f"ended the process that read it{signal}", time.monotonic() - begun)


ONE = "from pegloom.cli_batch import one; one()"
"""The program that does one file: its job as JSON comes in, its row as JSON is the last line out."""


def one() -> None:
    """What `done_apart` runs."""
    told = json.load(sys.stdin)
    recipe: dict[str, Any] = {k: tuple(v) if isinstance(v, list) else v for k, v in told.pop("recipe").items()}
    print(json.dumps(done(Job(**told, recipe=BatchRecipe(**recipe)))))


def rows_of_cluster(jobs: list[Job], address: str) -> Iterator[dict[str, Any]]:
    """Rows as a Dask cluster does them. A worker that is lost costs its file nothing: another one does it again; a file that
    takes several workers along is given up with its one line.

    Raises EditError without the packages, or where no scheduler answers.
    """
    try:
        distributed: Any = importlib.import_module("distributed")
    except ImportError:
        raise EditError("--scheduler needs packages of its own: pip install 'pegloom[cluster]'") from None
    try:
        client = distributed.Client(address, timeout=ANSWERS, set_as_default=False)
    except (OSError, ValueError) as error:
        raise EditError(f"no scheduler answers at {address} ({' '.join(str(error).split())[:120] or type(error).__name__})") from error
    with client, client.as_current():
        asked = {client.submit(done_apart, job, pure=False): job for job in jobs}
        for future in distributed.as_completed(list(asked)):
            job = asked[future]
            if future.status == "finished":
                yield future.result()
            else:
                yield lost(job, f"was given up by the cluster ({type(future.exception()).__name__})", 0.0)


def lost(job: Job, said: str, seconds: float) -> dict[str, Any]:
    """The row of a file whose process said nothing any more."""
    return {
        "file": job.told, "state": "failed", "error": f"{Path(job.told).name}: {said}; try it by itself", "pattern": None, "confidence": None,
        "vertices": None, "height_m": None, "joints": None, "stretch_p99": None, "folded": None, "snags": None, "clips": [], "slide_mm": None, "exports": [],
        "picture": None, "notes": [], "seconds": round(seconds, 2),
    }  # fmt: skip


def batch(
    folder: Annotated[Path, typer.Argument(metavar="FOLDER", help="meshes, rigged or not; folders in it, too")],
    output: Annotated[Path, typer.Option("-o", "--output", metavar="OUT", help="a folder; what an earlier run left in it is gone on from")],
    recipe: Annotated[Path | None, typer.Option("--recipe", metavar="RECIPE.json", help="what is done to each; see docs/batch.md")] = None,
    processes: Annotated[int, typer.Option("-j", "--processes", min=0, max=256, help="0 for one a core")] = 0,
    scheduler: Annotated[str, typer.Option("--scheduler", metavar="ADDRESS", help="a Dask scheduler whose workers do it, tcp://HOST:PORT; they read and write the same folders")] = "",
    anew: Annotated[bool, typer.Option("--anew", help="do all of them again")] = False,
    as_json: Json = False,
) -> None:
    """Rig, bind, give motion to and export many files: a table, a report with pictures, a row for every file."""
    told = BatchRecipe() if recipe is None else read_recipe(recipe)
    _check(told)
    some = files_of(folder)
    if not some:
        raise MeshFileError(folder.name, "holds no file that can be read", hint="name a folder with meshes in it")
    try:
        output.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise MeshFileError(str(output), f"cannot be made ({error.strerror})", hint="choose another place") from error
    jobs, rows = _jobs(folder, some, output, told, anew)
    count = processes or max(len(os.sched_getaffinity(0)), 1)
    by_file = {j.told: j for j in jobs}
    begun, kept = time.monotonic(), len(rows)
    done_by = rows_of_cluster(jobs, scheduler) if scheduler else rows_of(jobs, count)
    for number, row in enumerate(done_by if jobs else ()):
        row |= {"seen": seen(Path(by_file[row["file"]].file)), "recipe": told.stamp}
        add_row(output, row)
        rows[row["file"]] = row
        if not as_json:
            print(f"{number + 1} of {len(jobs)}  {row['file']}: {row['error'] or 'done'} ({row['seconds']:.1f} s)", flush=True)
    ordered = [rows[str(f.relative_to(folder))] for f in some]
    _write(output, ordered, told, folder.resolve().name)
    good = sum(1 for r in ordered if r["state"] == "ok")
    result = {"files": len(ordered), "done": good, "failed": len(ordered) - good, "kept": kept, "seconds": round(time.monotonic() - begun, 2), "rows": ordered, "table": str(output / TABLE), "report": str(output / REPORT)}
    print(json.dumps(result) if as_json else f"{good} of {len(ordered)} done, {kept} from before; written: {output / REPORT}")


def _check(recipe: BatchRecipe) -> None:
    """What no file could be done with is told before the first."""
    from pegloom.files.patterns import pattern_named
    from pegloom.files.targets import target_named

    for name in recipe.targets:
        target_named(name)
    if recipe.pattern != "auto":
        pattern_named(recipe.pattern)
    for take in recipe.takes:
        if not Path(take).is_file():
            raise MeshFileError(Path(take).name, "there is no such take", hint="name motion beside the recipe")


def _jobs(folder: Path, some: list[Path], output: Path, recipe: BatchRecipe, anew: bool) -> tuple[list[Job], dict[str, dict[str, Any]]]:
    """What is still to be done, and the rows that stand."""
    before = {} if anew else {r["file"]: r for r in read_rows(output) if r.get("recipe") == recipe.stamp}
    jobs, rows, taken = [], {}, set[str]()
    for file in some:
        told, place = str(file.relative_to(folder)), place_of(folder, file, output, taken)
        row = before.get(told)
        if row is not None and row.get("seen") == seen(file) and all((output / f).exists() for f in row.get("exports", [])):
            rows[told] = row
        else:
            jobs.append(Job(str(file), told, str(place), recipe))
    return jobs, rows


def _write(output: Path, rows: list[dict[str, Any]], recipe: BatchRecipe, name: str) -> None:
    from pegloom.files.outgoing import outgoing

    with outgoing() as out:
        out.put(output / TABLE, table_text(rows).encode())
        out.put(output / REPORT, report_text(rows, recipe, name).encode())


COMMANDS = (batch,)
