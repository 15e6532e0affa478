"""The stage: the 3D view and what lies over it."""

from pegloom.app.stage.stage import Stage

__all__ = ["Stage"]
