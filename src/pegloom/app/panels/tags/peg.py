"""A peg's place."""

from __future__ import annotations

from pegloom.app.panels.tags.form import Form
from pegloom.app.state.state import State
from pegloom.core.skeleton.joints import other_side_name
from pegloom.document import edits


class PegForm(Form):
    @staticmethod
    def there(state: State, subject: str) -> bool:
        return state.character is not None and state.character.pegs is not None and subject in state.character.pegs.by_name

    def build(self) -> None:
        for axis in "xyz":
            self.tag.field(axis, f"{axis}, cm", self._commit)
        self.tag.text("sure", "Placed")
        self.tag.text("other", "Other side")

    def show(self) -> None:
        peg = self.c.character.require_pegs().by_name[self.subject]
        self.tag.name.setText(peg.name.replace("_", " "))
        for axis, value in zip("xyz", peg.position, strict=True):
            self.tag.put(axis, value * 100)
        weak = "weak guess" if peg.weak else f"found, {peg.confidence:.0%} sure"
        self.tag.texts["sure"].setText("by hand" if peg.by_hand else weak)
        other = other_side_name(peg.name)
        self.tag.texts["other"].setText(other.replace("_", " ") if other else "on the middle")

    def _commit(self, axis: str, shown: float) -> None:
        lead, both = self.subject, self.c.state.hand.both_sides
        place = list(self.c.character.require_pegs().by_name[lead].position)
        place["xyz".index(axis)] = shown / 100
        x, y, z = place
        self.c.try_edit(f"Place {lead}", lambda d: edits.place_peg(d, lead, (x, y, z), both_sides=both))
