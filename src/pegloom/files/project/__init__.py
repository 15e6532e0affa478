"""The project file, `.pegloom`: a ZIP of `document.json`, `arrays/*.npy` and `blobs/*`.

document.json holds {"format": "pegloom", "version": 2, "document": ...}; `records.py` tells how records stand in it.
Files of an older version are brought up to date as JSON, step by step (`upgrade.py`), before any record is made of
them. Every change of a record that old files would not survive is such a step, with a file kept in `tests/data`.
"""

from pegloom.files.project.reading import open_project
from pegloom.files.project.upgrade import VERSION
from pegloom.files.project.writing import SUFFIX, save_project

__all__ = ["SUFFIX", "VERSION", "open_project", "save_project"]
