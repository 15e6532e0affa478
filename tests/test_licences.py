"""The project has its licence, and so has every file that is shipped."""

import fnmatch
import re
import tomllib
from pathlib import Path

ROOT = Path(__file__).parents[1]


def test_the_project_is_under_the_gpl():
    assert "GNU GENERAL PUBLIC LICENSE" in (ROOT / "LICENSE").read_text()[:200]
    told = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]["license"]
    assert told == "GPL-3.0-or-later"
    assert "GPL-3.0-or-later" in (ROOT / "docs" / "licences.md").read_text()


def test_every_shipped_file_has_a_licence_whose_text_lies_beside_it():
    rows = [line for line in (ROOT / "docs" / "licences.md").read_text().splitlines() if line.startswith("| ")]
    assets = ROOT / "src" / "pegloom" / "assets"
    told = {}
    for row in rows:
        _, _, where, licence, _ = row.split("|")
        folder = ""
        for pattern in re.findall(r"`([^`]+)`", where):
            folder = str(Path(pattern).parent) if "/" in pattern else folder
            told[f"{folder}/{Path(pattern).name}"] = re.findall(r"`([\w.-]+\.txt)`", licence)
    shipped = [p for p in assets.rglob("*") if p.is_file() and p.suffix not in (".py", ".pyc", ".txt")]
    assert len(shipped) > 40
    for path in shipped:
        name = str(path.relative_to(ROOT))
        found = [texts for pattern, texts in told.items() if fnmatch.fnmatch(name, pattern)]
        assert found or "as above" in "".join(rows), name
        assert found, f"{name} has no licence in docs/licences.md"
        if found[0]:
            assert all((path.parent / text).is_file() for text in found[0]), name
