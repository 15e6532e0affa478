"""Tags by the kind of what they tell of, one module a kind."""

from pegloom.app.panels.tags.control import ControlForm
from pegloom.app.panels.tags.form import Form
from pegloom.app.panels.tags.joint import JointForm
from pegloom.app.panels.tags.part import PartForm
from pegloom.app.panels.tags.peg import PegForm

TAGS: dict[str, type[Form]] = {"control": ControlForm, "peg": PegForm, "joint": JointForm, "part": PartForm}

__all__ = ["TAGS"]
