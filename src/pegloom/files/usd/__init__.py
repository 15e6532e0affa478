"""USD, through usd-core. `read_usd` reads in a process of its own, `write_usd` writes.

layers.py    which other files a stage may compose: none outside the file's folder or package
reader.py    what a stage holds; runs in the helper process
helper.py    that process
writer.py    a character as a stage
"""

from pegloom.files.usd.helper import SUFFIXES, read_usd
from pegloom.files.usd.writer import write_usd, write_usd_together

__all__ = ["SUFFIXES", "read_usd", "write_usd", "write_usd_together"]
