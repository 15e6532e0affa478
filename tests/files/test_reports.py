"""Reports: of errors nobody foresaw, of crashes in native code; few, and told once."""

import subprocess
import sys

import pytest

from pegloom.files.reports import MOST, crashes, unforeseen, write_report


@pytest.fixture(autouse=True)
def own_folder(monkeypatch, tmp_path):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))


CRASHING = """
import ctypes
from pegloom.files.reports import CrashReport
crash = CrashReport()
print(crash.path, flush=True)
{end}
"""


def run(end):
    done = subprocess.run([sys.executable, "-c", CRASHING.format(end=end)], capture_output=True, text=True)
    return done.returncode, done.stdout.strip()


def test_a_crash_in_native_code_leaves_a_report_and_the_next_start_says_where():
    code, path = run("ctypes.string_at(0)")
    assert code < 0
    (report,) = crashes()
    assert "Fatal Python error: Segmentation fault" in report.read_text()
    assert str(report) != path
    assert crashes() == [], "told once"
    assert report.exists()


@pytest.mark.parametrize("end", ["crash.end()", "import os, signal; os.kill(os.getpid(), signal.SIGKILL)"])
def test_an_end_that_is_no_crash_leaves_none(end):
    run(end)
    assert crashes() == []


def test_a_living_program_is_no_crash(tmp_path):
    from pegloom.files.reports import CrashReport

    mine = CrashReport()
    try:
        assert crashes() == []
    finally:
        mine.end()
    assert not mine.path.exists()


def test_only_the_latest_reports_are_kept():
    for k in range(MOST + 5):
        (path := write_report(ValueError(str(k)))).rename(path.with_name(f"old-{k:03d}.txt"))
    write_report(ValueError("last"))
    assert len(list(path.parent.glob("*.txt"))) == MOST


def test_the_line_says_what_and_where_even_where_no_report_can_be_written(monkeypatch):
    assert "(ValueError: x y); a report is in" in unforeseen(ValueError("x\ny"))
    monkeypatch.setenv("XDG_DATA_HOME", "/dev/null")
    assert unforeseen(ValueError("x")).endswith("no report could be written")
