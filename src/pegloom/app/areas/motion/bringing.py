"""Motion of the clip on the strip brought from joints onto controls, and baked back."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum
from pathlib import Path
from typing import Any

from pegloom.app.actions.action import Action, Need
from pegloom.app.actions.needs import CLIP, WITH_RIG
from pegloom.app.context import Context
from pegloom.app.state.settings import Setting
from pegloom.app.state.state import LayerSettings
from pegloom.core.errors import MeshFileError
from pegloom.core.jobs import Progress
from pegloom.core.motion.onto_controls import Brought
from pegloom.core.rig.controls import ControlRig
from pegloom.document import edits
from pegloom.document.model import Document
from pegloom.files.motion import read_motion
from pegloom.scene.rig_drawing import limb_words


class Limbs(Enum):
    """Which side of each limb leads once motion is on controls."""

    BUILT = "as they rest"
    IK = "all on IK"
    FK = "all on FK"
    FEET = "legs on IK, arms on FK"


@dataclass(frozen=True, slots=True)
class BringSettings(Setting):
    """limbs : which lead by their goals."""

    ID = "bring"

    limbs: Limbs = Limbs.BUILT


def led(rig: ControlRig, limbs: Limbs) -> tuple[str, ...] | None:
    """Ids of the limbs that go on IK; None: as the rig rests."""
    if limbs is Limbs.BUILT:
        return None
    every = [limb for limb in rig.limbs if limbs is not Limbs.FK]
    return tuple(limb.id for limb in every if limbs is Limbs.IK or not limb.id.startswith(("arm", "wing")))


def to_controls(c: Context) -> None:
    clip, rig = c.state.clip, c.character.require_rig()
    assert clip is not None
    on_ik = led(rig, c.state.settings.of(BringSettings).limbs)

    def edit(document: Document, progress: Progress) -> tuple[Document, Brought]:
        return edits.to_controls(document, clip.id, on_ik=on_ik, progress=progress)

    c.job(f"{clip.name} onto the controls", edit, title=f"Bringing {clip.name} onto the controls", then=lambda told: c.say(words(rig, told)))


def words(rig: ControlRig, told: Brought) -> str:
    """How near it came."""
    said = f"On the controls: {told}"
    names = [limb_words(s) for s in rig.solvers if s.id in told.on_fk]
    if names:
        said += f"; {', '.join(names)} went on FK, since IK cannot show it"
    if told.morphs:
        said += f"; no channel moves {', '.join(told.morphs[:4])} alone, so that stays sampled and waits"
    return said


def to_joints(c: Context) -> None:
    clip = c.state.clip
    assert clip is not None

    def edit(document: Document, progress: Progress) -> Document:
        progress(0.1, "playing every frame")
        return edits.to_joints(document, clip.id)

    def then(_: Any) -> None:
        c.say(f"{clip.name} is on the joints, as a target plays it; one undo brings its keys back")

    c.job(f"Bake {clip.name} to joints", edit, title=f"Baking {clip.name}", then=then)


def come_back(c: Context) -> None:
    """Motion of the clip on the strip that was edited elsewhere: a layer that turns the clip into it."""
    clip, skeleton = c.state.clip, c.skeleton
    assert clip is not None
    path = c.ask.open_motion()
    if not path:
        return

    def edit(document: Document, progress: Progress) -> tuple[Document, tuple[str, Brought, tuple[str, ...]]]:
        progress(0.05, f"reading {Path(path).name}")
        clips, notes = read_motion(Path(path), skeleton)
        if not clips:
            raise MeshFileError(Path(path).name, "holds no motion of these joints", hint="choose a file with a clip")
        # Of several the one of this name.
        returned = next((one for one in clips if one.name == clip.name), clips[0])
        document, layer, told = edits.come_back(document, clip.id, returned, name=f"from {Path(path).stem}"[:60], progress=progress)
        return document, (layer, told, notes)

    def then(made: tuple[str, Brought, tuple[str, ...]]) -> None:
        layer, told, notes = made
        c.store.put_setting(LayerSettings, layer=layer)
        c.say("; ".join([f"What was changed elsewhere is a layer over {clip.name}: {told}", *notes]))

    c.job(f"{clip.name} came back", edit, title=f"Bringing {clip.name} back", then=then)


SAMPLED = Need("sampled motion", "This clip is on controls already", lambda s: s.clip is not None and bool(s.clip.tracks))
KEYED = Need("keys", "This clip is on joints already, or holds no motion", lambda s: s.clip is not None and not s.clip.tracks and bool(s.clip.every_curve))

ACTIONS = (
    Action("motion.to_controls", "Bring onto the controls", "Motion", "Sampled motion of joints becomes keys one can change", to_controls, needs=(*WITH_RIG, CLIP, SAMPLED)),
    Action("motion.come_back", "Bring back edited motion", "Motion", "Of this clip, changed elsewhere, by joints' names: the change becomes a layer", come_back, needs=(*WITH_RIG, CLIP)),
    Action("motion.to_joints", "Bake to joints", "Motion", "Keys, layers, springs become sampled motion of every joint", to_joints, needs=(*WITH_RIG, CLIP, KEYED)),
)  # fmt: skip
