"""What the joints of a skeleton from elsewhere are in a body: told by how they hang together, names only hint.

Other people's skeletons are called anything. What a range test, a T-pose or a judgement by kind of joint needs to
know is where the limbs are: a limb is what hangs aside of the middle; a leg reaches the floor; upper, lower and end
are where its two longest bones in a row begin and end. The middle between legs and arms is the spine, what goes on
from the arms the neck and head, what goes back from the legs a tail. Joints built here say it by their ids.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.transforms import frame, matrix_quaternion, normalised
from pegloom.core.memo import by_identity
from pegloom.core.skeleton.axes import aim_of, limb_normal
from pegloom.core.skeleton.body_words import LIMBS, NOTHING
from pegloom.core.skeleton.joints import Joint, Origin, Side, Skeleton, side_of_name
from pegloom.core.skeleton.kits import role_in_kit
from pegloom.core.skeleton.names import words_of
from pegloom.core.skeleton.pieces import ASIDE, one_tree, passed_by
from pegloom.core.skeleton.uses import Use, told_uses

UP, FORWARD = np.array([0.0, 1.0, 0.0]), np.array([0.0, 0.0, 1.0])

APART = 0.004
"""Least distance of two twins, as a share of the extent."""
ON_FLOOR = 0.16
"""How high over the lowest joint a leg's end may be, as a share of the height: ankles, and feet lifted in a step."""
ARM = 0.2
"""Least length of an arm or a wing, as a share of the largest extent; what is shorter is an ear or an eye."""
STUB = 0.3
"""A leg's first bone this short beside its second is the hip's, not the thigh."""
CONNECTS = (0.8, 0.6)
"""A leg's first bone is the hip's too where it is at most so long beside its second and so much of it leads aside."""
LEVEL = 0.8
"""Rise of the line from hips to chest over its length under which a body on two legs has wings for arms."""

MANY = 6
"""Joints in the mesh that a body has at least for them to tell its size."""
LEAN = 0.35
"""How deep in the mesh a limb's bones lie at least, in shares of what the thickest of its kind do; along a sheet they do not."""
FLAT = 0.02
"""Depth over extent of a cut-out's skeleton: it folds in its own plane."""

HELPER = re.compile(
    r"twist|roll|helper|\bik\b|target|pole|\bend\b|\bnub\b|effector|control|goal|weapon|shield|\bprop\b|socket|attach|ammo"
)
HEAD = re.compile(r"(?<![a-z])(head|skull)(?![a-z])")
TAIL = re.compile(r"(?<![a-z])tail(?![a-z])")
WING = re.compile(r"wing|feather|pinion")
BLADE = re.compile(r"blade|scapula|shoulder|clavicle|collar")
RUNS = {"snout": re.compile(r"snout|proboscis|(?<!\w )trunk"), "rope": re.compile(r"rope|chain|tentacle")}
THUMB = re.compile(r"thumb|pollex")
BONES = ("upper", "lower", "end")
FINGERS = ("index", "middle", "ring", "little")


@dataclass(frozen=True, eq=False)
class Body:
    """skeleton : the same joints at the same places, called by what they are, with axes as built here would have.

    joint_of : the joint's own id by role. A joint whose part is not known keeps its id.
    """

    skeleton: Skeleton
    joint_of: Mapping[str, str] = field(default_factory=dict)

    @cached_property
    def role_of(self) -> Mapping[str, str]:
        return {joint: role for role, joint in self.joint_of.items()}


@by_identity
def unknown_chains(skeleton: Skeleton) -> tuple[tuple[str, ...], ...]:
    """Chains of a file's joints, three or more in a row, that are no part of what was recognised; the longest first."""
    known = {joint for joint, role in body_of(skeleton).role_of.items() if joint != role}
    rest = [j for j in skeleton.joints if j.origin is Origin.FILE and j.id not in known]
    below: dict[str, list[str]] = {}
    for joint in rest:
        if joint.parent is not None:
            below.setdefault(joint.parent, []).append(joint.id)
    found = []
    for joint in rest:
        if joint.parent is None or not (joint.parent in known or len(below[joint.parent]) > 1):
            continue
        chain = [joint.id]
        while len(below.get(chain[-1], [])) == 1:
            chain.append(below[chain[-1]][0])
        if len(chain) >= 3:
            found.append(tuple(chain))
    return tuple(sorted(found, key=len, reverse=True))


