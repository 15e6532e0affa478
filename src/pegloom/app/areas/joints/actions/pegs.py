"""Pegs: found, laid out, centred, looked at one by one, built into joints."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from pegloom.app.actions.action import Action, Need
from pegloom.app.actions.needs import CHARACTER, PEG_PICKED, WITH_PEGS
from pegloom.app.areas.joints.actions.changing import change, lead_name
from pegloom.app.areas.joints.settings import AS_SEEN, AUTO, PatternSettings
from pegloom.app.context import Context
from pegloom.core.jobs import Progress
from pegloom.core.said import counted
from pegloom.core.skeleton.patterns import free_pegs
from pegloom.core.skeleton.patterns import pattern as shipped_pattern
from pegloom.core.skeleton.pegs import PegSet, toes_of
from pegloom.document import edits
from pegloom.document.model import Character, Document
from pegloom.files.patterns import pattern_named


def _instead_of_the_files(c: Context) -> bool | None:
    """Whether a whole body's pegs take the place of a skeleton the file brought: None where there is none."""
    character = c.state.character
    if character is None or character.adopted is None or (character.pegs is not None and character.pegs.pattern):
        return None
    count = len(character.adopted.joints)
    return c.ask.confirm(
        f"The file brought a skeleton of {counted(count, 'joint')}. Build another one from pegs in its place? Its weights, "
        "controls and clips go with it; one undo brings all of it back. (To add ears, a tail or fingers to it, "
        "add a limb kit to one of its joints instead.)",
        yes="Build another one", no="Keep the file's skeleton",
    )


def _keep_placed(c: Context) -> bool | None:
    """Whether pegs placed by hand stay in a new search; asked where there are any. None for no search at all."""
    pegs = c.state.character.pegs if c.state.character is not None else None
    placed = sum(p.by_hand for p in pegs.pegs) if pegs is not None else 0
    if not placed:
        return True
    ones = "the peg" if placed == 1 else f"the {counted(placed, 'peg')}"
    options = [f"Keep {ones} placed by hand, find the others", "Find all of them anew"]
    number = c.ask.one_of("Some pegs were placed by hand", options)
    return None if number < 0 else number == 0


def set_fingers(c: Context, fingers: int) -> None:
    """Another number of fingers; all else stays."""
    pegs = c.state.character.pegs if c.state.character is not None else None
    if pegs is None or pegs.fingers == fingers:
        return
    change(
        c, f"{fingers} fingers a hand" if fingers else "No fingers", lambda d: edits.set_fingers(d, fingers),
        lambda _: c.say(f"{fingers} fingers a hand; all other pegs stay" if fingers else "Hands without fingers"),
    )  # fmt: skip


def set_toes(c: Context, toes: int) -> None:
    """Another number of single toes on each foot; all else stays."""
    pegs = c.state.character.pegs if c.state.character is not None else None
    if pegs is None or toes_of(pegs) == toes:
        return
    change(
        c, f"{toes} single toes a foot" if toes else "No single toes", lambda d: edits.set_toes(d, toes),
        lambda _: c.say(f"{toes} single toes a foot; all other pegs stay" if toes else "Feet without single toes"),
    )  # fmt: skip


