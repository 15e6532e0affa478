"""Drags of the view: the base of those that preview a document, and those several areas use."""

from pegloom.app.stage.drags.base import DocumentDrag
from pegloom.app.stage.drags.box import BoxDrag
from pegloom.app.stage.drags.handle import HandleTool, handle_for
from pegloom.app.stage.drags.pick import PickTool
from pegloom.app.stage.drags.point import PlaceDrag, Placing, PointDrag

__all__ = ["BoxDrag", "DocumentDrag", "HandleTool", "PickTool", "PlaceDrag", "Placing", "PointDrag", "handle_for"]
