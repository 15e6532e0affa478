"""Characters made ready for a receiver: what a target asks for, and the plain character that comes of it."""

from pegloom.document.delivery.plain import Delivery, made_plain
from pegloom.document.delivery.target import Content, Meshes, Morphs, PictureKind, Target

__all__ = ["Content", "Delivery", "Meshes", "Morphs", "PictureKind", "Target", "made_plain"]
