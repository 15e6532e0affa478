"""The page on Python: its examples are run as they stand, one after the other."""

from __future__ import annotations

import re
from pathlib import Path

ROOT = Path(__file__).parents[2]


def test_the_examples_run(monkeypatch, tmp_path):
    (tmp_path / "src").symlink_to(ROOT / "src")
    monkeypatch.chdir(tmp_path)
    blocks = re.findall(r"```python\n(.*?)```", (ROOT / "docs" / "python.md").read_text(), re.DOTALL)
    assert len(blocks) >= 5
    space: dict[str, object] = {}
    for block in blocks:
        exec(block, space)
    assert (tmp_path / "wick_again.pegloom").is_file()
