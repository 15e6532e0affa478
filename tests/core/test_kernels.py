"""A kernel is compiled anew when anything it calls changes, and only then."""

import subprocess
import sys
import threading

import numpy as np

from pegloom.core.kernels import PACKAGE, closure, stamp
from pegloom.core.motion.clips import values_at
from pegloom.core.rig.evaluate import joints_at, nodes_at
from tests.support.figures import wick


def test_what_a_kernel_draws_on_is_its_own_files_and_no_more():
    drawn = {p.relative_to(PACKAGE).as_posix() for p in closure(PACKAGE / "core/rig/match.py", PACKAGE)}
    assert {"core/rig/match.py", "core/rig/kernels/walk.py", "core/rig/kernels/limb.py"} <= drawn
    assert not [p for p in drawn if "skin" in p or "files" in p or "app" in p]
    alone = {p.relative_to(PACKAGE).as_posix() for p in closure(PACKAGE / "core/rig/kernels/joints.py", PACKAGE)}
    assert alone == {"core/rig/kernels/joints.py"}


CALLED = "from numba import njit\n\n@njit(cache=True)\ndef twice(x):\n    return {what}\n"
CALLER = "from numba import njit\nfrom woven.called import twice\n\n@njit(cache=True)\ndef run(x):\n    return twice(x) + 1.0\n"
MAIN = """
import os, sys
os.environ["NUMBA_CACHE_LOCATOR_CLASSES"] = "woven.locate.Own"
os.environ["NUMBA_CACHE_DIR"] = sys.argv[1]
from woven.caller import run
print(run(2.0), sum(run.stats.cache_hits.values()))
"""
LOCATE = """
from pathlib import Path
from pegloom.core import kernels
class Own(kernels.ClosureLocator):
    @classmethod
    def from_function(cls, py_func, py_file):
        return super(kernels.ClosureLocator, cls).from_function(py_func, py_file)
    def get_source_stamp(self):
        return kernels.stamp(Path(self._py_file).resolve(), Path(__file__).resolve().parent)
"""


def test_a_change_in_the_called_file_reaches_the_caller(tmp_path):
    package = tmp_path / "woven"
    package.mkdir()
    (package / "__init__.py").write_text("")
    (package / "locate.py").write_text(LOCATE)
    (package / "caller.py").write_text(CALLER)

    def ran(what):
        (package / "called.py").write_text(CALLED.format(what=what))
        # Bytecode is known by whole seconds and size, which two writings of a test may share: none is kept.
        done = subprocess.run([sys.executable, "-B", "-c", MAIN, str(tmp_path / "kept")], capture_output=True, text=True, cwd=tmp_path)
        assert done.returncode == 0, done.stderr
        return done.stdout.split()

    assert ran("2.0 * x") == ["5.0", "0"]
    assert ran("2.0 * x") == ["5.0", "1"], "nothing changed: taken from the cache"
    assert ran("3.0 * x") == ["7.0", "0"], "the caller stands in a file that did not change"


def test_the_stamp_follows_the_contents(tmp_path):
    package = tmp_path / "cloth"
    package.mkdir()
    (package / "a.py").write_text("from cloth.b import LIMIT\nfrom cloth.c import helper\n# njit\n")
    (package / "b.py").write_text("LIMIT = 3\n")
    (package / "c.py").write_text("def helper(): ...\n")
    first = stamp(package / "a.py", package)
    stamp.cache_clear()
    (package / "c.py").write_text("def helper(): return 1\n")
    assert stamp(package / "a.py", package) == first, "plain Python is no part of a kernel"
    stamp.cache_clear()
    (package / "b.py").write_text("LIMIT = 4\n")
    assert stamp(package / "a.py", package) != first
    stamp.cache_clear()


def test_one_plan_on_two_threads_gives_the_same_bits():
    character = wick().character
    times = np.linspace(0.0, character.clips[0].length, 400)
    rows = values_at(character.clips[0], times, character.rig, character.pose)
    alone = nodes_at(character.skeleton, character.rig, rows)
    got = {}

    def work(number):
        got[number] = [joints_at(character.skeleton, character.rig, rows[number::2]) for _ in range(5)]

    threads = [threading.Thread(target=work, args=(n,)) for n in range(2)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    for number in range(2):
        for made in got[number]:
            assert np.array_equal(made, alone[number::2, len(character.rig.controls) :])
