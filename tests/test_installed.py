"""Installed like any other program: a wheel with all it needs inside, an entry among the desktop's programs, a manual."""

from __future__ import annotations

import subprocess
import sys
import zipfile
from pathlib import Path

import pytest
from typer.testing import CliRunner

from pegloom import __version__
from pegloom.cli import app
from pegloom.files import desktop

ROOT = Path(__file__).parents[1]


def run(*arguments):
    return CliRunner().invoke(app, [str(a) for a in arguments])


@pytest.fixture(scope="module")
def wheel(tmp_path_factory):
    """The wheel, built from a copy without anything that was made meanwhile."""
    out = tmp_path_factory.mktemp("wheel")
    copy = out / "copy"
    copy.mkdir()
    listed = subprocess.run(["git", "ls-files", "-co", "--exclude-standard"], cwd=ROOT, capture_output=True, text=True, check=True).stdout
    for name in listed.splitlines():
        if name.startswith(("src/", "pyproject.toml", "README.md", "LICENSE", "docs/licences.md")) and (ROOT / name).is_file():
            (copy / name).parent.mkdir(parents=True, exist_ok=True)
            (copy / name).write_bytes((ROOT / name).read_bytes())
    subprocess.run([sys.executable, "-m", "pip", "wheel", "-q", "--no-deps", "--no-build-isolation", "-w", str(out), str(copy)], capture_output=True, check=True)
    (made,) = out.glob("*.whl")
    return made


def test_the_wheel_holds_everything_that_is_needed_and_nothing_else(wheel):
    names = zipfile.ZipFile(wheel).namelist()
    for wanted in (
        "assets/fonts/Figtree-500.ttf", "assets/demo/wick.pegloom", "assets/targets/2_real-time.json", "assets/pages/delivery.html", "assets/desktop/pegloom.desktop",
        "assets/reader/rig_reader.py", "assets/patterns/human.json", "assets/shelf/cards.json",
    ):  # fmt: skip
        assert f"pegloom/{wanted}" in names, wanted
    assert any(n.startswith("pegloom/render/shaders/") for n in names)
    assert any(n.startswith("pegloom/assets/icons/") and n.endswith(".svg") for n in names)
    assert any(n.endswith("licenses/LICENSE") for n in names) and any(n.endswith("licences.md") for n in names)
    assert not [n for n in names if "tests/" in n or "__pycache__" in n]


def test_what_is_in_the_wheel_runs_by_itself(wheel, tmp_path):
    zipfile.ZipFile(wheel).extractall(tmp_path / "site")
    script = f"import sys; sys.path.insert(0, {str(tmp_path / 'site')!r}); import pegloom; assert pegloom.__file__.startswith({str(tmp_path)!r}); sys.argv = ['pegloom', *sys.argv[1:]]; from pegloom.cli import main; main()"
    for arguments, says in ((["--version"], __version__), (["targets"], "real-time"), (["patterns"], "human")):
        done = subprocess.run([sys.executable, "-c", script, *arguments], capture_output=True, text=True, check=True, cwd=tmp_path)
        assert says in done.stdout
    told = zipfile.ZipFile(wheel).read(next(n for n in zipfile.ZipFile(wheel).namelist() if n.endswith("entry_points.txt"))).decode()
    assert "pegloom = pegloom.cli:main" in told


def test_the_entry_icon_kind_of_file_and_manual_come_and_go(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    assert run("desktop").exit_code == 0
    entry = (tmp_path / "applications" / "pegloom.desktop").read_text()
    assert "Exec=" in entry and "%f" in entry and "application/x-pegloom" in entry
    assert "*.pegloom" in (tmp_path / "mime" / "packages" / "pegloom-mime.xml").read_text()
    for place in desktop.PLACES.values():
        assert (tmp_path / place).is_file()
    assert run("desktop", "--remove").exit_code == 0
    assert not any((tmp_path / place).exists() for place in desktop.PLACES.values())
    assert run("desktop", "--remove").exit_code == 0


def test_a_program_with_a_strange_path_is_quoted_in_its_entry(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    desktop.install('/opt/my "tools"/pegloom')
    assert 'Exec="/opt/my \\"tools\\"/pegloom" open %f' in (tmp_path / "applications" / "pegloom.desktop").read_text()


def test_a_data_folder_that_is_no_whole_path_is_passed_by(monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", "here")
    assert desktop.data_home() == Path.home() / ".local" / "share"


def test_the_manual_names_every_command():
    import typer

    text = (ROOT / "src" / "pegloom" / "assets" / "desktop" / "pegloom.1").read_text()
    group = typer.main.get_command(app)
    for name, command in group.commands.items():
        for told in [f"{name} {sub}" for sub in getattr(command, "commands", {})] or [name]:
            assert f".SS {told}".replace("-", "\\-") in text, f"tools/man_page.py makes it anew for {told}"


def test_the_version_and_completion_are_there():
    assert run("--version").stdout.strip() == f"pegloom {__version__}"
    assert "--install-completion" in run("--help").stdout
