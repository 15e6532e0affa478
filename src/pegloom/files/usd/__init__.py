"""USD, through usd-core. `read_usd` reads in a process of its own, `write_usd` writes.

layers.py        which other files a stage may compose: none outside the file's folder or package
reader.py        what a stage holds; runs in the helper process
helper.py        that process
looks.py         materials, both ways
writer.py        a character as a stage
motion_write.py  its motion
"""

from pegloom.files.usd.helper import SUFFIXES, read_usd
from pegloom.files.usd.writer import Axes, write_usd, write_usd_together

__all__ = ["SUFFIXES", "Axes", "read_usd", "write_usd", "write_usd_together"]
