"""What a part is."""

from __future__ import annotations

from pegloom.app.panels.tags.form import Form
from pegloom.app.state.state import State
from pegloom.core.said import counted


class PartForm(Form):
    @staticmethod
    def there(state: State, subject: str) -> bool:
        return state.character is not None and any(part.id == subject for part in state.character.parts)

    def build(self) -> None:
        for key, text in (("size", "Size"), ("what", "Kind"), ("bound", "Bound")):
            self.tag.text(key, text)

    def show(self) -> None:
        character = self.c.character
        part = character.part(self.subject)
        self.tag.name.setText(part.name)
        self.tag.texts["size"].setText(counted(part.mesh.vertex_count, "vertex", "vertices"))
        self.tag.texts["what"].setText(part.kind.value if part.included else "left out")
        bound = character.skin is not None and part.id in character.skin.weights
        self.tag.texts["bound"].setText("yes" if bound else "not yet")
