"""Details: everything a target says, to be changed for one export or kept as a target of one's own."""

from __future__ import annotations

from pegloom.app.areas.handover.settings import ExportSettings, FileKind
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import choice, tick, whole
from pegloom.core.skeleton.names import SideStyle
from pegloom.document.delivery import Meshes, Morphs, PictureKind
from pegloom.document.delivery.target import Clips

UNITS = (("metres", 1.0), ("centimetres", 0.01), ("millimetres", 0.001), ("inches", 0.0254), ("feet", 0.3048))
RATES = (("as needed", 0.0), *((f"{r} a second", float(r)) for r in (24, 25, 30, 48, 50, 60, 120)))
SIZES = (("any size", 0), *((f"{s} pixels", s) for s in (256, 512, 1024, 2048, 4096)))
MESHES = (FileKind.OBJ, FileKind.PLY, FileKind.STL)
GLTFS = (FileKind.GLB, FileKind.GLTF)


class DetailsCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(c, "Details", "handover.details", sentence="What the target says; change it for this export, or keep it as a target of your own.", is_open=False)
        self.unit = choice(self, ExportSettings, "unit", UNITS, name="handover.unit")
        self.field("Unit", self.unit)
        self.up = choice(self, ExportSettings, "up", [("+y", "+y"), ("+z", "+z")], name="handover.up")
        self.facing = choice(self, ExportSettings, "facing", [(a, a) for a in ("+z", "-z", "+x", "-x", "+y", "-y")], name="handover.facing")
        self.field("Up", self.up)
        self.field("Facing", self.facing)
        self.field("Joint names", choice(self, ExportSettings, "names", [("as they are", None), *((f"like {s.value}", s) for s in SideStyle)], name="handover.names"))
        self.body.addWidget(label("Without", "soft"))
        self.groups = [tick(self, ExportSettings, key, word, name=f"handover.{key}") for key, word in (("ends", "end markers"), ("helpers", "helpers"), ("twist", "twist joints"), ("face", "face joints"))]
        self.row(*self.groups[:2])
        self.row(*self.groups[2:])
        self.influences = whole(self, ExportSettings, "influences", 0, 16, name="handover.influences", suffix=" a vertex", special="any number")
        self.field("Influences", self.influences)
        self.rate = choice(self, ExportSettings, "rate", RATES, name="handover.rate")
        self.field("Frames", self.rate)
        self.clips = choice(self, ExportSettings, "clips", [(some.value, some) for some in Clips], name="handover.clips")
        self.field("Clips", self.clips)
        self.meshes = choice(self, ExportSettings, "meshes", [(some.value, some) for some in Meshes], name="handover.meshes")
        self.field("Meshes", self.meshes)
        self.morphs = choice(self, ExportSettings, "morphs", [(some.value, some) for some in Morphs], name="handover.morphs")
        self.field("Morphs", self.morphs)
        self.pictures = choice(self, ExportSettings, "pictures", [(some.value, some) for some in PictureKind], name="handover.pictures")
        self.picture_size = choice(self, ExportSettings, "picture_size", SIZES, name="handover.picture_size")
        self.field("Pictures", self.pictures)
        self.field("At most", self.picture_size)
        self.body.addWidget(tick(self, ExportSettings, "materials", "Materials go along", name="handover.materials", tip="Without, their names alone do"))
        self.body.addWidget(tick(self, ExportSettings, "covered", "Skin under clothes stays", name="handover.covered", tip="Without, faces that other parts cover are left out, but for the rim"))
        self.body.addWidget(tick(self, ExportSettings, "doubled", "Double surfaces stay so", name="handover.doubled", tip="Without, the second side goes and the material is seen from both"))
        self.bake = tick(self, ExportSettings, "bake", "Bake relax, dual quaternions", name="handover.bake", tip="Into plain weights, as near as they can come; without, they are left out and listed")
        self.body.addWidget(self.bake)
        tip = "Geometry and skeleton apart under it; without, each mesh is a root of its own, which the standard's validator prefers"
        self.one_top = tick(self, ExportSettings, "one_top", "One node over all", name="handover.one_top", tip=tip)
        self.body.addWidget(self.one_top)
        self.body.addWidget(action_button(c.actions.qactions["handover.keep"]))

    def key(self, state: State) -> tuple[object, ...]:
        return (state.settings.of(ExportSettings).kind,)

    def show_state(self, state: State) -> None:
        kind = state.settings.of(ExportSettings).kind
        mesh, gltf, bvh = kind in MESHES, kind in GLTFS, kind is FileKind.BVH
        self.unit.setEnabled(not gltf)
        self.up.setEnabled(not gltf)
        self.one_top.setEnabled(gltf)
        for box in (*self.groups, self.influences):
            box.setEnabled(not mesh)
        for box in (self.meshes, self.morphs, self.pictures, self.picture_size):
            box.setEnabled(not bvh)
        self.clips.setEnabled(not mesh and not bvh)
        self.note.setText(state.settings.of(ExportSettings).target)
