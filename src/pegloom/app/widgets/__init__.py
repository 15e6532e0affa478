"""Small pieces the panels are made of. The base of all panels is in `panel`, cards in `card`, bound fields in `fields`."""

from pegloom.app.widgets.buttons import action_button, button
from pegloom.app.widgets.choices import Choices
from pegloom.app.widgets.layouts import clear
from pegloom.app.widgets.sliders import SliderRow
from pegloom.app.widgets.texts import label, tip

__all__ = ["Choices", "SliderRow", "action_button", "button", "clear", "label", "tip"]
