"""Every writer: whole or not at all, what was there stays, no litter, symlinks and modes kept, one line of why."""

import os
import stat
import subprocess
import sys
import time
from pathlib import Path

import pytest

from pegloom.core.errors import MeshFileError
from pegloom.files import outgoing as outgoing_module
from pegloom.files.opening import open_any
from pegloom.files.outgoing import outgoing, write_bytes
from pegloom.files.scratch import scratch
from pegloom.files.writing import WRITABLE, write_any
from tests.support.figures import rigged_capsules

ENDINGS = WRITABLE


@pytest.mark.parametrize("ending", ENDINGS)
def test_a_full_disk_is_one_line_and_leaves_the_old_file(tmp_path, ending, monkeypatch):
    path = tmp_path / f"out{ending}"
    path.write_bytes(b"what was there")

    def full(_):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(MeshFileError, match=r"out.*No space left on device") as told:
        write_any(path, rigged_capsules())
    assert "\n" not in str(told.value)
    assert path.read_bytes() == b"what was there"
    assert [p.name for p in tmp_path.iterdir()] == [path.name]


@pytest.mark.parametrize("ending", ENDINGS)
def test_a_device_that_takes_nothing_is_said_and_stays_a_device(ending, tmp_path):
    link = tmp_path / f"out{ending}"
    link.symlink_to("/dev/full")
    with pytest.raises(MeshFileError, match="No space left"):
        write_any(link, rigged_capsules())
    assert stat.S_ISCHR(Path("/dev/full").stat().st_mode)


@pytest.mark.parametrize("ending", ENDINGS)
def test_a_folder_as_target_is_one_line(tmp_path, ending):
    (tmp_path / f"out{ending}").mkdir()
    with pytest.raises(MeshFileError, match=r"out.*this is a folder"):
        write_any(tmp_path / f"out{ending}", rigged_capsules())
    assert not list((tmp_path / f"out{ending}").iterdir())
    with pytest.raises(MeshFileError, match="folder is not there"):
        write_any(tmp_path / "none" / f"out{ending}", rigged_capsules())


@pytest.mark.parametrize("ending", ENDINGS)
def test_a_symlink_is_written_through_and_a_mode_stays(tmp_path, ending):
    real = tmp_path / "elsewhere" / f"real{ending}"
    real.parent.mkdir()
    real.write_bytes(b"old")
    real.chmod(0o640)
    link = tmp_path / f"link{ending}"
    link.symlink_to(real)
    write_any(link, rigged_capsules())
    assert link.is_symlink()
    assert stat.S_IMODE(real.stat().st_mode) == 0o640
    assert open_any(real).character.parts
    assert not list(real.parent.glob(".*"))


def test_a_new_file_has_the_mode_any_program_would_give_it(tmp_path):
    old = os.umask(0o027)
    try:
        write_bytes(tmp_path / "a.bin", b"x")
    finally:
        os.umask(old)
    assert stat.S_IMODE((tmp_path / "a.bin").stat().st_mode) == 0o640


def test_without_files_that_have_no_name_it_works_with_hidden_ones(tmp_path, monkeypatch):
    monkeypatch.setattr(outgoing_module.os, "O_TMPFILE", 0)
    (tmp_path / "a.bin").write_bytes(b"old")
    with pytest.raises(ZeroDivisionError), outgoing() as out:
        out.put(tmp_path / "a.bin", b"half")
        assert list(tmp_path.glob(".a.bin.*.part"))
        raise ZeroDivisionError
    assert [p.name for p in tmp_path.iterdir()] == ["a.bin"]
    assert (tmp_path / "a.bin").read_bytes() == b"old"
    write_bytes(tmp_path / "a.bin", b"new")
    assert (tmp_path / "a.bin").read_bytes() == b"new"
    assert [p.name for p in tmp_path.iterdir()] == ["a.bin"]


def test_what_a_killed_program_left_is_taken_away_by_the_next_write_and_nothing_else_is(tmp_path):
    gone = subprocess.Popen([sys.executable, "-c", ""])
    gone.wait()
    old = time.time() - 3600
    names = {f".a.bin.{gone.pid}.1.part": False, f".a.bin.{os.getpid()}.1.part": True, ".a.bin.x.1.part": True,
             f".b.bin.{gone.pid}.1.part": True, f".a.bin.{gone.pid}.part": True}  # fmt: skip
    for name in names:
        (tmp_path / name).write_bytes(b"half")
        os.utime(tmp_path / name, (old, old))
    write_bytes(tmp_path / "a.bin", b"new")
    for name, stays in names.items():
        assert (tmp_path / name).exists() is stays, name


def test_files_that_belong_together_come_together(tmp_path):
    (tmp_path / "b.bin").mkdir()
    with pytest.raises(MeshFileError, match=r"b\.bin.*folder"), outgoing() as out:
        out.put(tmp_path / "a.bin", b"first")
        out.put(tmp_path / "b.bin", b"second")
    assert not (tmp_path / "a.bin").exists()


def test_scratch_folders_of_programs_that_are_gone_are_taken_away(tmp_path, monkeypatch):
    monkeypatch.setattr("tempfile.tempdir", str(tmp_path))
    gone = subprocess.Popen([sys.executable, "-c", ""])
    gone.wait()
    for name in (f"pegloom-{gone.pid}-x", f"pegloom-{os.getpid()}-x", "pegloom-notes", "other"):
        (tmp_path / name).mkdir()
    with scratch() as folder:
        assert folder.parent == tmp_path
    assert sorted(p.name for p in tmp_path.iterdir()) == sorted([f"pegloom-{os.getpid()}-x", "pegloom-notes", "other"])


KILLED = """
import sys
from pathlib import Path
from pegloom.files.writing import write_any
from tests.support.figures import wick
document = wick()
print("ready", flush=True)
while True:
    write_any(Path(sys.argv[1]), document)
"""


@pytest.mark.each(2)
@pytest.mark.parametrize("ending", [".usda", ".usdc", ".obj", ".glb"])
def test_a_killed_export_leaves_a_whole_file(tmp_path, ending):
    path = tmp_path / f"out{ending}"
    write_any(path, rigged_capsules())
    for pause in (0.05, 0.4, 0.7):
        process = subprocess.Popen([sys.executable, "-c", KILLED, str(path)], stdout=subprocess.PIPE, cwd=Path(__file__).parents[2])
        process.stdout.readline()
        time.sleep(pause)
        process.kill()
        process.wait()
        process.stdout.close()
        assert open_any(path).character.parts
        # A finished file has a hidden name for the moment between getting one and taking the old one's place. Killed right
        # then, the program leaves it; it is whole, and the next write takes it away.
        left = [p for p in tmp_path.iterdir() if p.name.startswith(".")]
        assert len(left) <= 1
        for hidden in left:
            hidden.rename(tmp_path / f"left{ending}")
            assert open_any(tmp_path / f"left{ending}").character.parts
