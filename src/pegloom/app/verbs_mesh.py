"""The actions of the Mesh area."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from pegloom.app.actions import Action
from pegloom.app.jobs import Job
from pegloom.app.session import Area
from pegloom.core.errors import PegLoomError
from pegloom.core.geometry.mesh import place_edges, weld
from pegloom.core.geometry.transforms import transform_points
from pegloom.core.jobs import Progress
from pegloom.core.skeleton.axes import aim_of
from pegloom.document import edits
from pegloom.document.model import Character, Document, Part
from pegloom.files.images import read_picture
from pegloom.files.opening import open_any
from pegloom.files.reading import read_mesh

if TYPE_CHECKING:
    from pegloom.app.window import Window

GHOST_EDGES = 6000
LARGE = 6000
"""Vertices from which on changes of meshes run as a job."""


class MeshVerbs:
    """Holds the methods behind the Mesh area's actions."""

    def __init__(self, window: Window) -> None:
        self.window, self.session = window, window.session

    def need_character(self) -> str:
        return "" if self.session.character else "Open a mesh first (Ctrl+O)"

    def need_part(self) -> str:
        picked = self.session.selection.kind == "part"
        return self.need_character() or (
            "" if picked else "Pick a part first: click it in the view or the parts drawer"
        )

    def need_skeleton_place(self) -> str:
        picked = self.session.selection.kind in ("peg", "joint")
        return self.need_character() or (
            "" if picked else "Pick a peg or a joint first, in Joints: the row goes round it"
        )

    # Standing

    def keep_ghost(self, before: object) -> None:
        """Remember edges of the pose before, turned and moved as they were, at the new size."""
        after = self.session.character
        old = before.character
        if old is None or after is None or not old.parts:
            return
        turned = np.array(after.standing.file_to_character).reshape(4, 4)
        if old.standing is not None:
            turned = turned @ np.linalg.inv(np.array(old.standing.file_to_character).reshape(4, 4))
        turned = turned[:3, :3] / np.cbrt(abs(np.linalg.det(turned[:3, :3])))
        if np.trace(turned) > 2.999:
            self.session.ghost = None  # only moved or scaled: a ghost would lie on the figure itself
            return
        lines = []
        new_height = after.height
        for part in old.included:
            g = weld(part.mesh)
            edges = g.first[place_edges(part.mesh)]
            lines.append(part.mesh.points[edges[:: max(len(edges) * len(old.included) // GHOST_EDGES, 1)]])
        ghost = np.concatenate(lines)
        flat = ghost.reshape(-1, 3)
        size = float(np.ptp(flat, axis=0).max())
        now = float(np.ptp(after.all_points(), axis=0).max()) if len(after.all_points()) else new_height
        middle = (flat.min(axis=0) + flat.max(axis=0)) / 2
        ghost = (ghost - middle) * (now / max(size, 1e-12))
        ghost[..., 1] -= ghost[..., 1].min()
        self.session.ghost = ghost

    def stand_up(self) -> None:
        bench = self.window.benches[Area.MESH]
        up, facing = bench.up.currentData(), bench.facing.currentData()
        height = bench.height_.value() or None
        self._stand("Stand up", lambda d: edits.stand_up(d, up=up, facing=facing, height=height))

    def turn(self, degrees: float) -> None:
        self._stand(f"Turn {degrees:+g}°", lambda d: edits.turn_by(d, degrees))

    def _stand(self, name: str, edit: Callable[[object], object]) -> None:
        """Stand or turn the figure; one that has joints is built anew for it, which takes a moment: as a job."""
        base, rigged = self.session.history.present, self.session.character.skeleton is not None

        def done() -> None:
            self.keep_ghost(base)
            if rigged:
                self.session.say(f"{name}: pegs, joints, weights, controls and motion went along")

        self.window.verbs.change(name, edit, slow=rigged, doing="joints, controls and motion go along", done=done)

    def even_out(self) -> None:
        words = ""

        def edit(document: Document) -> object:
            nonlocal words
            result = edits.even_out(document)
            share, mean, _ = edits.evenness(result)
            words = f"{share:.0%} of the vertices have a partner, now {1000 * mean:.2f} mm apart on average"
            return result

        self._change("Even out the halves", edit, lambda: self.session.say(words))

    def middle(self, show: bool | None = None) -> None:
        on = not self.session.middle_shown if show is None else show
        self.session.set_view(middle_shown=on)

    # Files

    def replace_mesh(self) -> None:
        path = self.window.ask.open_file()
        if path:
            self._bring(Path(path), replacing=True)

    def add_parts(self) -> None:
        path = self.window.ask.open_file()
        if path:
            self._bring(Path(path), replacing=False)

    def _bring(self, path: Path, *, replacing: bool) -> None:
        base = self.session.history.present

        def work(progress: Progress) -> object:
            progress(0.1, f"reading {path.name}")
            imported = read_mesh(path)
            progress(0.6, "reading weights from the nearest surface" if replacing else "putting the parts in")
            if replacing:
                return edits.replace_mesh(base, imported.parts, imported.materials, imported.images)
            return edits.add_parts(base, imported.parts, imported.materials, imported.images), (
                f"{len(imported.parts)} parts added; bind them in Weights",
            )

        def done(result: object) -> None:
            document, report = result
            self.session.commit(f"{'Replace the mesh by' if replacing else 'Add parts of'} {path.name}", document)
            self.session.say("; ".join(report[:3]))
            self.window.benches[Area.MESH].report = report
            self.session.view_changed.emit()

        self.session.jobs.start(Job(f"Reading {path.name}", work, done))

    def add_reference(self) -> None:
        path = self.window.ask.open_picture()
        if not path:
            return
        try:
            image = read_picture(Path(path))
        except PegLoomError as error:
            self.session.say(str(error), error=True)
            return
        self.session.try_edit(f"Reference picture {image.name}", lambda d: edits.add_reference(d, image))

    def look_from_file(self) -> None:
        """The material in hand takes the values and pictures of one in another character's file."""
        bench = self.window.benches[Area.MESH]
        slot, own = bench.slot.currentData(), bench.slot.currentText()
        path = self.window.ask.open_file()
        if not path or slot is None:
            return
        chosen = Path(path)

        def work(progress: Progress) -> object:
            progress(0.2, f"reading {chosen.name}")
            return open_any(chosen).require_character()

        def done(result: object) -> None:
            other: Character = result
            used = sorted({int(s) for part in other.parts for s in part.mesh.materials})
            looks = [other.materials[s] for s in used if s < len(other.materials)]
            if not looks:
                self.session.say(f"{chosen.name} holds no material", error=True)
                return
            taken = 0 if len(looks) == 1 else self.window.ask.one_of(f"Looks of {chosen.name}", [m.name for m in looks])
            if taken >= 0:
                like = looks[taken]
                self.session.try_edit(
                    f"{own} like {like.name} of {chosen.name}",
                    lambda d: edits.take_material(d, slot, like, other.images),
                )

        self.session.jobs.start(Job(f"Reading {chosen.name}", work, done))

    # Parts

    def _picked(self) -> tuple[str, ...]:
        return self.session.selection.ids if self.session.selection.kind == "part" else ()

    def join(self) -> None:
        ids = self._picked()

        def done() -> None:
            self.session.select("part", ids[0])
            self.session.say(f"{len(ids)} parts are one now; weights and morphs kept")

        self._change(f"Join {len(ids)} parts", lambda d: edits.join_parts(d, ids), done)

    def split(self) -> None:
        lead = self.session.selection.lead
        self._change("Split a part by its shells", lambda d: edits.split_part(d, lead))

    def remove(self) -> None:
        ids = self._picked()

        def edit(document: object) -> object:
            for part in ids:
                document = edits.remove_part(document, part)
            return document

        if self.session.try_edit("Take parts out for good", edit):
            self.session.select("")

    def mend(self, name: str, part: Part | None = None) -> None:
        """One of the safe mends, on a part or on all included ones."""
        character = self.session.character
        ids = [part.id] if part is not None else [p.id for p in character.included]

        def edit(document: object) -> object:
            for one in ids:
                document = edits.mend_part(document, one, name)
            return document

        self._change(edits.MENDS[name][0] + (f": {part.name}" if part is not None else ""), edit)

    def _change(self, name: str, edit: Callable[[object], object], done: Callable[[], None] | None = None) -> None:
        """Change meshes, then `done`: large ones as a job."""
        large = sum(part.mesh.vertex_count for part in self.session.character.parts) >= LARGE
        self.window.verbs.change(name, edit, slow=large, doing="UVs, morphs and weights go along", done=done)

    def edge_row(self) -> None:
        """Rows above and below a joint: where it bends, a limb needs them."""
        session, character = self.session, self.session.character
        lead, kind = session.selection.lead, session.selection.kind
        if kind == "peg":
            from pegloom.core.skeleton.build import kits_in
            from pegloom.core.skeleton.depth import limb_direction

            kit = next(k for k in kits_in(character.pegs) if lead in k.pegs)
            line = np.array([character.pegs.position(p) for p in kit.pegs])
            place, along = line[kit.pegs.index(lead)], limb_direction(line, kit.pegs.index(lead))
        else:
            joint = character.skeleton.joint(lead)
            aim = aim_of(character.skeleton, joint)
            place, along = np.array(joint.position), joint.matrix[:3, 1] if aim is None else aim
        part = min(
            character.included,
            key=lambda p: float(np.linalg.norm(p.mesh.points - place, axis=1).min()) if p.mesh.vertex_count else np.inf,
        )
        step = 0.008 * character.height

        def edit(document: object) -> object:
            made, last = document, None
            for offset in (0.0, -step, step):
                x, y, z = place + along * offset
                try:
                    made = edits.insert_edge_row(made, part.id, (x, y, z), tuple(along))
                except Exception as error:  # a row that is there already is no reason to stop
                    last = error
            if made is document and last is not None:
                raise last
            return made

        if session.try_edit(f"Edge rows at {lead.replace('_', ' ')}", edit):
            session.say("Edge rows put in; UVs, morphs and weights lie between their neighbours'")

    def clean(self, what: str) -> None:
        chosen = {"skeleton": what in ("skeleton", "all"), "weights": what in ("weights", "all"), "clips": what in ("clips", "all"),
                  "controls": what in ("controls", "all"), "morphs": what == "morphs"}  # fmt: skip
        if self.session.try_edit(f"Start clean: drop {what}", lambda d: edits.start_clean(d, **chosen)):
            self.session.select("")
            self.session.say(f"Dropped: {what}; one undo brings it back")

    def pass_on(self) -> None:
        if self.session.try_edit("Pass weights on to the detail levels", edits.pass_weights_on):
            self.session.say("Weights read by every detail level from the body's own surface")

    def next_level(self) -> None:
        """Look at another detail level; what is painted and picked is what is shown."""
        session, levels = self.session, self.session.character.levels
        if len(levels) < 2:
            session.say("There is one detail level only; say of a part in Picked part which one it is")
            return
        later = [level for level in levels if level > session.level]
        session.set_view(level=later[0] if later else levels[0], vertices={})
        names = ", ".join(part.name for part in session.shown_parts[:4])
        session.say(f"Detail level {session.level}: {names}" if session.level else f"The body itself: {names}")

    def show_point(self, point: object) -> None:
        self.window.stage.show_point(transform_points(np.eye(4), np.array(point)))

    def declare(self) -> list[Action]:
        a, need = Action, self.need_character
        table = [
            a("mesh.stand_up", "Stand up", "Mesh", self.stand_up, "Turn, scale and move the mesh to stand", "", need),
            a("mesh.turn_left", "Quarter turn left", "Mesh", lambda: self.turn(90), "A quarter turn about its upright", "", need),
            a("mesh.turn_right", "Quarter turn right", "Mesh", lambda: self.turn(-90), "A quarter turn about its upright", "", need),
            a("mesh.even_out", "Even out the halves", "Mesh", self.even_out, "Each vertex and its partner to mirrored places", "", need),
            a("mesh.middle", "Show the centre line", "Mesh", self.middle, "Show the mirror plane and drag it", "", need),
            a("mesh.replace", "Replace the mesh", "Mesh", self.replace_mesh, "A revised mesh in its place; all work below is kept", "", need),
            a("mesh.add_parts", "Add parts from a file", "Mesh", self.add_parts, "New clothes, eyes, tack", "", need),
            a("mesh.join", "Join the picked parts", "Mesh", self.join, "One part of several, weights kept", "", self.need_part),
            a("mesh.split", "Split by shells", "Mesh", self.split, "The picked part cut into its separate shells", "", self.need_part),
            a("mesh.remove", "Take the picked parts out", "Mesh", self.remove, "Out of the character for good", "", self.need_part),
            a("mesh.edge_rows", "Edge rows at the selected joint", "Mesh", self.edge_row, "Rows round the limb, so that it can bend there", "", self.need_skeleton_place),
            a("mesh.pass_on", "Pass weights on to detail levels", "Mesh", self.pass_on, "Coarser levels read the body's weights", "", need),
            a("mesh.look_from", "Copy a look from another character…", "Mesh", self.look_from_file, "A material of its file, with its pictures, for the one in the card", "", need),
            a("mesh.level", "Show the next detail level", "View", self.next_level, "The body itself, then its coarser levels", "", need),
            a("mesh.reference", "Add a reference picture", "Mesh", self.add_reference, "A picture behind the view, never delivered", "", need),
        ]  # fmt: skip
        for name, (title, _) in edits.MENDS.items():
            table.append(
                a(f"mesh.mend_{name}", title, "Mesh", lambda n=name: self.mend(n), "On every included part", "", need)
            )
        for what in ("all", "skeleton", "weights", "controls", "clips", "morphs"):
            title = f"Start clean: drop {'everything but the mesh' if what == 'all' else what}"
            table.append(
                a(f"mesh.clean_{what}", title, "Mesh", lambda w=what: self.clean(w), "Keep the mesh at rest", "", need)
            )
        return table