def find_pegs(c: Context) -> None:
    instead = _instead_of_the_files(c)
    if instead is False:
        c.say("The file's skeleton stays")
        return
    keep = _keep_placed(c)
    if keep is None:
        c.say("The pegs stay as they are")
        return
    chosen = c.state.settings.of(PatternSettings)
    fingers, pairs = None if chosen.fingers == AS_SEEN else chosen.fingers, chosen.pairs or None

    def edit(document: Document, progress: Progress) -> object:
        document = edits.start_clean(document) if instead else document
        character = document.require_character()
        if character.standing is None and character.skeleton is None and character.parts:
            progress(0.02, "standing the mesh up")
            document = edits.stand_up(document)
        if chosen.pattern == AUTO and character.parts:
            progress(0.1, "looking what body it is")
            plan = shipped_pattern(edits.guess_plan(document))
        else:
            plan = pattern_named("human" if chosen.pattern == AUTO else chosen.pattern)
        found = edits.find_pegs_again(
            document, keep_placed=keep, plan=plan, fingers=fingers, pairs=pairs, progress=progress
        )
        return found, plan.title

    def then(title: str) -> None:
        pegs = c.character.require_pegs()
        weak = sum(p.weak for p in pegs.pegs)
        word = f"{title}: {counted(len(pegs.pegs), 'peg')} placed"
        kept = sum(p.by_hand for p in pegs.pegs)
        word += f", {kept} of them where you put them" if kept else ""
        word += f", {weak} of them weak guesses; look at those with a ring" if weak else ""
        c.say(word + _not_even(pegs))

    c.job(lambda title: f"Find pegs, {title.lower()}", edit, title="Finding pegs", then=then)


def _not_even(pegs: PegSet) -> str:
    """Which pairs were left apart, for the note."""
    apart = pegs.pairs_apart
    if not apart:
        return ""
    named = ", ".join(apart[:4]) + (f" and {len(apart) - 4} more" if len(apart) > 4 else "")
    return f". The body is not even there: {named} stand apart, each side where it was found"


def lay_out(c: Context) -> None:
    """A pattern without looking at the mesh, or without a mesh at all."""
    chosen = c.state.settings.of(PatternSettings)
    plan = pattern_named(chosen.pattern if chosen.pattern != AUTO else "human")
    instead = _instead_of_the_files(c)
    if instead is False:
        c.say("The file's skeleton stays")
        return
    fingers, pairs = 5 if chosen.fingers == AS_SEEN else chosen.fingers, chosen.pairs or None
    if c.state.character is None:
        result = Character("character0", f"{plan.title} without a mesh")
        c.store.start_with(replace(Document(), characters=(result,), name=plan.title), None)
        c.go("joints")
    character = c.character
    height = character.height if character.parts else (1.7 if plan.finder == "human" else 1.0)
    pegs = free_pegs(plan, height=height, fingers=fingers, pairs=pairs, confidence=0.6 if not character.parts else 0.3)

    def then(_: object) -> None:
        c.say("Pegs at their usual places; drag them, or find them once there is a mesh")
        c.view.show_all()

    c.try_edit(
        f"Lay out {plan.title.lower()}",
        lambda d: edits.lay_pegs(edits.start_clean(d) if instead else d, pegs),
        then,
    )


def build(c: Context) -> None:
    change(
        c, "Build joints", edits.build_joints,
        lambda _: c.say(f"{counted(len(c.skeleton.joints), 'joint')} built; next: Weights (3)"),
    )  # fmt: skip


def propose(c: Context) -> None:
    """Show what centring would move; a second press does it. Pegs, and joints no peg stands for."""
    character, document, picked = c.character, c.store.history.present, c.state.selection
    both = c.state.hand.both_sides
    names: tuple[str, ...] | None = None
    joints: tuple[str, ...] | None = None
    if picked.kind == "peg":
        names, joints = picked.ids, ()
    elif picked.kind == "joint":
        names, joints = (), picked.ids
        if not edits.free_joints(character) & set(joints) and not edits.proposed_joint_depths(document, joints):
            c.say(f"{lead_name(c)} stands where its pegs say: pick its peg to centre it", error=True)
            return
    moves = list(edits.proposed_depths(document, names)) if character.pegs is not None and names != () else []
    of_joints = list(edits.proposed_joint_depths(document, joints)) if character.skeleton and joints != () else []
    if both:
        # What goes along on the other side is shown as well: nothing is moved that was not shown.
        moves = list(edits.with_partners(document, tuple(moves))) if moves else moves
        of_joints = list(edits.with_partners(document, tuple(of_joints), joints=True)) if of_joints else of_joints
    count = len(moves) + len(of_joints)
    if not count:
        c.store.put(moves=())
        c.say("All stand at their proper depth" if names is None else "It stands at its proper depth")
        return
    if len(c.state.viewing.moves) == count:
        c.store.put(moves=())

        def edit(d: Document) -> Document:
            if moves:
                d = edits.centre_in_mesh(d, names, both_sides=both)
            return edits.centre_joints(d, joints, both_sides=both) if of_joints else d

        c.try_edit(f"Centre {count} in the mesh", edit)
        return
    shown = [(character.pegs.position(m.peg), m.place) for m in moves if character.pegs is not None]
    shown += [(c.skeleton.joint(m.peg).position, m.place) for m in of_joints]
    c.store.put(moves=tuple((np.array(a), np.array(b)) for a, b in shown))
    worst = max([*moves, *of_joints], key=lambda m: m.distance)
    name = worst.peg if worst in moves else c.skeleton.joint(worst.peg).name
    c.say(
        f"{count} would move, {name.replace('_', ' ')} by {100 * worst.distance:.1f} cm ({worst.why}). "
        "Press again to do it"
    )


