#!/usr/bin/env python3
"""Strips of some clips into a folder: PYTHONPATH=src:. python tools/acting/look.py FOLDER NAME..."""

from __future__ import annotations

import sys
from pathlib import Path

from tools.acting import everything
from tools.acting.body import body
from tools.acting.strip import draw

if __name__ == "__main__":
    everything()
    from tools.acting.made import MADE

    for name in sys.argv[2:]:
        one = MADE[name]
        draw(body(one.who).character, one.make(), Path(sys.argv[1]) / f"{name}.png", frames=8, tall=170, follow=True)