def role_of(skeleton: Skeleton, joint_id: str) -> str:
    """What a joint is in the body; its own id where that is not known."""
    return body_of(skeleton).role_of.get(joint_id, joint_id)


@by_identity
def body_of(skeleton: Skeleton) -> Body:
    """The body a skeleton is; a skeleton built here is told by its own ids."""
    foreign = _from_file(skeleton)
    taken = frozenset(skeleton.index) - frozenset(foreign.index)
    roles = _Finder(foreign, taken).roles() if foreign.joints else {}
    if not roles:
        return Body(skeleton, {joint.id: joint.id for joint in skeleton.joints})
    called = {joint: role for role, joint in roles.items()}
    joints = tuple(
        replace(
            j, id=called.get(j.id, j.id), parent=called.get(j.parent, j.parent) if j.parent else None,
            origin=Origin.KIT if j.id in called else j.origin, role=role_in_kit(called[j.id]) if j.id in called else j.role,
        )
        for j in skeleton.joints
    )
    standard = Skeleton(joints)
    axes = _Axes(standard)
    standard = Skeleton(tuple(axes.put(joint) for joint in joints))
    return Body(standard, {called.get(j.id, j.id): j.id for j in skeleton.joints})


def _from_file(skeleton: Skeleton) -> Skeleton:
    """The joints a file brought, as they hang on each other without what was put in between here, and no helpers.

    Pieces with roots of their own (limbs beside a trunk, a trunk in three), and what hangs on a root far off that only
    carries all, hang on what they stand at.
    """
    uses = told_uses(skeleton)
    helpers = {j for j, use in uses.items() if use is Use.HELPER} | passed_by(skeleton)

    def holder(joint: Joint) -> str | None:
        above = joint.parent
        while above is not None and (above in helpers or skeleton.joint(above).origin is not Origin.FILE):
            above = skeleton.joint(above).parent
        return above

    kept = [replace(j, parent=holder(j)) for j in skeleton.joints if j.origin is Origin.FILE and j.id not in helpers]
    return Skeleton(tuple(one_tree(kept)))