def even(c: Context) -> None:
    c.try_edit("Right side's pegs from the left", edits.even_pegs)


# Weak guesses, one after the other


def _weak(character: Character | None) -> list[str]:
    return [p.name for p in character.pegs.pegs if p.weak] if character is not None and character.pegs is not None else []


def next_weak(c: Context) -> None:
    """Pick the weak guess after the picked peg and bring it into the middle."""
    order = [peg.name for peg in c.character.require_pegs().pegs]
    lead = c.state.selection.lead if c.state.selection.kind == "peg" else ""
    start = order.index(lead) + 1 if lead in order else 0
    weak = set(_weak(c.state.character))
    c.store.select("peg", next(name for name in order[start:] + order[:start] if name in weak))
    c.view.show_selection()


def accept(c: Context) -> None:
    """The picked peg is right where it is; on to the next weak guess."""
    lead, both = c.state.selection.lead, c.state.hand.both_sides
    words = lead.replace("_", " ")
    if not c.try_edit(f"{words} is right", lambda d: edits.accept_peg(d, lead, both_sides=both)):
        return
    left = len(_weak(c.state.character))
    if left:
        next_weak(c)
    c.say(f"{words} is right; " + (f"{left} more weak guesses" if left else "no weak guess is left"))


SOME_WEAK = Need("weak peg", "No peg is a weak guess any more", lambda s: bool(_weak(s.character)))
PLACED = Need(
    "placed", "Find pegs or draw joints first",
    lambda s: s.character is not None and (s.character.pegs is not None or s.character.skeleton is not None),
    "joints.find_pegs",
)  # fmt: skip

ACTIONS = (
    Action("joints.find_pegs", "Find pegs", "Joints", "Look for the landmarks in the mesh", find_pegs, needs=(Need("mesh to look in", "Open a mesh first (Ctrl+O), or lay out a pattern without one", lambda s: s.character is not None, "joints.lay_out"),)),
    Action("joints.lay_out", "Lay out the pattern", "Joints", "Pegs at their usual places, with or without a mesh", lay_out),
    Action("joints.build", "Build joints", "Joints", "Joints from the pegs", build, needs=WITH_PEGS),
    Action("joints.centre", "Centre in mesh", "Joints", "Show what stands off its proper depth; again: move it", propose, needs=(CHARACTER, PLACED)),
    Action("joints.next_weak", "Next weak guess", "Joints", "Pick the next weak guess", next_weak, needs=(*WITH_PEGS, SOME_WEAK)),
    Action("joints.accept", "Accept peg", "Joints", "The picked peg is right where it is", accept, needs=(*WITH_PEGS, PEG_PICKED)),
    Action("joints.even", "Mirror pegs, left to right", "Joints", "Mirror the left side's pegs", even, needs=WITH_PEGS),
)  # fmt: skip
