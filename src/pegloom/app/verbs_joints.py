"""The actions of the Joints area."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np

from pegloom.app.actions import Action
from pegloom.app.jobs import Job
from pegloom.app.session import AS_SEEN, Area, Tool
from pegloom.core.errors import PegLoomError
from pegloom.core.jobs import Progress
from pegloom.core.motion.clips import sample
from pegloom.core.skeleton.axes import crooked_axes
from pegloom.core.skeleton.joints import Origin
from pegloom.core.skeleton.patterns import free_pegs
from pegloom.core.skeleton.patterns import pattern as shipped_pattern
from pegloom.document import edits
from pegloom.files.patterns import pattern_named

if TYPE_CHECKING:
    from pegloom.app.window import Window

MANY_ROWS = 60_000
"""Rows of weights, those of the weaves counted too, from which on a change of the skeleton is a job."""


class JointVerbs:
    """Holds the methods behind the Joints area's actions."""

    def __init__(self, window: Window) -> None:
        self.window, self.session = window, window.session

    def need_character(self) -> str:
        return "" if self.session.character else "Open a mesh first (Ctrl+O), or lay out a pattern without one"

    def need_pegs(self) -> str:
        return self.need_character() or ("" if self.session.character.pegs else "Find pegs first, in Joints")

    def need_joints(self) -> str:
        return self.need_character() or ("" if self.session.character.skeleton else "Build joints first, in Joints")

    def need_joint(self) -> str:
        picked = self.session.selection.kind == "joint"
        return self.need_joints() or ("" if picked else "Pick a joint first: click one in the view or the parts drawer")

    @property
    def lead(self) -> str:
        return self.session.selection.lead

    @property
    def ids(self) -> tuple[str, ...]:
        return self.session.selection.ids

    def label(self) -> str:
        return self.session.character.skeleton.joint(self.lead).name

    # Pegs

    def _instead_of_the_files(self) -> bool | None:
        """Whether a whole body's pegs take the place of a skeleton the file brought: None where there is none."""
        character = self.session.character
        if character is None or character.adopted is None or (character.pegs is not None and character.pegs.pattern):
            return None
        count = len(character.adopted.joints)
        return self.window.ask.confirm(
            f"The file brought a skeleton of {count} joints. Build another one from pegs in its place? Its weights, "
            "controls and clips go with it; one undo brings all of it back. (To add ears, a tail or fingers to it, "
            "hang a limb kit on one of its joints instead.)"
        )

    def find_pegs(self) -> None:
        instead = self._instead_of_the_files()
        if instead is False:
            self.session.say("The file's skeleton stays")
            return
        base, count = self.session.history.present, self.session.fingers
        fingers = None if count == AS_SEEN else count
        wanted, pairs = self.session.pattern, self.session.pairs or None

        def work(progress: Progress) -> object:
            document = edits.start_clean(base) if instead else base
            character = document.require_character()
            if character.standing is None and character.skeleton is None and character.parts:
                progress(0.02, "standing the mesh up")
                document = edits.stand_up(document)
            if wanted == "auto" and character.parts:
                progress(0.1, "looking what body it is")
                plan = shipped_pattern(edits.guess_plan(document))
            else:
                plan = pattern_named("human" if wanted == "auto" else wanted)
            pegs = edits.find_pegs(document, plan=plan, fingers=fingers, pairs=pairs, progress=progress)
            return edits.set_pegs(document, pegs), plan

        def done(result: object) -> None:
            document, plan = result
            pegs = document.require_character().pegs
            if self.window.verbs.land(base, f"Find pegs, {plan.title.lower()}", document):
                weak = sum(p.weak for p in pegs.pegs)
                word = f"{plan.title}: {len(pegs.pegs)} pegs placed"
                self.session.say(word + (f", {weak} of them weak guesses; look at those with a ring" if weak else ""))

        self.session.jobs.start(Job("Finding pegs", work, done))

    def lay_out(self) -> None:
        """A pattern without looking at the mesh, or without a mesh at all."""
        wanted = self.session.pattern if self.session.pattern != "auto" else "human"
        try:
            plan = pattern_named(wanted)
        except Exception as error:
            self.session.say(str(error), error=True)
            return
        instead = self._instead_of_the_files()
        if instead is False:
            self.session.say("The file's skeleton stays")
            return
        fingers, pairs = self.session.fingers, self.session.pairs or None
        fingers = 5 if fingers == AS_SEEN else fingers
        if self.session.character is None:
            from dataclasses import replace

            from pegloom.document.model import Character, Document

            made = replace(
                Document(), characters=(Character("character0", f"{plan.title} without a mesh"),), name=plan.title
            )
            self.session.start_with(made, None)
            self.window.go(Area.JOINTS)
        character = self.session.character
        height = character.height if character.parts else (1.7 if plan.finder == "human" else 1.0)
        pegs = free_pegs(
            plan, height=height, fingers=fingers, pairs=pairs, confidence=0.6 if not character.parts else 0.3
        )

        def edit(document: object) -> object:
            return edits.set_pegs(edits.start_clean(document) if instead else document, pegs)

        if self.session.try_edit(f"Lay out {plan.title.lower()}", edit):
            self.session.say("Pegs at their usual places; drag them, or find them once there is a mesh")
            self.window.stage.show_all()

    def build(self) -> None:
        self._change("Build joints", edits.build_joints, self._built)

    def _built(self) -> None:
        self.session.say(f"{len(self.session.character.skeleton.joints)} joints built; next: Weights (3)")

    def need_placed(self) -> str:
        character = self.session.character
        some = character is not None and (character.pegs is not None or character.skeleton is not None)
        return self.need_character() or ("" if some else "Find pegs or draw joints first")

    def propose(self) -> None:
        """Show what centring would move; a second press does it. Pegs, and joints no peg stands for."""
        session, character = self.session, self.session.character
        document, picked = session.history.present, session.selection
        names = joints = None
        if picked.kind == "peg":
            names, joints = picked.ids, ()
        elif picked.kind == "joint":
            names, joints = (), picked.ids
            if not edits.free_joints(character) & set(joints):
                session.say(f"{self.label()} stands where its pegs say: pick its peg to centre it", error=True)
                return
        try:
            moves = [*(edits.proposed_depths(document, names) if character.pegs is not None and names != () else ())]
            of_joints = edits.proposed_joint_depths(document, joints) if character.skeleton and joints != () else ()
        except PegLoomError as error:
            session.say(str(error), error=True)
            return
        count = len(moves) + len(of_joints)
        if not count:
            session.set_view(moves=[])
            session.say("All stand at their proper depth" if names is None else "It stands at its proper depth")
            return
        if session.moves and len(session.moves) == count:
            session.set_view(moves=[])

            def edit(d: object) -> object:
                if moves:
                    d = edits.centre_in_mesh(d, names, both_sides=session.both_sides)
                return edits.centre_joints(d, joints, both_sides=session.both_sides) if of_joints else d

            session.try_edit(f"Centre {count} in the mesh", edit)
            return
        shown = [(character.pegs.position(m.peg), m.place) for m in moves]
        shown += [(character.skeleton.joint(m.peg).position, m.place) for m in of_joints]
        session.set_view(moves=[(np.array(a), np.array(b)) for a, b in shown])
        worst = max([*moves, *of_joints], key=lambda m: m.distance)
        name = worst.peg if worst in moves else character.skeleton.joint(worst.peg).name
        session.say(
            f"{count} would move, {name.replace('_', ' ')} by {100 * worst.distance:.1f} cm ({worst.why}). Press again to do it"
        )

    def even(self) -> None:
        self.session.try_edit("Right side's pegs from the left", edits.even_pegs)

    # Kits

    def _kit(self) -> str:
        return self.window.benches[Area.JOINTS].kit_in_hand()

    def add_kit(self) -> None:
        bench = self.window.benches[Area.JOINTS]
        kind, joint, both = bench.kit_kind.currentData(), self.lead, self.session.both_sides
        made = ""

        def edit(document: object) -> object:
            nonlocal made
            document, made = edits.add_kit(document, kind, joint, both_sides=both)
            return document

        def done() -> None:
            pegs = next(k.pegs for k in self.session.character.pegs.kits if k.id == made)
            self.session.select("peg", pegs[-1])
            self.session.say(f"A {kind} hangs there now: drag its pegs into place")

        self._change(f"Add a {kind} on {self.label()}", edit, done)

    def _change(self, name: str, edit: Callable[[object], object], done: Callable[[], None] | None = None) -> None:
        """Change the skeleton, then `done`: as a job where many rows of weights have to go along."""
        character = self.session.character
        skins = [s for s in (character.skin, *(w.skin for w in character.weaves)) if s is not None]
        many = sum(weights.vertex_count for s in skins for weights in s.weights.values()) >= MANY_ROWS
        self.window.verbs.change(name, edit, slow=many, doing="weights, weaves and controls go along", done=done)

    def remove_kit(self) -> None:
        kit = self._kit()
        both = self.session.both_sides
        self._change(f"Remove the kit {kit}", lambda d: edits.remove_kit(d, kit, both_sides=both))

    def mirror_kit(self) -> None:
        kit = self._kit()
        self._change(f"Mirror the kit {kit}", lambda d: edits.mirror_kit(d, kit))

    def attach_kit(self) -> None:
        kit, joint = self._kit(), self.lead
        self._change(f"Hang {kit} on {self.label()}", lambda d: edits.attach_kit(d, kit, joint))

    # Joints one by one

    def _made(self, name: str, edit: object) -> None:
        """An edit that returns (document, id): the new joint is selected."""
        made = ""

        def run(document: object) -> object:
            nonlocal made
            document, made = edit(document)
            return document

        self._change(name, run, lambda: self.session.select("joint", made))

    def insert(self) -> None:
        lead, both = self.lead, self.session.both_sides
        self._made(f"Put a joint above {self.label()}", lambda d: edits.insert_joint(d, lead, both_sides=both))

    def split(self) -> None:
        lead, both = self.lead, self.session.both_sides
        pieces = self.window.benches[Area.JOINTS].pieces.value()
        self._change(
            f"Split the bone above {self.label()} in {pieces}",
            lambda d: edits.split_bone(d, lead, pieces, both_sides=both),
        )

    def extend(self) -> None:
        lead, both = self.lead, self.session.both_sides
        self._made(f"Extend {self.label()}", lambda d: edits.extend_joint(d, lead, both_sides=both))

    def delete(self, *, branch: bool = False) -> None:
        ids, both = self.ids, self.session.both_sides
        names = self.label() + (f" and {len(ids) - 1} more" if len(ids) > 1 else "")

        def edit(document: object) -> object:
            for joint in ids:
                if joint in document.character.skeleton.index:
                    document = edits.delete_joint(document, joint, keep_children=not branch, both_sides=both)
            return document

        def done() -> None:
            self.session.select("")
            self.session.say("Deleted; what it held went to its parent")

        self._change(f"Delete {names}" + (" with all below" if branch else ""), edit, done)

    def duplicate(self) -> None:
        lead = self.lead
        step = 0.03 * self.session.character.height
        self._made(f"Duplicate {self.label()}", lambda d: edits.duplicate_joints(d, lead, offset=(0.0, 0.0, step)))

    def mirror(self) -> None:
        lead = self.lead
        self._made(f"Mirror {self.label()}", lambda d: edits.mirror_joints(d, lead))

    def float_(self) -> None:
        lead = self.lead
        floating = not self.session.character.skeleton.joint(lead).floating
        word = "Let float" if floating else "Connect"
        self.session.try_edit(
            f"{word} {self.label()}", lambda d: edits.float_joint(d, lead, floating, both_sides=self.session.both_sides)
        )

    def draw(self) -> None:
        self.window.go(Area.JOINTS)
        self.session.set_view(tool=Tool.DRAW)

    # Axes

    def _axes(self, name: str, edit: object) -> None:
        self.session.try_edit(
            f"{name}, {len(self.ids)} joints" if len(self.ids) > 1 else f"{name}, {self.label()}", edit
        )

    def aim(self) -> None:
        self._axes("Aim along", lambda d: edits.aim_along(d, self.ids, both_sides=self.session.both_sides))

    def square(self) -> None:
        self._axes("Bend axis square", lambda d: edits.square_bend(d, self.ids, both_sides=self.session.both_sides))

    def match(self) -> None:
        if len(self.ids) < 2:
            self.session.say("Pick two joints or more: the last one picked gives its axes to the others", error=True)
            return
        self._axes("Match axes", lambda d: edits.match_axes(d, self.ids[:-1], self.lead))

    def align(self) -> None:
        self._axes("Align the chain", lambda d: edits.align_chain(d, self.lead, both_sides=self.session.both_sides))

    def mirror_axes(self) -> None:
        self._axes("Mirror axes", lambda d: edits.mirror_axes(d, self.ids))

    def check_axes(self) -> None:
        skeleton = self.session.character.skeleton
        crooked = crooked_axes(skeleton)
        own = [c for c in crooked if skeleton.joint(c.joint).origin is not Origin.FILE]
        if not crooked:
            self.session.say("All axes run down their limbs, bend axes square to them")
            return
        self.session.select("joint", *[c.joint for c in crooked])
        names = ", ".join(self.session.character.skeleton.joint(c.joint).name for c in crooked[:4])
        self.session.say(
            f"{len(crooked)} joints with crooked axes: {names}"
            + ("" if own else "; they came so and are kept for the way back")
        )

    def mend_axes(self) -> None:
        self.session.try_edit("Mend crooked axes", edits.mend_axes)

    # Moves by hand whose pegs have moved since

    def need_parted(self) -> str:
        character = self.session.character
        if character is None or not edits.parted_moves(character):
            return "no joint moved by hand has had its pegs moved since"
        return ""

    def _parted(self) -> tuple[str, ...]:
        """Those picked, or all when none of them is."""
        parted = tuple(edits.parted_moves(self.session.character))
        return tuple(j for j in self.ids if j in parted) or parted

    def to_pegs(self) -> None:
        chosen = self._parted()
        self.session.try_edit("Joints back to their pegs", lambda d: edits.forget_moves(d, chosen))

    def keep_moves(self) -> None:
        chosen = self._parted()
        if self.session.try_edit("Keep moves by hand", lambda d: edits.keep_moves(d, chosen)):
            self.session.say("The moves by hand stay as they are")

    # Rest

    def rest(self, kind: str) -> None:
        pose = self.session.shown_pose if kind == "pose" and not self.session.at_rest else self.session.character.pose
        edit = {"t": edits.rest_in_t, "a": edits.rest_in_a, "pose": lambda d: edits.set_rest(d, pose)}[kind]
        word = {"t": "T-pose", "a": "A-pose", "pose": "This pose"}[kind]
        self._settle(
            f"{word} is the rest", edit, f"{word} is the rest now: points settled; weights, controls and clips kept"
        )

    def first_frame(self) -> None:
        """The first frame of the clip in hand, or of the first one, becomes the rest."""
        character = self.session.character
        clip = self.session.clip or (character.clips[0] if character.clips else None)
        if clip is None:
            self.session.say("There is no clip whose first frame could be the rest", error=True)
            return
        pose = sample(clip, 0.0, character.skeleton, None, character.rig)
        self._settle(
            f"First frame of {clip.name} is the rest",
            lambda d: edits.set_rest(d, pose),
            f"The first frame of {clip.name} is the rest now; clips show the same motion",
        )

    def _settle(self, name: str, edit: Callable[[object], object], told: str) -> None:
        """A new rest, as a job: points, joints, controls and every key of every clip are told anew."""
        self.window.verbs.change(
            name,
            edit,
            slow=True,
            doing="points, joints, controls and clips go along",
            done=lambda: self.session.say(told),
        )

    # Weak guesses, one after the other

    def need_weak(self) -> str:
        weak = self.session.character is not None and self.session.character.pegs is not None and self._weak()
        return self.need_pegs() or ("" if weak else "No peg is a weak guess any more")

    def need_peg(self) -> str:
        picked = self.session.selection.kind == "peg"
        return self.need_pegs() or ("" if picked else "Pick a peg first: click one in the view or the list")

    def _weak(self) -> list[str]:
        return [peg.name for peg in self.session.character.pegs.pegs if peg.weak]

    def next_weak(self) -> None:
        """Pick the weak guess after the picked peg and bring it into the middle."""
        order = [peg.name for peg in self.session.character.pegs.pegs]
        lead = self.session.selection.lead if self.session.selection.kind == "peg" else ""
        start = order.index(lead) + 1 if lead in order else 0
        weak = set(self._weak())
        self.session.select("peg", next(name for name in order[start:] + order[:start] if name in weak))
        self.window.stage.show_selection()

    def accept(self) -> None:
        """The picked peg is right where it is; on to the next weak guess."""
        lead, both = self.session.selection.lead, self.session.both_sides
        words = lead.replace("_", " ")
        if not self.session.try_edit(f"{words} is right", lambda d: edits.accept_peg(d, lead, both_sides=both)):
            return
        left = len(self._weak())
        if left:
            self.next_weak()
        self.session.say(f"{words} is right; " + (f"{left} more to look at" if left else "no weak guess is left"))

    def declare(self) -> list[Action]:
        a, pegs, joints, joint = Action, self.need_pegs, self.need_joints, self.need_joint
        return [
            a("joints.find_pegs", "Find pegs", "Joints", self.find_pegs, "Look for the landmarks in the mesh", "", self.need_character),
            a("joints.lay_out", "Lay out the pattern", "Joints", self.lay_out, "Pegs at their usual places, with or without a mesh"),
            a("joints.build", "Build joints", "Joints", self.build, "Joints from the pegs", "", pegs),
            a("joints.centre", "Centre in mesh", "Joints", self.propose, "Show what stands off its proper depth; again: move it", "", self.need_placed),
            a("joints.next_weak", "Next weak guess", "Joints", self.next_weak, "Pick the next peg to look at", "", self.need_weak),
            a("joints.accept", "It is right", "Joints", self.accept, "The picked peg is right where it is", "", self.need_peg),
            a("joints.even", "Right pegs from left", "Joints", self.even, "Mirror the left side's pegs", "", pegs),
            a("joints.add_kit", "Add a limb kit", "Joints", self.add_kit, "Hang a kit on the picked joint", "", joint),
            a("joints.remove_kit", "Remove the kit", "Joints", self.remove_kit, "What it held goes to what it hung on", "", pegs),
            a("joints.mirror_kit", "Mirror the kit", "Joints", self.mirror_kit, "Its partner on the other side", "", pegs),
            a("joints.attach_kit", "Hang the kit on the picked joint", "Joints", self.attach_kit, "Its pegs stay where they are", "", joint),
            a("joints.insert", "Put a joint in", "Joints", self.insert, "Half way in the bone above the picked joint", "", joint),
            a("joints.split", "Split the bone", "Joints", self.split, "Even pieces of the bone above the picked joint", "", joint),
            a("joints.extend", "Extend", "Joints", self.extend, "A joint at the end of the picked one's bone", "", joint),
            a("joints.delete", "Delete joints", "Joints", self.delete, "Children hang one higher; weights go to the parent", "Del", joint),
            a("joints.delete_branch", "Delete with all below", "Joints", lambda: self.delete(branch=True), "The whole branch", "Ctrl+Del", joint),
            a("joints.duplicate", "Duplicate the branch", "Joints", self.duplicate, "A copy beside it", "Ctrl+D", joint),
            a("joints.mirror", "Mirror the branch", "Joints", self.mirror, "A copy on the other side", "", joint),
            a("joints.float", "Connect or float", "Joints", self.float_, "With or without a cord to its parent", "", joint),
            a("joints.draw", "Draw joints", "Tools", self.draw, "Click to lay a chain; Esc ends it", "J", self.need_character),
            a("axes.aim", "Aim along the bone", "Joints", self.aim, "y axis down the limb", "", joint),
            a("axes.square", "Bend axis square to the limb", "Joints", self.square, "x axis square to the limb's plane", "", joint),
            a("axes.match", "Match axes of the last picked", "Joints", self.match, "The others take its axes", "", joint),
            a("axes.align", "Align the chain", "Joints", self.align, "The picked joint's roll carried down its chain", "", joint),
            a("axes.mirror", "Mirror axes", "Joints", self.mirror_axes, "The other side folds alike", "", joint),
            a("axes.check", "Check axes", "Joints", self.check_axes, "Find crooked axes", "", joints),
            a("axes.mend", "Mend crooked axes", "Joints", self.mend_axes, "Put every crooked axis right", "", joints),
            a("joints.to_pegs", "Back to the pegs", "Joints", self.to_pegs, "Forget moves by hand whose pegs have moved since: of the picked joints, else of all", "", self.need_parted),
            a("joints.keep_moves", "Keep moves by hand", "Joints", self.keep_moves, "They are still meant although the pegs have moved", "", self.need_parted),
            a("rest.t", "T-pose is the rest", "Joints", lambda: self.rest("t"), "Arms straight out, settled", "", joints),
            a("rest.a", "A-pose is the rest", "Joints", lambda: self.rest("a"), "Arms 45 degrees down, settled", "", joints),
            a("rest.first", "The clip's first frame is the rest", "Joints", self.first_frame, "Instead of the bind the file stored", "", joints),
            a("rest.pose", "The pose in hand is the rest", "Joints", lambda: self.rest("pose"), "Points settled as posed", "", joints),
        ]  # fmt: skip