class _Finder:
    """Finds the parts of one skeleton of joints from a file. taken: roles that joints built here have."""

    def __init__(self, skeleton: Skeleton, taken: frozenset[str]) -> None:
        self.skeleton, self.taken = skeleton, taken
        self.words = {j.id: words_of(j.name) for j in skeleton.joints}
        self.children: dict[str | None, list[Joint]] = {}
        for joint in skeleton.joints:
            self.children.setdefault(joint.parent, []).append(joint)
        # What hangs outside the mesh, where that is known, tells neither its floor nor its size.
        inside = np.array([bool(j.thick) for j in skeleton.joints])
        positions = skeleton.positions[inside] if inside.sum() >= MANY else skeleton.positions
        self.size = float(np.ptp(positions, axis=0).max())
        self.floor = float(positions[:, 1].min())
        self.height = max(float(np.ptp(positions[:, 1])), 1e-9)
        # The middle is where the joints that have two alike around them lie; of most skeletons that is x = 0.
        self.middle = float(np.median(positions[:, 0]))
        self.twins = self._twins()
        self.used: dict[str, str] = {}
        # What a person said comes first; what was said to be nothing is passed by.
        self.said = {j.id: j.role for j in skeleton.joints if "." in j.role}
        self.nothing = {j.id for j in skeleton.joints if j.role == NOTHING}

    def roles(self) -> dict[str, str]:
        """Joint id by role."""
        for joint, role in self.said.items():
            self._call(role, joint)
        for joint, role in self.said.items():
            self._around_said(joint, role)
        known = set(self.used.values())
        limbs = self._fleshy([limb for limb in self._limbs() if not known & set(self._chain(limb))])
        legs = {s: sorted((c for c in limbs if self._side(c) == s and self._is_leg(c)), key=self._ahead) for s in "lr"}
        number = max(len(legs["l"]), len(legs["r"]))
        hips = self.used.get("spine.hips") or self._above_said("leg") or (self._held_by(legs, 0) if number else None)
        chest = None
        if number == 2:
            chest = self._held_by(legs, 1)
        elif number >= 3:
            chest = hips
        arms = [c for c in limbs if not self._is_leg(c) and self._is_arm(c, hips)] if number <= 1 else []
        if arms:
            # The pair with the longest reach; what hangs elsewhere on the trunk is a weapon, a cape, a bag.
            reach = {c: self._length(self._chain(c)) for c in arms}
            best = {s: max((c for c in arms if self._side(c) == s), key=reach.__getitem__, default=None) for s in "lr"}
            arms = [c for c in best.values() if c is not None]
            chest = self.skeleton.joint(arms[0]).parent
        chest = self.used.get("spine.chest") or self._above_said("arm") or chest
        self._spine(hips, chest)
        winged = any(WING.search(self.words[j]) for c in arms for j in self._chain(c)) or self._level(hips, chest)
        for limb in arms:
            self._limb("wing" if winged and number == 1 else "arm", limb, "clavicle")
        for s in "lr":
            for k, limb in enumerate(legs[s]):
                kind = f"leg{k + 1}" if number >= 3 else ("leg" if k == 0 else "foreleg")
                self._limb(kind, limb, "blade" if kind == "foreleg" else "hip")
        self._neck(chest, hips)
        self._tail(hips)
        for role, pattern in RUNS.items():
            self._named_run(role, pattern)
        if not legs["l"] and not legs["r"] and not arms:
            self._run()
        return self.used

    def _around_said(self, joint: str, role: str) -> None:
        """What goes with a bone of a limb that a person named: the bones before and after it in its chain."""
        kind, *rest = role.split(".")
        if kind not in LIMBS or rest[-1] not in BONES:
            return
        before = [j for j in self._up(joint)[1:] if self._off(j) and j not in self.nothing]
        chain = [*reversed(before), joint, *self._chain(joint)[1:]]
        start = len(before) - BONES.index(rest[-1])
        for k, bone in enumerate(BONES):
            if 0 <= start + k < len(chain):
                self._call(f"{kind}.{rest[0]}.{bone}", chain[start + k])
        first = {"arm": "clavicle", "wing": "clavicle", "leg": "hip", "foreleg": "blade"}[kind]
        if start > 0:
            self._call(f"{kind}.{rest[0]}.{first}", chain[start - 1])
        if kind == "arm" and 0 <= start + 2 < len(chain):
            self._fingers(rest[0], chain[start + 2])
        elif kind in ("leg", "foreleg") and 0 <= start + 3 < len(chain):
            self._call(f"{kind}.{rest[0]}.toes", chain[start + 3])

    def _above_said(self, kind: str) -> str | None:
        """What in the middle a limb holds on to of which a person named a bone."""
        for joint, role in self.said.items():
            if role.startswith(f"{kind}."):
                return next((j for j in self._up(joint)[1:] if not self._off(j)), None)
        return None

    # What is what

    def _x(self, joint: str) -> float:
        return self.skeleton.joint(joint).position[0] - self.middle

    def _side(self, limb: str) -> str:
        """Of the limb's joint that lies farthest aside."""
        far = max(self._below(limb), key=lambda j: abs(self._x(j)))
        return "l" if self._x(far) > 0 else "r"

    def _ahead(self, limb: str) -> float:
        return self.skeleton.joint(limb).position[2]

    def _below(self, joint: str) -> list[str]:
        found, waiting = [], [joint]
        while waiting:
            here = waiting.pop()
            found.append(here)
            waiting.extend(c.id for c in self.children.get(here, []))
        return found

    def _aside(self, joint: Joint) -> bool:
        return joint.id in self.twins or abs(self._x(joint.id)) > ASIDE * self.size

    def _twins(self) -> set[str]:
        """Joints that hang with a mirrored one on the same joint, or tell their side by name, and all below them."""
        found: set[str] = set()
        for joint in self.skeleton.joints:
            if joint.parent in found or (side_of_name(joint.name) is not Side.CENTRE and self._x(joint.id) != 0.0):
                found.add(joint.id)
                continue
            for other in self.children.get(joint.parent, []):
                gap = np.abs(np.array(joint.position) - np.array(other.position))
                across = abs(self._x(joint.id) + self._x(other.id))
                near = max(across, gap[1], gap[2]) < ASIDE * self.size
                if near and gap[0] > APART * self.size and self._x(joint.id) * self._x(other.id) < 0:
                    found.add(joint.id)
        return found

    def _limbs(self) -> list[str]:
        """Joints aside of the middle that hang on one in the middle, with what hangs on them."""
        found = []
        for joint in self.skeleton.joints:
            if joint.parent is None or not self._aside(joint):
                continue
            if joint.id in self.nothing or HELPER.search(self.words[joint.id]) or self._aside(self.skeleton.joint(joint.parent)):
                continue
            if len(self._chain(joint.id)) >= 2 or joint.tail is not None:
                found.append(joint.id)
        return found

    def _fleshy(self, limbs: list[str]) -> list[str]:
        """Limbs without what runs along a sheet of cloth, through feathers or outside the mesh, where that is known.

        Legs are held against the thickest of legs and the others against the thickest of those that reach as far as an arm:
        of a body that has thin limbs alone they are its limbs.
        """
        flesh = {limb: self._flesh(limb) for limb in limbs}
        result = []
        for limb in limbs:
            own = flesh[limb]
            alike = [
                f for other, f in flesh.items()
                if f is not None and self._is_leg(other) == self._is_leg(limb) and self._length(self._chain(other)) > ARM * self.size
            ]  # fmt: skip
            if own is None or not alike or own >= LEAN * max(alike):
                result.append(limb)
        return result

    def _flesh(self, limb: str) -> float | None:
        """How deep the middle of a limb's bones lies in the mesh; None where that is not known."""
        known = [thick for j in self._chain(limb)[:-1] if (thick := self.skeleton.joint(j).thick) is not None]
        return float(np.median(known)) if known else None

    def _chain(self, joint: str) -> list[str]:
        """The joints from one down the longest way below it, helpers passed by."""
        chain = [joint]
        while True:
            below = [
                c for c in self.children.get(chain[-1], [])
                if not HELPER.search(self.words[c.id]) and c.id not in self.nothing
            ]  # fmt: skip
            if not below:
                return chain
            chain.append(max(below, key=lambda c: self._reach(c.id)).id)

    def _reach(self, joint: str) -> float:
        """How far the way below a joint goes, its own bone from its parent included."""
        parent = self.skeleton.joint(joint).parent
        own = float(np.linalg.norm(self._at(joint) - self._at(parent))) if parent else 0.0
        return own + max((self._reach(c.id) for c in self.children.get(joint, [])), default=0.0)

    def _at(self, joint: str) -> FloatArray:
        return np.array(self.skeleton.joint(joint).position)

    def _end(self, joint: str) -> FloatArray:
        """Where a joint's own bone ends: its tail, else a little farther on the way it came."""
        own = self.skeleton.joint(joint)
        if own.tail is not None:
            return np.array(own.tail)
        before = self._at(own.parent) if own.parent else self._at(joint)
        return self._at(joint) + 0.5 * (self._at(joint) - before)

    def _length(self, chain: list[str]) -> float:
        return float(sum(np.linalg.norm(self._at(b) - self._at(a)) for a, b in zip(chain, chain[1:], strict=False)))

    def _is_leg(self, limb: str) -> bool:
        """Whether a limb comes down to the floor."""
        lowest = min(min(self._at(j)[1] for j in self._chain(limb)), self._end(self._chain(limb)[-1])[1])
        drop = self._at(limb)[1] - lowest
        return bool(lowest < self.floor + ON_FLOOR * self.height and drop > 0.2 * self.height)

    def _is_arm(self, limb: str, hips: str | None) -> bool:
        parent = self.skeleton.joint(limb).parent
        above = parent is not None and (hips is None or parent == hips or self._under(parent, hips))
        on_head = parent is not None and bool(HEAD.search(self.words[parent]))
        return above and not on_head and self._length(self._chain(limb)) > ARM * self.size

    def _under(self, joint: str, other: str) -> bool:
        """Whether a joint hangs, however far, on another."""
        here: str | None = joint
        while here is not None:
            if here == other:
                return True
            here = self.skeleton.joint(here).parent
        return False

    def _held_by(self, legs: Mapping[str, list[str]], k: int) -> str | None:
        """What the k-th pair of legs hangs on."""
        return next((self.skeleton.joint(legs[s][k]).parent for s in "lr" if len(legs[s]) > k), None)

    def _level(self, hips: str | None, chest: str | None) -> bool:
        if hips is None or chest is None or hips == chest:
            return False
        line = normalised(self._at(chest) - self._at(hips))
        return bool(line[1] < LEVEL and line[2] > 0)

    # Names

    def _call(self, role: str, joint: str) -> None:
        if joint not in self.used.values() and role not in self.used and role not in self.taken:
            self.used[role] = joint

    def _up(self, joint: str) -> list[str]:
        """The joint and all above it, the topmost last."""
        found, here = [], joint
        while True:
            found.append(here)
            parent = self.skeleton.joint(here).parent
            if parent is None:
                return found
            here = parent

    def _spine(self, hips: str | None, chest: str | None) -> None:
        if hips is None:
            if chest is not None:
                self._call("spine.chest", chest)
            return
        if chest is None or chest == hips:
            self._call("spine.hips", hips)
            return
        over_hips, over_chest = self._up(hips), self._up(chest)
        common = next((j for j in over_hips if j in over_chest), None)
        if common is None:
            return
        # Of most, the chest hangs on the hips; of some, both hang on what lies between.
        self._call("spine.hips" if common == hips else "spine.body", common)
        way = [j for j in reversed(over_chest[: over_chest.index(common)]) if not HELPER.search(self.words[j])]
        for k, joint in enumerate(way):
            last = k == len(way) - 1
            self._call("spine.chest" if last else ("spine.spine" if k == 0 else f"spine.spine{k + 1}"), joint)
        for k, joint in enumerate(reversed(over_hips[: over_hips.index(common)])):
            self._call(f"spine.rear{k + 1}", joint)

    def _limb(self, kind: str, limb: str, first: str) -> None:
        chain, s = self._chain(limb), self._side(limb)
        bones = [float(np.linalg.norm(self._at(b) - self._at(a))) for a, b in zip(chain, chain[1:], strict=False)]
        start = 0
        if kind in ("arm", "wing") and len(bones) >= 2:
            start = int(np.argmax([a + b + min(a, b) for a, b in zip(bones, bones[1:], strict=False)]))
        elif len(bones) >= 3:
            blade = kind == "foreleg" and (len(bones) >= 4 or BLADE.search(self.words[chain[0]]) is not None)
            aside = abs(float((self._at(chain[1]) - self._at(chain[0]))[0])) / max(bones[0], 1e-12)
            short, sideways = CONNECTS
            connects = kind != "foreleg" and bones[0] < short * bones[1] and aside > sideways
            start = 1 if blade or connects or bones[0] < STUB * bones[1] else 0
        for role, k in (("upper", start), ("lower", start + 1), ("end", start + 2)):
            if k < len(chain):
                self._call(f"{kind}.{s}.{role}", chain[k])
        if start > 0:
            self._call(f"{kind}.{s}.{first}", chain[start - 1])
        if start + 3 < len(chain) and kind in ("leg", "foreleg"):
            self._call(f"{kind}.{s}.toes", chain[start + 3])
        if kind == "arm" and start + 2 < len(chain):
            self._fingers(s, chain[start + 2])

    def _fingers(self, s: str, hand: str) -> None:
        runs = [self._chain(c.id) for c in self.children.get(hand, []) if not HELPER.search(self.words[c.id])]
        runs = [r for r in runs if self._length([hand, *r]) > 1e-6]
        # A palm bone between the hand and its fingers.
        if len(runs) == 1 and len(self.children.get(runs[0][0], [])) > 2:
            self._fingers(s, runs[0][0])
            return
        thumbs = [r for r in runs if THUMB.search(self.words[r[0]])]
        if not thumbs and len(runs) > 2:
            # The one that sets off nearest to the wrist.
            thumbs = [min(runs, key=lambda r: float(np.linalg.norm(self._at(r[0]) - self._at(hand))))]
        others = sorted((r for r in runs if r not in thumbs), key=lambda r: -self._at(r[0])[2])
        named = [("thumb", thumbs[0])] if thumbs else []
        named += list(zip(FINGERS, others, strict=False))
        for finger, run in named:
            for k, joint in enumerate(run, 1):
                self._call(f"hand.{s}.{finger}.{k}", joint)

    def _neck(self, chest: str | None, hips: str | None) -> None:
        start = chest or hips
        if start is None:
            return
        candidates = [j for j in self._below(start) if j not in self.used.values() and not self._off(j)]
        named = [j for j in candidates if HEAD.search(self.words[j]) and not HELPER.search(self.words[j])]
        if named:
            head = min(named, key=lambda j: len(self._up(j)))
        else:
            ways = [
                self._chain(c.id) for c in self.children.get(start, []) if c.id in candidates and not self._off(c.id)
            ]
            ways = [w for w in ways if (self._at(w[-1]) - self._at(start)) @ (UP + FORWARD) > 0]
            if not ways:
                return
            way = max(ways, key=self._length)
            # Where ears, eyes and a jaw set off is the head.
            head = next((j for j in way if len(self.children.get(j, [])) > 1), way[-1])
        self._call("spine.head", head)
        neck = [j for j in self._up(head)[1:] if j not in self.used.values() and self._under(j, start)]
        if len(neck) == 1:
            self._call("spine.neck", neck[0])
        for k, joint in enumerate(reversed(neck), 1):
            self._call(f"neck.{k}", joint)

    def _off(self, joint: str) -> bool:
        return self._aside(self.skeleton.joint(joint))

    def _tail(self, hips: str | None) -> None:
        tails = [j.id for j in self.skeleton.joints if TAIL.search(self.words[j.id]) and not self._off(j.id)]
        if not tails and hips is not None:
            back = [c.id for c in self.children.get(hips, []) if not self._off(c.id) and c.id not in self.used.values()]
            back = [j for j in back if (self._at(self._chain(j)[-1]) - self._at(hips))[2] < -0.1 * self.size]
            tails = back[:1]
        tails = [j for j in tails if j not in self.used.values()]
        if tails:
            first = max(tails, key=lambda j: self._length(self._chain(j)))
            for k, joint in enumerate(self._chain(first), 1):
                self._call(f"tail.{k}", joint)

    def _named_run(self, role: str, pattern: re.Pattern[str]) -> None:
        found = [j.id for j in self.skeleton.joints if pattern.search(self.words[j.id])]
        if found:
            first = max(found, key=lambda j: self._length(self._chain(j)))
            for k, joint in enumerate((j for j in self._chain(first) if j in found), 1):
                self._call(f"{role}.{k}", joint)

    def _run(self) -> None:
        """A serpent, a rope: the longest way without a branch, from its second joint on."""
        tops = [j.id for j in self.skeleton.joints if j.parent is None]
        starts = [c.id for j in self.skeleton.joints if len(below := self.children.get(j.id, [])) > 1 for c in below]
        runs = []
        for start in (*tops, *starts):
            run = [start]
            while len(self.children.get(run[-1], [])) == 1:
                run.append(self.children[run[-1]][0].id)
            runs.append(run[1:] if start in tops else run)
        if runs:
            longest: list[str] = max(runs, key=lambda run: self._length(run))
            for k, joint in enumerate(longest, 1):
                self._call(f"body.{k}", joint)


