"""The actions of the Weights area."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from pegloom.app.actions import Action
from pegloom.app.jobs import Job
from pegloom.app.session import Area, Painting, Tool
from pegloom.core.errors import EditError
from pegloom.core.geometry.symmetry import partners
from pegloom.core.jobs import Progress
from pegloom.core.skin import select
from pegloom.core.skin.mirror import partners_within
from pegloom.document import edits
from pegloom.document.model import Character, Part
from pegloom.files.motion import read_motion
from pegloom.files.opening import open_any
from pegloom.scene.lenses import Lens

if TYPE_CHECKING:
    from pegloom.app.benches.weights import WeightsBench
    from pegloom.app.window import Window


LARGE = 30_000
"""Bound vertices from which a change of many rows is a job: it would hold the window for longer than 100 ms."""


class WeightVerbs:
    """Holds the methods behind the Weights area's actions."""

    def __init__(self, window: Window) -> None:
        self.window, self.session = window, window.session

    @property
    def bench(self) -> WeightsBench:
        return self.window.benches[Area.WEIGHTS]

    # What is missing

    def need_joints(self) -> str:
        return self.window.verbs.need_joints()

    def need_skin(self) -> str:
        return self.window.verbs.need_skin()

    def need_vertices(self) -> str:
        return self.need_skin() or (
            "" if self._vertices() else "Select vertices first: drag a box over the mesh in Weights"
        )

    def need_joint_and_vertices(self) -> str:
        missing = "" if self.session.influence else "Take a joint first: click one in the view"
        return self.need_skin() or missing or self.need_vertices()

    def need_joint(self) -> str:
        there = self.session.influence in self.session.character.skeleton.index if not self.need_skin() else False
        return self.need_skin() or ("" if there else "Take a joint first: click one in the view")

    def need_heir(self) -> str:
        heir = self.bench.influence_list.heir.currentData()
        return self.need_joint() or ("" if heir else "Choose who takes it over, in the list beside Hand over")

    def need_weave(self) -> str:
        if self.need_skin():
            return self.need_skin()
        if not self.session.character.weaves:
            return "Keep a weave first: Keep, in the Weaves card"
        return "" if self.bench.weaves.chosen else "Pick a weave in the list first"

    def need_weave_and_vertices(self) -> str:
        return self.need_weave() or self.need_vertices()

    def need_copied(self) -> str:
        return self.need_vertices() or ("" if self.session.copied else "Copy a row of weights first")

    # Helpers

    def _vertices(self) -> dict[str, np.ndarray]:
        return {p: v for p, v in self.session.vertices.items() if len(v)}

    def _name(self, joint: str) -> str:
        return self.session.character.skeleton.joint(joint).name

    def _change(self, name: str, edit: Callable[[object], object], told: Callable[[], str] | None = None) -> None:
        """Edit weights, and say what `told` has to say then: of large meshes as a job with progress."""
        held = self.session.character.skin.weights if self.session.character.skin else {}
        large = sum(weights.vertex_count for weights in held.values()) >= LARGE
        done = None if told is None else lambda: self.session.say(told())
        self.window.verbs.change(name, edit, slow=large, doing=name, done=done)

    def _on_vertices(self, name: str, change: Callable[[object, str, np.ndarray], object]) -> None:
        bound, chosen = self.session.character.skin.weights, self._vertices()

        def edit(document: object) -> object:
            for part_id, vertices in chosen.items():
                if part_id in bound:
                    document = change(document, part_id, vertices)
            return document

        self._change(name, edit)

    def _parts(self) -> list[Part]:
        """Bound parts of the selection; without one all of them."""
        character, chosen = self.session.character, self._vertices()
        return [p for p in character.included if p.id in character.skin.weights and (not chosen or p.id in chosen)]

    # Bind

    def bind(self) -> None:
        session, base = self.session, self.session.history.present
        card = self.bench.bind
        method, influences = card.method.currentData(), card.influences.value()
        branch, sight = card.own_branch.isChecked(), card.in_sight.isChecked()
        joints = None
        if card.some_joints.isChecked():
            joints = session.selection.ids if session.selection.kind == "joint" else ()
            if not joints:
                session.say("Select the joints to bind to first, or untick “Only to the selected joints”", error=True)
                return
        parts = tuple(self._vertices()) if card.some_parts.isChecked() else None
        if parts is not None and not parts:
            session.say(
                "Draw a box over the part to bind first, or untick “Only the selected vertices' parts”", error=True
            )
            return

        def work(progress: Progress) -> object:
            return edits.bind(
                base, method=method, influences=influences, part_ids=parts, joint_ids=joints,
                own_branch=branch, in_sight=sight,
                progress=progress,
                offload=partial(session.jobs.helper.offload, waiting=partial(progress, -1.0, "")),
            )  # fmt: skip

        def done(result: object) -> None:
            if self.window.verbs.land(base, f"Bind {method.value}", result):
                if session.area is Area.WEIGHTS:
                    session.set_area(Area.WEIGHTS)
                session.say("Bound, and kept as a weave. Try the poses on the strip; next: Controls (4)")

        session.jobs.start(Job(f"Binding {method.value}", work, done))

    # On vertices

    def fill(self) -> None:
        s = self.session
        joint, value, both, locked = s.influence, s.brush.value, s.both_sides, s.locked
        count = sum(len(v) for v in self._vertices().values())
        sides = " on both sides" if both else ""
        self._on_vertices(
            f"Set {self._name(joint)} to {value:g} on {count} vertices{sides}",
            lambda d, p, v: edits.fill_weight(d, p, joint, v, value, both_sides=both, locked=locked),
        )

    def smooth(self) -> None:
        s = self.session
        both, locked, strength = s.both_sides, s.locked, s.brush.strength
        count = sum(len(v) for v in self._vertices().values())
        self._on_vertices(
            f"Smooth {count} vertices" + (" on both sides" if both else ""),
            lambda d, p, v: edits.smooth_weights(d, p, v, strength=strength, both_sides=both, locked=locked),
        )

    def average(self) -> None:
        locked = self.session.locked
        count = sum(len(v) for v in self._vertices().values())
        self._on_vertices(f"Average {count} vertices", lambda d, p, v: edits.average_rows(d, p, v, locked=locked))

    def copy(self) -> None:
        part, vertices = next(iter(self._vertices().items()))
        row = edits.row_of(self.session.history.present, part, vertices)
        self.session.set_view(copied=row)
        listed = ", ".join(f"{self._name(j)} {w:.2f}" for j, w in sorted(row.items(), key=lambda r: -r[1])[:4])
        self.session.say(f"Copied: {listed}")

    def paste(self) -> None:
        row, locked = self.session.copied, self.session.locked
        count = sum(len(v) for v in self._vertices().values())
        self._on_vertices(
            f"Paste weights on {count} vertices", lambda d, p, v: edits.paste_row(d, p, v, row, locked=locked)
        )

    def change_selection(self, change: Callable[[object, np.ndarray], np.ndarray]) -> None:
        """Each part's selected vertices become others."""
        session = self.session
        made = {p: change(session.character.part(p).mesh, v) for p, v in self._vertices().items()}
        session.vertices = {p: v for p, v in made.items() if len(v)}
        session.selection_changed.emit()

    def held(self) -> None:
        session, card = self.session, self.bench.selection
        low, high = card.low.value(), card.high.value()
        skin = session.character.skin
        found = {p: select.held_between(w, session.influence, low, high) for p, w in skin.weights.items()}
        session.vertices = {p: v for p, v in found.items() if len(v)}
        session.selection_changed.emit()
        count = sum(len(v) for v in session.vertices.values())
        session.say(f"{count} vertices hold {low:g} to {high:g} of {self._name(session.influence)}")

    def keep_set(self) -> None:
        name, chosen = self.bench.selection.sets.currentText(), self._vertices()
        self.session.try_edit(f"Keep a selection {name}", lambda d: edits.keep_vertices(d, name, chosen))

    def recall_set(self) -> None:
        session, name = self.session, self.bench.selection.sets.currentText()
        kept = session.character.vertex_sets.get(name)
        if kept is None:
            session.say("Choose a kept selection in the list first", error=True)
            return
        session.vertices = dict(kept)
        session.selection_changed.emit()

    def forget_set(self) -> None:
        name = self.bench.selection.sets.currentText()
        self.session.try_edit(f"Forget the selection {name}", lambda d: edits.drop_vertices(d, name))

    def numbers(self) -> None:
        self.session.set_view(numbers_shown=not self.session.numbers_shown)

    # Influences

    def drop_influence(self) -> None:
        joint, chosen = self.session.influence, self._vertices()

        def edit(document: object) -> object:
            done = False
            for part in self._parts():
                if self.session.character.skin.weights[part.id].column(joint).any():
                    document = edits.drop_influence(document, part.id, joint, chosen.get(part.id))
                    done = True
            return document if done else edits.drop_influence(document, self._parts()[0].id, joint)

        where = "the selected vertices" if chosen else "every part"
        self._change(f"Take {self._name(joint)} off {where}", edit)

    def replace_influence(self) -> None:
        old, new = self.session.influence, self.bench.influence_list.heir.currentData()
        chosen = self._vertices()

        def edit(document: object) -> object:
            some = [p for p in self._parts() if old in self.session.character.skin.weights[p.id].joint_ids]
            for part in some or self._parts()[:1]:
                document = edits.replace_influence(document, part.id, old, new, chosen.get(part.id))
            return document

        self._change(f"Hand {self._name(old)} over to {self._name(new)}", edit)

    def drop_irrelevant(self) -> None:
        gone: list[str] = []

        def edit(document: object) -> object:
            for part in self._parts():
                document, dropped = edits.drop_irrelevant(document, part.id)
                gone.extend(self._name(j) for j in dropped)
            return document

        self._change(
            "Drop slight influences",
            edit,
            lambda: f"Dropped {', '.join(dict.fromkeys(gone))}" if gone else "Every joint matters somewhere here",
        )

    def prune(self) -> None:
        count = 0

        def edit(document: object) -> object:
            nonlocal count
            for part in self._parts():
                document, touched = edits.prune_tiny(document, part.id)
                count += touched
            return document

        self._change("Drop tiny weights", edit, lambda: f"{count} vertices freed of weights under 0.005")

    def drop_strays(self) -> None:
        changed = 0

        def edit(document: object) -> object:
            nonlocal changed
            document, changed = edits.drop_strays(document)
            return document

        self._change(
            "Drop stray weights",
            edit,
            lambda: f"{changed} vertices freed of strays" if changed else "There are no stray weights",
        )

    def reduce(self) -> None:
        most = self.bench.bind.influences.value()
        told = ""

        def edit(document: object) -> object:
            nonlocal told
            document, worst, count = edits.reduce_influences(document, most)
            told = f"At most {most} now; {count} vertices lost something, {worst:.3f} at most"
            return document

        self._change(f"Reduce to {most} influences", edit, lambda: told)

    # Across and over

    def mirror(self) -> None:
        session, card = self.session, self.bench.carry
        way, by_place = card.way.currentData(), card.by_place.isChecked()
        tolerance = card.tolerance.value() / 100 or None
        chosen = self._vertices() if card.only.isChecked() else None
        lost: dict[str, np.ndarray] = {}

        def edit(document: object) -> object:
            for part_id in session.character.skin.weights:
                if chosen is not None and part_id not in chosen:
                    continue
                document, missing = edits.mirror_weights(
                    document, part_id, way, tolerance=tolerance, by_place=by_place,
                    vertices=chosen[part_id] if chosen is not None else None,
                )  # fmt: skip
                if len(missing):
                    lost[part_id] = missing
            return document

        def told() -> str:
            count = sum(len(v) for v in lost.values())
            return "Mirrored" + (f"; {count} vertices have no partner and keep theirs: Show unmatched" if count else "")

        self._change(f"Mirror weights, {way.value}", edit, told)

    def unmatched(self) -> None:
        """Select every vertex that has no partner across the middle."""
        session, card = self.session, self.bench.carry
        character = session.character
        middle = character.standing.middle if character.standing else 0.0
        reach = card.tolerance.value() / 100 or None
        found = {}
        for part in character.included:
            pairs = partners_within(part.mesh, middle, reach) if reach else partners(part.mesh, middle)
            alone = np.flatnonzero(pairs < 0)
            if len(alone):
                found[part.id] = alone
        session.vertices = found
        session.selection_changed.emit()
        count = sum(len(v) for v in found.values())
        session.say(f"{count} vertices have no partner; they are selected" if count else "Every vertex has its partner")

    def transfer(self) -> None:
        session, card, base = self.session, self.bench.carry, self.session.history.present
        source, target, fill = card.source.currentData(), card.target.currentData(), card.fill.isChecked()
        names = [session.character.part(p).name for p in (source, target)]
        title = f"Transfer weights, {names[0]} to {names[1]}"

        def work(progress: Progress) -> object:
            progress(0.1, "reading the nearest surface, filling between")
            return edits.transfer(base, source, target, fill=fill)

        def done(result: object) -> None:
            document, report = result  # type: ignore[misc]
            if self.window.verbs.land(base, title, document):
                told = f"{report.matched} vertices read, {report.filled} filled"
                told += f", {report.forced} read from the nearest place for want of a match" if report.forced else ""
                told += f"; farthest {100 * report.farthest:.1f} cm"
                card.report.setText(told)
                session.say(told)

        session.jobs.start(Job(title, work, done))

    def read_from(self) -> None:
        """Weights of another character, from its file: read it, pair the joints, read the surface."""
        session, path = self.session, self.window.ask.open_file()
        if not path:
            return
        chosen = Path(path)

        def work(progress: Progress) -> object:
            progress(0.1, f"reading {chosen.name}")
            other = open_any(chosen).require_character()
            if other.skeleton is None or other.skin is None or not other.skin.weights:
                raise EditError(f"{chosen.name} is not bound; there are no weights to read")
            return other

        def done(result: object) -> None:
            pairs = self.window.ask.pair_joints(result, session.character.skeleton)  # type: ignore[arg-type]
            if pairs is not None:
                self._read(result, pairs)  # type: ignore[arg-type]

        session.jobs.start(Job(f"Reading {chosen.name}", work, done))

    def _read(self, other: Character, pairs: dict[str, str]) -> None:
        session, base = self.session, self.session.history.present
        title = f"Read weights from {other.name}"

        def work(progress: Progress) -> object:
            progress(0.1, "reading the nearest surface, filling between")
            return edits.read_weights(base, other, joint_map=pairs, only_asked=True)

        def done(result: object) -> None:
            document, reports, told = result  # type: ignore[misc]
            if self.window.verbs.land(base, title, document):
                matched, filled = sum(r.matched for r in reports.values()), sum(r.filled for r in reports.values())
                said = f"{len(pairs)} joints of {other.name} read as {len(set(told.values()))} here; "
                said += f"{matched} vertices read, {filled} filled"
                self.bench.carry.report.setText(said)
                session.say(said)

        session.jobs.start(Job(title, work, done))

    # Weaves

    def keep_weave(self) -> None:
        self.session.try_edit("Keep a weave", lambda d: edits.keep_weave(d)[0])

    def take_weave(self) -> None:
        weave = self.bench.weaves.chosen
        self.session.try_edit("Take a weave back", lambda d: edits.take_weave(d, weave))

    def drop_weave(self) -> None:
        weave = self.bench.weaves.chosen
        self.session.try_edit("Forget a weave", lambda d: edits.drop_weave(d, weave))

    def compare(self) -> None:
        session = self.session
        session.set_view(compared="" if session.compared else self.bench.weaves.chosen)
        if session.compared:
            session.say("In hand on the left, the weave on the right: drag the seam")

    def mix(self) -> None:
        session, card = self.session, self.bench.weaves
        weave, border, both = card.chosen, card.border.value() / 100, session.both_sides
        chosen = self._vertices()
        name = next(w.name for w in session.character.weaves if w.id == weave)
        self._change(
            f"{name} on {sum(len(v) for v in chosen.values())} vertices",
            lambda d: edits.mix_weave(d, weave, chosen, border=border, both_sides=both),
        )

    # Relax, blend mode, bake

    def put_relax(self) -> None:
        card = self.bench.relax
        part, steps, strength = card.part.currentData(), card.steps.value(), card.strength.value
        self.session.try_edit("Surface relax on", lambda d: edits.set_relax(d, part, steps=steps, strength=strength))

    def relax_off(self) -> None:
        part = self.bench.relax.part.currentData()
        self.session.try_edit("Surface relax off", lambda d: edits.set_relax(d, part, strength=0.0))

    def set_dual(self) -> None:
        card = self.bench.relax
        part, share = card.part.currentData(), card.dual.value
        chosen = self._vertices()
        if chosen:
            self._on_vertices(f"Dual quaternion share {share:.2f}", lambda d, p, v: edits.set_dual(d, p, share, v))
        else:
            self.session.try_edit(f"Dual quaternion share {share:.2f}", lambda d: edits.set_dual(d, part, share))

    def bake(self) -> None:
        session, card, base = self.session, self.bench.relax, self.session.history.present
        influences, clips = card.influences.value(), card.clips.isChecked()

        def work(progress: Progress) -> object:
            return edits.bake_relax(base, influences=influences, clips=clips, progress=progress)

        def done(result: object) -> None:
            document, reports = result  # type: ignore[misc]
            if self.window.verbs.land(base, f"Bake to {influences} influences", document):
                told = "; ".join(f"{r.part}: {r.says}" for r in reports)
                card.report.setText(f"{told}. {reports[0].poses} poses.")
                session.say(told)

        session.jobs.start(Job(f"Baking to {influences} influences", work, done))

    # Trials

    def keep_trial(self) -> None:
        session = self.session
        pose = session.shown_pose
        count = len(session.character.trials) + 1
        name = self.window.ask.name("Keep the pose as a trial", f"trial {count}")
        if not name:
            return
        picture = self.window.stage.small_picture()
        made = ""

        def edit(document: object) -> object:
            nonlocal made
            document, made = edits.keep_trial(document, name, pose, picture)
            return document

        if session.try_edit(f"Keep the trial {name}", edit):
            session.play_source(made)

    def need_kept_trial(self) -> str:
        return "" if self.session.kept_pose is not None else "Pick one of your own trials on the strip first"

    def drop_trial(self) -> None:
        kept = self.session.kept_pose
        self.session.try_edit(f"Forget the trial {kept.name}", lambda d: edits.drop_trial(d, kept.id))

    def bring_motion(self) -> None:
        session = self.session
        path = self.window.ask.open_motion()
        if not path:
            return
        chosen, skeleton = Path(path), session.character.skeleton

        def work(progress: Progress) -> object:
            progress(0.1, f"reading {chosen.name}")
            return read_motion(chosen, skeleton)

        def done(result: object) -> None:
            clips, notes = result  # type: ignore[misc]
            ids: tuple[str, ...] = ()

            def edit(document: object) -> object:
                nonlocal ids
                document, ids = edits.bring_motion(document, clips)
                return document

            if session.try_edit(f"Bring in {chosen.name}", edit):
                session.play_source(ids[0])
                session.say("; ".join([f"{chosen.name} is on the strip", *notes]))

        session.jobs.start(Job(f"Reading {chosen.name}", work, done))

    def paint(self, painting: Painting) -> None:
        self.window.go(Area.WEIGHTS)
        self.session.set_view(painting=painting, tool=Tool.BRUSH, lens=Lens.INFLUENCE)

    def declare(self) -> list[Action]:
        """The table of actions."""
        a, skin, some = Action, self.need_skin, self.need_vertices
        w, v = "Weights", "Vertices"
        return [
            a("weights.bind", "Bind", w, self.bind, "Compute weights of all included parts", "", self.need_joints),
            a("weights.fill", "Fill the selected vertices", w, self.fill, "Set the joint in hand to the ladder's value", "F", self.need_joint_and_vertices),
            a("weights.smooth", "Smooth the selected vertices", w, self.smooth, "Blend toward the neighbours", "", some),
            a("weights.mirror", "Mirror weights", w, self.mirror, "As the card says: which half gives, how pairs are found", "", skin),
            a("weights.unmatched", "Select vertices without a partner", w, self.unmatched, "No vertex stands across the middle from them", "", skin),
            a("weights.transfer", "Transfer weights between parts", w, self.transfer, "By the nearest surface, filled smoothly", "", skin),
            a("weights.read_from", "Read weights from another character…", w, self.read_from, "A project or GLB; its joints are paired with these", "", self.need_joints),
            a("weights.drop_strays", "Drop stray weights", w, self.drop_strays, "Regions cut off from their joint's main one", "", skin),
            a("weights.reduce", "Reduce the influences", w, self.reduce, "Cut finished weights to Bind's number, the loss shown", "", skin),
            a("weights.prune", "Drop tiny weights", w, self.prune, "Everything under 0.005", "", skin),
            a("influence.drop", "Take the joint off", w, self.drop_influence, "Off the selected vertices, else off every part", "", self.need_joint),
            a("influence.replace", "Hand a joint's weight over", w, self.replace_influence, "To the joint chosen in the card", "", self.need_heir),
            a("influence.irrelevant", "Drop slight influences", w, self.drop_irrelevant, "Joints that nowhere hold more than 0.05", "", skin),
            a("weave.keep", "Keep a weave", w, self.keep_weave, "The weights in hand as a version by name", "", skin),
            a("weave.take", "Take a weave back", w, self.take_weave, "What is in hand is kept first", "", self.need_weave),
            a("weave.drop", "Forget a weave", w, self.drop_weave, "The weights in hand stay", "", self.need_weave),
            a("weave.compare", "Compare along the seam", w, self.compare, "In hand left, the weave right, in the same pose", "", self.need_weave),
            a("weave.mix", "Weave on the selected vertices", w, self.mix, "With a soft border; elsewhere what is in hand", "", self.need_weave_and_vertices),
            a("relax.put", "Put surface relax on", w, self.put_relax, "On the part chosen in the card", "", skin),
            a("relax.off", "Take surface relax off", w, self.relax_off, "From the part chosen in the card", "", skin),
            a("relax.dual", "Set the blend mode", w, self.set_dual, "Linear to dual quaternion", "", skin),
            a("relax.bake", "Bake relax into weights", w, self.bake, "By least squares over sampled poses; the state before is kept", "", skin),
            a("relax.paint", "Paint the surface relax", w, lambda: self.paint(Painting.RELAX), "Where it works, and how much", "", skin),
            a("relax.paint_dual", "Paint the dual quaternion share", w, lambda: self.paint(Painting.DUAL), "Where volume is kept", "", skin),
            a("trial.keep", "Keep the pose as a trial", "Trials", self.keep_trial, "With a small picture, on the strip", "", self.need_joints),
            a("trial.drop", "Forget a kept trial", "Trials", self.drop_trial, "The one the strip shows", "", self.need_kept_trial),
            a("trial.bring", "Bring in motion as a trial", "Trials", self.bring_motion, "BVH or GLB of the same skeleton", "", self.need_joints),
            a("vertices.paint", "Select vertices by painting", v, lambda: (self.window.go(Area.WEIGHTS), self.session.set_view(tool=Tool.SELECT)), "Shift adds, Ctrl takes out", "Q", skin),
            a("vertices.grow", "Grow the selection", v, lambda: self.change_selection(select.grown), "By one ring", "Ctrl+Up", some),
            a("vertices.shrink", "Shrink the selection", v, lambda: self.change_selection(select.shrunk), "By one ring", "Ctrl+Down", some),
            a("vertices.shell", "Select whole shells", v, lambda: self.change_selection(select.whole_shells), "All that hangs together", "", some),
            a("vertices.others", "Select the others", v, lambda: self.change_selection(select.others), "What is not selected", "", some),
            a("vertices.rim", "Select the rim", v, lambda: self.change_selection(select.rim), "Those at the selection's edge", "", some),
            a("vertices.held", "Select by weight", v, self.held, "Vertices holding so much of the joint in hand", "", self.need_joint),
            a("vertices.average", "Average the weights", v, self.average, "One mean row on all selected", "", some),
            a("vertices.copy", "Copy the weights", v, self.copy, "The mean row of the selected vertices", "Ctrl+C", some),
            a("vertices.paste", "Paste the weights", v, self.paste, "The copied row on the selected vertices", "Ctrl+V", self.need_copied),
            a("vertices.numbers", "Number table", v, self.numbers, "Weights of the selected vertices as numbers", "Ctrl+T", skin),
            a("vertices.keep", "Keep the selection", v, self.keep_set, "Under the name in the card", "", some),
            a("vertices.recall", "Select a kept selection", v, self.recall_set, "The one named in the card", "", skin),
            a("vertices.forget", "Forget a kept selection", v, self.forget_set, "The one named in the card", "", skin),
        ]  # fmt: skip
