"""The process USD is read in: the library can crash on damage, and what it takes cannot be told beforehand.

It gets a file's path and what may be taken, and answers with a project file holding what was read, which is checked
as any other. It runs with no more memory, time and environment than it needs, and ends with the program.
"""

from __future__ import annotations

import contextlib
import json
import os
import resource
import signal
import subprocess
import sys
from pathlib import Path
from types import MappingProxyType

from pegloom.core.errors import MeshFileError, PegLoomError, TooLargeError
from pegloom.core.skin.weights import most_influences
from pegloom.document.model import Character, Document, Skin
from pegloom.files.allowance import allowed, grows, left
from pegloom.files.imported import Imported
from pegloom.files.project import open_project, save_project
from pegloom.files.raw import checked_size
from pegloom.files.scratch import scratch

SUFFIXES = (".usd", ".usda", ".usdc", ".usdz")
MEMORY, MEMORY_TIMES = 768 << 20, 40
"""Bytes on top of what the process has when it begins, and for each byte of the file."""
SECONDS, SECONDS_A_MB = 11, 1
"""Of the processor."""
KEPT = ("PATH", "HOME", "LANG", "LC_ALL", "TMPDIR", "NUMBA_CACHE_DIR", "LD_LIBRARY_PATH", "SYSTEMROOT",
        "OPENBLAS_CORETYPE", "OPENBLAS_L2_SIZE")  # fmt: skip
"""Of the environment; the library takes paths to search and to load from the rest."""
START = "import sys; sys.path.insert(0, sys.argv[1]); from pegloom.files.usd.helper import main; sys.exit(main(sys.argv[2:]))"


def read_usd(path: Path) -> Imported:
    """Read a USD file. Raises MeshFileError, TooLargeError."""
    size = checked_size(path)
    if size == 0:
        raise MeshFileError(path.name, "the file is empty", hint="export it again")
    with scratch() as folder:
        answer = folder / "answer.pegloom"
        package = Path(__file__).resolve().parents[3]
        call = [sys.executable, "-I", "-c", START, str(package), str(path.absolute()), str(answer), str(left(size)), grows()]
        environment = {k: v for k, v in os.environ.items() if k in KEPT}
        environment["OPENBLAS_NUM_THREADS"] = "1"
        done = subprocess.run(
            call, cwd=folder, env=environment, stdin=subprocess.DEVNULL, capture_output=True, text=True, errors="replace",
            check=False,
        )  # fmt: skip
        if done.returncode != 0 or not answer.is_file():
            raise _failure(path, done.returncode, done.stdout)
        character = open_project(answer, most=max(left(size), answer.stat().st_size * 8)).require_character()
    return Imported(
        character.parts, character.materials, character.images, character.skeleton,
        dict(character.skin.weights) if character.skin is not None else None, character.clips, character.import_notes,
    )  # fmt: skip


def _failure(path: Path, code: int, said: str) -> MeshFileError:
    """What the helper told of a file it could not read, or what its end tells."""
    with contextlib.suppress(ValueError, KeyError, TypeError, IndexError):
        answer = json.loads(said.strip().splitlines()[-1])
        kind = TooLargeError if answer["large"] else MeshFileError
        return kind(path.name, str(answer["what"]), where=str(answer["where"]), hint=str(answer["hint"]))
    if code == -signal.SIGXCPU:
        what = "takes far longer to read than its size calls for"
    elif code < 0:
        what = f"is damaged: the USD library ended on it (signal {-code})"
    else:
        what = "is damaged: the USD library could not read it"
    return MeshFileError(path.name, what, hint="export it again, or convert it to GLB where it came from")


def main(arguments: list[str]) -> int:
    """The process: file, where the answer goes, bytes it may unpack to, whether files beside it add to that."""
    path, answer, most, growing = Path(arguments[0]), Path(arguments[1]), int(arguments[2]), arguments[3] == "growing"
    from pegloom.files.usd.reader import read_here

    try:
        size = checked_size(path)
        _confine(size, most)
        with allowed(path.name, size, most=most, growing=growing):
            imported = read_here(path)
        skin = None
        if imported.weights:
            influences = max(most_influences(w) for w in imported.weights.values())
            skin = Skin("from the file", influences, MappingProxyType(dict(imported.weights)))
        character = Character(
            "file", "file", parts=imported.parts, materials=imported.materials, images=imported.images,
            skeleton=imported.skeleton, skin=skin, clips=imported.clips, import_notes=imported.notes,
        )  # fmt: skip
        try:
            save_project(answer, Document((character,)), pack=False)
        except MeshFileError as error:
            _tell(f"cannot be handed over: {error.what}", hint="make room in the folder for temporary files")
            return 1
    except MemoryError:
        _tell("needs more memory than its size calls for", hint="reduce it, or convert it to GLB where it came from")
        return 1
    except MeshFileError as error:
        _tell(error.what, error.where, error.hint, large=isinstance(error, TooLargeError))
        return 1
    except PegLoomError as error:
        _tell(str(error))
        return 1
    except Exception as error:
        _tell(f"is damaged ({type(error).__name__})", hint="export it again")
        return 1
    return 0


def _tell(what: str, where: str = "", hint: str = "", *, large: bool = False) -> None:
    print(json.dumps({"what": what, "where": where, "hint": hint, "large": large}))


def _confine(size: int, most: int) -> None:
    """No more memory and time than a file of this size calls for, or than the user said it may unpack to calls for; no
    core dump; gone when the program is gone."""
    from pxr import Sdf, Usd, UsdGeom, UsdShade, UsdSkel, UsdUtils  # noqa: F401 - loaded before memory is limited

    pages = int(Path("/proc/self/statm").read_text().split()[0])
    now = pages * os.sysconf("SC_PAGE_SIZE")
    for what, limit in (
        (resource.RLIMIT_AS, now + max(MEMORY + MEMORY_TIMES * size, 2 * most)),
        (resource.RLIMIT_CPU, SECONDS + SECONDS_A_MB * (max(size, most // 20) >> 20)),
        (resource.RLIMIT_CORE, 0),
    ):
        with contextlib.suppress(ValueError, OSError):
            # Past the first limit of time the process is told, past the second it is ended.
            resource.setrlimit(what, (limit, limit + 5 if what == resource.RLIMIT_CPU else limit))
    with contextlib.suppress(OSError, AttributeError):
        import ctypes

        ctypes.CDLL(None).prctl(1, signal.SIGKILL)  # PR_SET_PDEATHSIG
