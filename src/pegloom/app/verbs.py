"""The actions of the window: what each does, what it needs, its key."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from pegloom.app.actions import Action
from pegloom.app.jobs import Job
from pegloom.app.session import Area, Tool
from pegloom.core.errors import PegLoomError
from pegloom.core.jobs import Progress
from pegloom.document import edits
from pegloom.files.gltf_write import write_glb
from pegloom.files.project import SUFFIX
from pegloom.files.proof import prove_glb
from pegloom.scene.lenses import Lens

if TYPE_CHECKING:
    from pegloom.app.window import Window

DEMO = Path(__file__).parents[1] / "assets" / "demo"
DEMOS = {
    "wick": "Wick, the ferry postman",
    "oilskin": "Wick in his oilskin",
    "lesson": "A bad shoulder to mend",
    "dumble": "Dumble, the pack tapir",
    "harl": "Harl, the heron",
    "winch": "The bell winch",
    "lantern": "The moth lantern",
}


class Verbs:
    """Holds the methods behind the actions."""

    def __init__(self, window: Window) -> None:
        self.window, self.session = window, window.session

    # What is missing

    def need_character(self) -> str:
        return "" if self.session.character else "Open a mesh first (Ctrl+O)"

    def need_pegs(self) -> str:
        return self.need_character() or ("" if self.session.character.pegs else "Find pegs first, in Joints")

    def need_joints(self) -> str:
        return self.need_character() or ("" if self.session.character.skeleton else "Build joints first, in Joints")

    def need_skin(self) -> str:
        return self.need_joints() or ("" if self.session.character.skin else "Bind first, in Weights")

    def need_rig(self) -> str:
        return self.need_joints() or ("" if self.session.character.rig else "Build controls first, in Controls")

    def need_control(self) -> str:
        picked = self.session.selection.kind == "control"
        return self.need_rig() or ("" if picked else "Pick a control first: click one in the view")

    # File

    def open(self, *, choose: bool = False) -> None:
        path = self.window.ask.open_file()
        if path:
            self.window.open_path(Path(path), choose=choose)

    def save(self) -> None:
        if self.session.path is None:
            self.save_as()
        else:
            self._save(self.session.path)

    def _save(self, path: Path) -> None:
        if self.session.save(path):
            self.window.autosave.clear()

    def save_as(self) -> None:
        path = self.window.ask.save_file("Save the project", f"{self.session.character.name}{SUFFIX}", f"*{SUFFIX}")
        if path:
            chosen = Path(path)
            self._save(chosen if chosen.suffix == SUFFIX else chosen.with_suffix(SUFFIX))

    def export(self) -> None:
        path = self.window.ask.save_file("Export GLB", f"{self.session.character.name}.glb", "*.glb")
        if not path:
            return
        chosen = Path(path) if path.endswith(".glb") else Path(path + ".glb")
        document, bench = self.session.document, self.window.benches[Area.HANDOVER]
        names, rest = bench.names.currentData(), bench.rest.currentData()

        def work(progress: Progress) -> list[str]:
            handed = edits.delivered(document, rest).require_character()
            return write_glb(chosen, handed, names=names, progress=progress)

        def done(notes: object) -> None:
            self.session.say("; ".join([f"Exported {chosen.name}", *notes]))  # type: ignore[misc]

        self.session.jobs.start(Job(f"Exporting {chosen.name}", work, done))

    def prove(self) -> None:
        document, character = self.session.document, self.session.character
        rest = self.window.benches[Area.HANDOVER].rest.currentData()

        def work(progress: Progress) -> object:
            handed = edits.delivered(document, rest).require_character()
            return prove_glb(character, delivered=handed, progress=progress)

        def done(result: object) -> None:
            shown = f"Largest difference {1000 * result.worst:.3f} mm ({100 * result.worst / character.height:.4f} % of the height)"
            where = f", at {result.where}." if result.where else "."
            text = f"{shown} over {result.samples} moments, between keys too{where}"
            self.window.benches[Area.HANDOVER].proof.setText(text)
            self.session.say(text)

        self.session.jobs.start(Job("Proving the export", work, done))

    def change(
        self,
        name: str,
        edit: Callable[[object], object],
        *,
        slow: bool,
        doing: str,
        done: Callable[[], None] | None = None,
    ) -> None:
        """An edit as one step, and then `done`: at once, or where it is `slow` as a job that tells what it is `doing`."""
        session, base = self.session, self.session.history.present
        if not slow:
            if session.try_edit(name, edit) and done is not None:
                done()
            return

        def work(progress: Progress) -> object:
            progress(0.2, doing)
            return edit(base)

        def landed(result: object) -> None:
            if result is not base and self.land(base, name, result) and done is not None:
                done()

        session.jobs.start(Job(name, work, landed))

    def land(self, base: object, name: str, result: object) -> bool:
        """A job's result becomes one step, or is offered when the document has moved on meanwhile."""
        if self.session.history.present is base or self.window.ask.confirm(
            f"{name} has finished, but the document was changed meanwhile. Put the result in all the same? "
            "What was done meanwhile is one undo away."
        ):
            self.session.commit(name, result)
            return True
        return False

    # Controls and keys

    def build_controls(self) -> None:
        if self.session.try_edit("Build controls", edits.build_controls):
            self.session.say("Controls built, nothing moved. Drag one; next: Motion (5)")

    def _pose_edit(self, name: str, edit: Callable[[object], object]) -> None:
        pose = self.session.character.pose
        self.session.try_edit(name, lambda d: edit(edits.set_pose(d, pose)))

    def rest(self) -> None:
        ids = self.session.selection.ids
        self._pose_edit("To rest", lambda d: edits.rest_controls(d, ids))

    def rest_all(self) -> None:
        self._pose_edit("All to rest", edits.rest_controls)

    def mirror_pose(self) -> None:
        self._pose_edit("Mirror the pose", edits.mirror_pose)

    def arms(self, blend: float) -> None:
        def edit(document: object) -> object:
            for limb in self.session.character.rig.limbs:
                if limb.id.startswith("arm."):
                    document = edits.switch_limb(document, limb.id, blend)
            return document

        self._pose_edit("Arms to IK" if blend else "Arms to FK", edit)

    def new_clip(self) -> None:
        made = ""

        def edit(document: object) -> object:
            nonlocal made
            document, made = edits.add_clip(document, f"clip {len(self.session.character.clips) + 1}")
            return document

        if self.session.try_edit("New clip", edit):
            self.session.play_source(made)

    def trial_clip(self) -> None:
        made = ""

        def edit(document: object) -> object:
            nonlocal made
            document, made = edits.add_trial_clip(document)
            return document

        if self.session.try_edit("Trial clip", edit):
            self.session.play_source(made)

    def write_keys(self, *, everything: bool = False) -> None:
        s = self.session
        pose, base = s.character.pose, s.history.present
        try:
            document = edits.set_pose(base, pose)
            if s.clip is None or s.clip.tracks:
                document, clip_id = edits.add_clip(document, f"clip {len(s.character.clips) + 1}")
            else:
                clip_id = s.clip.id
            ids = tuple(c.id for c in s.character.rig.controls) if everything else s.selection.ids
            at = s.snapped_time if s.clip is not None else 0.0
            document = edits.key_controls(document, clip_id, at, ids)
        except PegLoomError as error:
            s.say(str(error), error=True)
            return
        s.source = clip_id
        s.commit(f"Key {'all controls' if everything else ', '.join(ids[:2])} at {round(at * s.rate)}", document)
        s.say(f"Key written at frame {round(at * s.rate)}")
        s.view_changed.emit()

    def remove_keys(self) -> None:
        s = self.session
        clip = s.clip
        if clip is None:
            s.say("There is no clip in hand: pick one on the strip", error=True)
            return
        ids = frozenset(s.selection.ids) if s.selection.kind == "control" else None
        at = s.snapped_time
        s.try_edit(f"Remove keys at {round(at * s.rate)}", lambda d: edits.remove_keys(d, clip.id, at, ids))

    def step(self, frames: int) -> None:
        s = self.session
        s.go_to(round(s.time * s.rate + frames) / s.rate)

    def to_key(self, direction: int) -> None:
        s = self.session
        times = s.clip.key_times if s.clip else ()
        later = [t for t in times if (t - s.time) * direction > 1e-4]
        if later:
            s.go_to(min(later) if direction > 0 else max(later))

    # View

    def brush_step(self, factor: float) -> None:
        brush = self.session.brush
        self.session.set_view(brush=replace(brush, radius=float(np.clip(brush.radius * factor, 0.003, 0.5))))

    def pick_influence(self) -> None:
        joint = self.window.stage.influence_at_pointer()
        if joint:
            self.session.select("joint", joint)
            self.session.view_changed.emit()

    def toggle(self, name: str) -> None:
        self.session.set_view(**{name: not getattr(self.session, name)})

    def toggle_kind(self, kind: str) -> None:
        """Show and pick a kind of thing, or not."""
        hidden = self.session.hidden
        self.session.set_view(hidden=hidden - {kind} if kind in hidden else hidden | {kind})

    def toggle_see_through(self) -> None:
        from pegloom.render.renderer import Display

        on = self.session.display is Display.SEE_THROUGH
        self.session.set_view(display=Display.CLAY if on else Display.SEE_THROUGH)

    def hide(self) -> None:
        if self.session.selection.kind != "part":
            self.session.say("Pick a part first, in Mesh or in the parts drawer", error=True)
            return
        for part in self.session.selection.ids:
            self.session.try_edit("Leave out a part", lambda d, p=part: edits.include_part(d, p, False))

    def show_all_parts(self) -> None:
        def edit(document: object) -> object:
            for part in self.session.character.parts:
                document = edits.include_part(document, part.id, True)
            return document

        self.session.try_edit("Take all parts in", edit)

    def select_lens(self, lens: Lens) -> None:
        self.session.set_view(lens=lens)

    def declare(self) -> list[Action]:
        """The table of actions."""
        s, w = self.session, self.window
        a = Action
        table = [
            a("file.open", "Open a mesh or project", "File", self.open, "Open OBJ, glTF, GLB, PLY, STL, USD, ZIP or a project", "Ctrl+O"),
            a("file.open_choosing", "Open, choosing what comes in", "File", lambda: self.open(choose=True), "Parts, skeleton, weights, clips, morph targets, looks", "Ctrl+Alt+O"),
            a("file.save", "Save", "File", self.save, "Save the project", "Ctrl+S", self.need_character),
            a("file.save_as", "Save as", "File", self.save_as, "Save the project elsewhere", "Ctrl+Shift+S", self.need_character),
            a("file.export", "Export GLB", "File", self.export, "Character, weights, pictures and clips as GLB", "Ctrl+E", self.need_character),
            a("file.recover", "Unsaved work left behind", "File", lambda: w.offer_recovery(again=True), "What was not saved when the program was stopped"),
            a("handover.prove", "Measure the export", "File", self.prove, "Open the exported file again and measure it", "", self.need_skin),
            a("edit.undo", "Undo", "Edit", s.undo, "One step back", "Ctrl+Z"),
            a("edit.redo", "Redo", "Edit", s.redo, "One step forward", "Ctrl+Shift+Z"),
            a("edit.steps", "Steps", "Edit", w.show_steps, "All steps, to go to any of them", "Ctrl+H"),
            a("edit.palette", "Find an action", "Edit", w.palette_box.open, "Search all actions", "Ctrl+K"),
            a("edit.cancel", "Cancel", "Edit", w.escape, "Drop the drag, the brush, the selection", "Esc"),
            a("controls.build", "Build controls", "Controls", self.build_controls, "All controls from the limb kits", "", self.need_joints),
            a("controls.arms_ik", "Arms to IK", "Controls", lambda: self.arms(1.0), "Both arms to IK, matched", "", self.need_rig),
            a("controls.arms_fk", "Arms to FK", "Controls", lambda: self.arms(0.0), "Both arms to FK, matched", "", self.need_rig),
            a("pose.rest", "To rest", "Controls", self.rest, "Selected controls to zero", "R", self.need_control),
            a("pose.rest_all", "All to rest", "Controls", self.rest_all, "All controls to zero", "Shift+R", self.need_rig),
            a("pose.mirror", "Mirror the pose", "Controls", self.mirror_pose, "Left and right trade their pose", "", self.need_rig),
            a("motion.new_clip", "New clip", "Motion", self.new_clip, "An empty clip", "", self.need_rig),
            a("motion.trial_clip", "Trial clip", "Motion", self.trial_clip, "A short motion on IK and FK", "", self.need_rig),
            a("keys.write", "Write a key", "Motion", self.write_keys, "Key the selected controls", "W", self.need_control),
            a("keys.write_all", "Write all keys", "Motion", lambda: self.write_keys(everything=True), "Key every control", "Shift+W", self.need_rig),
            a("keys.remove", "Remove keys", "Motion", self.remove_keys, "Keys at this frame", "Shift+Del", self.need_rig),
            a("time.play", "Play or stop", "Motion", s.toggle_play, "Play the strip", "Space", self.need_joints),
            a("time.next", "Next frame", "Motion", lambda: self.step(1), "One frame on", "Right"),
            a("time.previous", "Previous frame", "Motion", lambda: self.step(-1), "One frame back", "Left"),
            a("time.next_key", "Next key", "Motion", lambda: self.to_key(1), "To the next key", "PgDown"),
            a("time.previous_key", "Previous key", "Motion", lambda: self.to_key(-1), "To the previous key", "PgUp"),
            a("view.centre", "Centre on the selection", "View", w.stage.show_selection, "Bring it into the middle", "C"),
            a("view.all", "Centre on all", "View", w.stage.show_all, "Everything in sight", "Shift+C"),
            a("view.perspective", "Perspective", "View", w.stage.toggle_perspective, "With or without perspective", "P"),
            a("view.see_through", "See-through", "View", self.toggle_see_through, "Look into the mesh", "L"),
            a("view.wire", "Wire over", "View", lambda: self.toggle("wire_over"), "Edges over the surface", "O"),
            a("view.clean", "Clean view", "View", lambda: self.toggle("clean_view"), "Only the character", "E"),
            a("view.theme", "Light or dark", "View", w.toggle_theme, "The linen and the ink theme"),
            a("tool.pick", "Pick", "Tools", lambda: s.set_view(tool=Tool.PICK), "Pick and drag", "V"),
            a("tool.move", "Move", "Tools", lambda: s.set_view(tool=Tool.MOVE), "Move handle", "M"),
            a("tool.turn", "Turn", "Tools", lambda: s.set_view(tool=Tool.TURN), "Turn handle", "T"),
            a("tool.grow", "Grow", "Tools", lambda: s.set_view(tool=Tool.GROW), "Grow handle", "G"),
            a("tool.brush", "Brush", "Tools", lambda: (w.go(Area.WEIGHTS), s.set_view(tool=Tool.BRUSH)), "Paint weights", "B", self.need_skin),
            a("tool.sides", "Both sides", "Tools", lambda: self.toggle("both_sides"), "Act on both sides at once", "U"),
            a("tool.influence", "Pick the influence under the pointer", "Tools", self.pick_influence, "Take the joint that moves it most", "I", self.need_skin),
            a("tool.bigger", "Bigger brush", "Tools", lambda: self.brush_step(1.15), "Brush size up", "+"),
            a("tool.smaller", "Smaller brush", "Tools", lambda: self.brush_step(1 / 1.15), "Brush size down", "-"),
            a("parts.hide", "Leave out the picked part", "Mesh", self.hide, "Out of the character, kept in the file", "N", self.need_character),
            a("parts.show", "Take all parts in", "Mesh", self.show_all_parts, "Nothing left out", "Shift+N", self.need_character),
            a("help.sheet", "Mouse and keys", "Help", w.show_sheet, "The whole table", "F1"),
        ]  # fmt: skip
        for name, title in DEMOS.items():
            table.append(
                a(f"file.demo_{name}", f"Open the demo: {title}", "File", lambda n=name: w.open_path(DEMO / f"{n}.pegloom"), "Started: joints, weights, controls, a clip")
            )  # fmt: skip
            if not (DEMO / f"{name}.obj").exists():
                continue
            table.append(
                a(f"file.mesh_{name}", f"Open the demo mesh: {title}", "File", lambda n=name: w.open_path(DEMO / f"{n}.obj"), "Unrigged, before anything is done")
            )  # fmt: skip
        for kind in ("joints", "pegs", "controls", "mesh", "ground"):
            table.append(
                a(
                    f"view.{kind}",
                    f"Show {kind}",
                    "View",
                    lambda k=kind: self.toggle_kind(k),
                    f"Show and pick {kind}, or not",
                )
            )
        for number, area in enumerate(Area, 1):
            table.append(
                a(
                    f"area.{area.name.lower()}",
                    area.value,
                    "Areas",
                    lambda x=area: w.go(x),
                    f"Work on {area.value.lower()}",
                    str(number),
                )
            )
        for axis in "xyz":
            table.append(
                a(
                    f"view.{axis}",
                    f"Look along {axis}",
                    "View",
                    lambda x=axis: w.stage.look_along(x),
                    "Again: from behind",
                    axis.upper(),
                )
            )
        for lens in Lens:
            table.append(
                a(
                    f"lens.{lens.name.lower()}",
                    f"Lens: {lens.value}",
                    "View",
                    lambda x=lens: self.select_lens(x),
                    "What the surface shows",
                    "",
                    self.need_skin,
                )
            )
        return table