class _Axes:
    """Axes as a skeleton built here has them: y down the bone, x the bend axis."""

    def __init__(self, standard: Skeleton) -> None:
        self.standard = standard
        self.palms = {s: palm_of(standard, s) for s in "lr"}
        span = np.ptp(standard.positions, axis=0) if standard.joints else np.ones(3)
        self.flat = bool(span[2] < FLAT * span.max())

    def put(self, joint: Joint) -> Joint:
        if joint.origin is Origin.OWN:
            return joint
        aim = self._aim(joint)
        x, y, z, w = matrix_quaternion(frame(aim, self._bend(joint, aim))).tolist()
        return replace(joint, rotation=(x, y, z, w))

    def _aim(self, joint: Joint) -> FloatArray:
        following = {"upper": "lower", "lower": "end", "end": "toes"}
        stem, _, last = joint.id.rpartition(".")
        child = f"{stem}.{following.get(last, '')}"
        if last in ("clavicle", "blade", "hip"):
            child = f"{stem}.upper"
        if child in self.standard.index:
            line = np.array(self.standard.joint(child).position) - np.array(joint.position)
            if np.linalg.norm(line) > 1e-9:
                return normalised(line)
        aim = aim_of(self.standard, joint)
        if aim is None and joint.parent is not None:
            above = self.standard.joint(joint.parent)
            line = np.array(joint.position) - np.array(above.position)
            aim = normalised(line) if np.linalg.norm(line) > 1e-9 else None
        return aim if aim is not None else UP

    def _bend(self, joint: Joint, aim: FloatArray) -> FloatArray:
        """The way a limb's lower end goes when it folds decides its bend axis; a clear bend at rest says it best."""
        stem, _, last = joint.id.rpartition(".")
        kind = stem.split(".")[0]
        folds: FloatArray | None = None
        if kind == "arm" and last == "end":
            folds = self.palms[stem.split(".")[1]][0]
        elif kind in ("arm", "foreleg", "wing"):
            folds = FORWARD
        elif kind.startswith("leg"):
            folds = -FORWARD
        elif kind == "hand":
            palm, across = self.palms[stem.split(".")[1]]
            folds = normalised(palm + across) if ".thumb" in stem else palm
        if self.flat:
            return FORWARD
        if folds is None:
            return np.array([1.0, 0.0, 0.0])
        axis = np.cross(aim, folds)
        if np.linalg.norm(axis) < 0.1:
            axis = np.cross(aim, UP if kind != "hand" else FORWARD)
        normal = limb_normal(self.standard, joint) if last == "lower" else None
        return normal if normal is not None and float(normal @ axis) > 0 else np.asarray(axis)


def palm_of(standard: Skeleton, s: str) -> tuple[FloatArray, FloatArray]:
    """The way a palm faces and the way across it, away from the thumb.

    standard : called as one built here.
    s : l or r.
    """
    side = 1.0 if s == "l" else -1.0
    hand = standard.index.get(f"arm.{s}.end")
    down = np.array([-0.5 * side, -1.0, 0.0])
    first, last = (standard.index.get(f"hand.{s}.{f}.1") for f in ("index", "little"))
    last = last if last is not None else standard.index.get(f"hand.{s}.middle.1")
    if hand is None:
        return normalised(down), -FORWARD
    lower = standard.index.get(f"arm.{s}.lower")
    at = standard.positions
    along = normalised(at[hand] - at[lower]) if lower is not None else np.array([side, 0.0, 0.0])
    across = -FORWARD
    if first is not None and last is not None:
        across = normalised(at[last] - at[first])
    palm = np.cross(along, across)
    if np.linalg.norm(palm) < 0.2:
        palm = down - along * float(down @ along)
    palm = normalised(palm)
    return (palm if float(palm @ down) > 0 else -palm), across
