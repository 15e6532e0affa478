"""The pose in the view and what it looks like, worked out where it is first asked for and kept until it changes."""

from __future__ import annotations

import time as clock
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from pegloom.app.state.hiding import HIDDEN_CONTROL, hidden_control
from pegloom.app.state.state import CAPTURE, RANGE_TEST, SCENE, TRIAL_FRAMES, State
from pegloom.app.state.store import Store
from pegloom.core.arrays import FloatArray
from pegloom.core.memo import by_identity
from pegloom.core.motion.clips import Clip, sample
from pegloom.core.motion.follow_through import TICK, has_springs, track_of
from pegloom.core.motion.trials import trial_amount, trials_of
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.rig.kernels.walk import SETTLED
from pegloom.core.rig.outputs import PART
from pegloom.core.rig.pose import JointPose, Pose, Shown
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.quality import bones_at, gauge_of
from pegloom.document import edits
from pegloom.document.evaluate import PosedFrame, evaluate
from pegloom.document.model import Character, Part
from pegloom.document.world import clip_of, played_in, swapped_out, world_of
from pegloom.scene.camera import Placed, placed_by
from pegloom.scene.drawing import reach_lines
from pegloom.scene.live_springs import LiveSprings


@dataclass(frozen=True, slots=True, eq=False)
class Beside:
    """A figure that is not in hand, as it stands in the space of the one that is.

    frame : in its own space. matrix (4, 4) : hand_from_own. points (n, 3) : of its parts by id, in the space of the one in hand.
    """

    character: Character
    frame: PosedFrame
    matrix: FloatArray
    points: Mapping[str, FloatArray]

    @property
    def joints(self) -> FloatArray:
        """(j, 4, 4) in the space of the one in hand."""
        return self.matrix @ self.frame.joints

    @property
    def places(self) -> list[FloatArray]:
        """Arrays (n, 3) of what shows where it is."""
        return [p for p in self.points.values() if len(p)] or [self.joints[:, :3, 3]]

    @property
    def parts(self) -> tuple[Part, ...]:
        """Those that show."""
        return tuple(p for p in self.character.at_level(0) if f"{PART}{p.id}" not in self.frame.unseen)


NOBODY: tuple[Beside, ...] = ()
REST = Pose()
SAMPLES = 12
"""Frames of a clip that are asked how far its joints come."""
Known = tuple[Character, Shown, FloatArray, PosedFrame]
"""What a character looks like in a pose and a state of what follows through, kept with them."""
SWINGS_ON = 5.0
"""Seconds that follow-through goes on after something was let go: what nothing damps would never come to rest."""
AT_ONCE = 0.03
"""Seconds that are spent on follow-through for one frame; what takes longer shows stiff meanwhile."""


class Frames:
    """`pose` is what is shown, `frame` what it looks like; `other` and `other_frame` what stands right of the seam."""

    def __init__(self, store: Store) -> None:
        self.store = store
        self._pose: tuple[tuple[object, ...], Shown] | None = None
        self._frame: Known | None = None
        self._other_frame: Known | None = None
        self._other: tuple[Character, str, Character] | None = None
        self._sprung: tuple[object, object, float, FloatArray] | None = None
        self.captured: JointPose | None = None
        self._held = 0.0
        """When something was dragged last, by the clock on the wall."""
        self.live: LiveSprings | None = None
        """Follow-through while something is dragged, and until it hangs still again."""
        self._others: dict[str, tuple[Known, float]] = {}
        self._worlds: tuple[object, object, float, dict[str, FloatArray]] | None = None
        self._placed: tuple[FloatArray, Placed | None] | None = None
        self._beside: dict[str, Beside] = {}
        self._late = self._others_late = False

    @property
    def pose(self) -> Shown:
        """The pose in the view."""
        state, character = self.store.state, self.store.state.character
        if character is None or state.at_rest:
            return REST
        source = state.clock.source
        if source == CAPTURE and self.captured is not None:
            return self.captured
        if not source or source == CAPTURE:
            return character.pose
        # Where all play, what it plays and from when on is told by the character itself.
        whole = character if source == SCENE else None
        key = (character.skeleton, character.rig, character.pose, source, state.clip, state.kept_pose, state.draft_pose, whole)
        if self._pose is None or self._pose[0][-1] != state.clock.time or any(
            a is not b for a, b in zip(key, self._pose[0], strict=False)
        ):
            self._pose = ((*key, state.clock.time), pose_at(state, state.clock.time))
        return self._pose[1]

    def take_capture(self, character: Character, pose: JointPose, frame: PosedFrame) -> None:
        """Show a frame of a live performance, whose points are worked out already."""
        self.captured, self._frame = pose, (character, pose, SETTLED, frame)

    @property
    def control_pose(self) -> Pose:
        """The pose of the controls in the view: what an edit of the pose begins with."""
        pose, character = self.pose, self.store.state.character
        if isinstance(pose, Pose) and not self.store.state.at_rest:
            return pose
        return edits.posed(character) if character is not None else REST

    def frame(self) -> PosedFrame | None:
        """What the view shows; None where nothing is open."""
        character = self.store.state.character
        if character is None:
            return None
        self._frame = _evaluated(self._frame, character, self.pose, self._springs(character))
        return self._frame[3]

    # The other figures

    @property
    def together(self) -> bool:
        """Whether the other figures of the document are in the view, too: where one poses and plays."""
        state = self.store.state
        return len(state.document.characters) > 1 and not state.at_rest and not state.weighing

    def worlds(self) -> Mapping[str, FloatArray]:
        """Where each figure stands just now: world_from_figure (4, 4) by id."""
        state = self.store.state
        document, time, here, active = state.document, state.common_time, self.frame(), state.character
        known = self._worlds
        if known is not None and known[0] is document and known[1] is here and known[2] == time:
            return known[3]

        def joints_of(character: Character) -> FloatArray:
            if character is active and here is not None:
                return here.joints
            return self._other_known(character, time)[3].joints

        self._worlds = (document, here, time, world_of(document, time, joints_of))
        return self._worlds[3]

    @property
    def placed(self) -> Placed | None:
        """Where the figure in hand stands, as a camera keeps it; None where it is alone in the view."""
        character = self.store.state.character
        if character is None or not self.together:
            return None
        matrix = self.worlds()[character.id]
        if self._placed is None or self._placed[0] is not matrix:
            self._placed = (matrix, placed_by(matrix))
        return self._placed[1]

    def _other_known(self, character: Character, time: float) -> Known:
        known, clip = self._others.get(character.id), clip_of(character)
        if known is not None and known[0][0] is character and (clip is None or known[1] == time):
            return known[0]
        own = character.figure.own_time(time, clip.length) if clip is not None else 0.0
        pose = character.pose if clip is None else sample(clip, own, character.skeleton, character.pose, character.rig)
        swings = self._swings(character, clip, own)
        found = (character, pose, SETTLED if swings is None else swings, evaluate(character, pose, SETTLED if swings is None else swings))
        # What hangs still until its follow-through is worked out is asked for again.
        self._others[character.id] = (found, np.nan if swings is None else time)
        return found

    def others(self) -> tuple[Beside, ...]:
        """The other figures that are seen, where they stand beside the one in hand."""
        state, active = self.store.state, self.store.state.character
        if active is None or not self.together:
            return NOBODY
        worlds, time = self.worlds(), state.common_time
        back = np.linalg.inv(worlds[active.id])
        found, here = [], self.frame()
        shown = [c for c in state.document.characters if c.id != active.id and c.figure.shown]
        frames = [self._other_known(c, time)[3] for c in shown]
        away = swapped_out([*frames, here] if here is not None else frames)
        for character in shown:
            if character.id in away:
                continue
            frame, matrix, before = self._other_known(character, time)[3], back @ worlds[character.id], self._beside.get(character.id)
            if before is None or before.frame is not frame or not np.array_equal(before.matrix, matrix):
                points = {part: p @ matrix[:3, :3].T + matrix[:3, 3] for part, p in frame.points.items()}
                self._beside[character.id] = before = Beside(character, frame, matrix, points)
            found.append(before)
        self._others_late = any(np.isnan(self._others[one.character.id][1]) for one in found)
        return tuple(found)

    def _springs(self, character: Character) -> FloatArray:
        """What the springs remember in the frame that is shown; empty where they hang still."""
        state, rig, skeleton = self.store.state, character.rig, character.skeleton
        self._late = False
        if rig is None or skeleton is None or not rig.springs or state.at_rest or not isinstance(self.pose, Pose):
            self.live = None
            return SETTLED
        if state.clock.source == SCENE:
            self.live = None
            clip = clip_of(character)
            return self._of_clip(character, clip, character.figure.own_time(state.clock.time, clip.length)) if clip is not None else SETTLED
        if state.clock.source:
            self.live = None
            return self._of_clip(character, state.clip, state.clock.time)
        if self.live is not None and self.live.rig is not rig:
            self.live = None
        pose = character.pose
        if not isinstance(pose, Pose):
            return SETTLED
        if self.live is None:
            if not state.dragging:
                return SETTLED
            before = edits.posed(self.store.history.present.require_character())
            self.live = LiveSprings(skeleton, rig, before, clock.monotonic())
        now = clock.monotonic()
        found = self.live.at(pose, now)
        self._held = now if state.dragging else self._held
        if not state.dragging and (self.live.still or now - self._held > SWINGS_ON):
            self.live = None
            return SETTLED
        return found

    def _swings(self, character: Character, clip: Clip | None, time: float) -> FloatArray | None:
        """What follows through in a clip at a time; None where that is not worked out yet."""
        if clip is None or not has_springs(character.skeleton, character.rig, clip):
            return SETTLED
        assert character.skeleton is not None and character.rig is not None
        track = track_of(character.skeleton, character.rig, clip, edits.posed(character))
        return track.at(time) if track.go_on(time + 2 * TICK, AT_ONCE) else None

    def _of_clip(self, character: Character, clip: Clip | None, time: float) -> FloatArray:
        """The same for the character in hand, the same array for the same moment; it shows stiff meanwhile."""
        if self._sprung is not None and self._sprung[0] is character and self._sprung[1] is clip and self._sprung[2] == time:
            return self._sprung[3]
        found = self._swings(character, clip, time)
        if found is None:
            self._late = True
            return SETTLED
        self._sprung = (character, clip, time, found)
        return found

    @property
    def behind(self) -> bool:
        """Whether follow-through of a figure in the view is not worked out up to the frame that is shown."""
        return self._late or (self._others_late and self.together)

    @property
    def unseen(self) -> frozenset[str]:
        """Controls neither drawn nor picked just now, `control:` and their ids: hidden by a channel, in the view, or kept
        from animators."""
        state, frame, character = self.store.state, self.frame(), self.store.state.character
        found = {thing for thing in state.viewing.hidden if thing.startswith(HIDDEN_CONTROL)}
        found |= frame.unseen if frame is not None else frozenset()
        if state.clip is not None and state.clip.gait is not None and state.clip.gait.controls and state.clip.tracks and character is not None and character.rig is not None:
            # A gait that is being changed is sketched on the joints: its controls come with the step.
            found |= {hidden_control(c.id) for c in character.rig.controls}
        if state.viewing.animators and character is not None and character.rig is not None:
            found |= {hidden_control(c.id) for c in character.rig.controls if c.hidden}
        return frozenset(found)

    @property
    def seen_parts(self) -> tuple[Part, ...]:
        """The parts in the view, without what a channel hides just now."""
        frame, shown = self.frame(), self.store.state.shown_parts
        if frame is None or not frame.unseen:
            return shown
        return tuple(p for p in shown if f"{PART}{p.id}" not in frame.unseen)

    def reached(self) -> FloatArray:
        """Where joints come to (n, 3) in what the strip plays: in each trial, at some frames of a clip, in a pose."""
        state, character = self.store.state, self.store.state.character
        skeleton = character.skeleton if character is not None else None
        if character is None or skeleton is None:
            return np.zeros((0, 3))
        if state.clock.source == RANGE_TEST:
            times = (np.arange(len(state.trials)) + 0.5) * TRIAL_FRAMES / 30
        else:
            moving = state.clip is not None or source_moves(state)
            times = np.linspace(0.0, max(state.length, 0.0), SAMPLES if moving else 1)
        found = []
        for time in times.tolist():
            pose = pose_at(state, time)
            rig = character.rig if isinstance(pose, Pose) else None
            found.append(evaluate_rig(skeleton, rig, pose).joints[:, :3, 3])
        return np.concatenate(found) if found else np.zeros((0, 3))

    @property
    def other(self) -> Character | None:
        """The character with the compared weave's weights; None when nothing is compared."""
        state, character = self.store.state, self.store.state.character
        if character is None or not state.viewing.compared or not state.weighing:
            return None
        weave = next((w for w in character.weaves if w.id == state.viewing.compared), None)
        if weave is None:
            return None
        if self._other is None or self._other[0] is not character or self._other[1] != weave.id:
            self._other = (character, weave.id, replace(character, skin=weave.skin))
        return self._other[2]

    def other_frame(self) -> PosedFrame | None:
        """What stands right of the seam: the same pose with the compared weave."""
        other = self.other
        if other is None:
            return None
        character = self.store.state.character
        state = SETTLED if character is None else self._springs(character)
        self._other_frame = _evaluated(self._other_frame, other, self.pose, state)
        return self._other_frame[3]

    @property
    def difference_said(self) -> str:
        """How far the compared weave is from the current weights, in this pose, for a person."""
        other, here, theirs = self.other, self.frame(), self.other_frame()
        if other is None or here is None or theirs is None:
            return ""
        apart = [
            np.linalg.norm(here.points[p] - theirs.points[p], axis=1) for p in here.points if p in theirs.points
        ]
        values = np.concatenate(apart) if apart else np.zeros(1)
        rms, worst = 1000 * float(np.sqrt(np.mean(values**2))), 1000 * float(values.max(initial=0.0))
        return f"In this pose {rms:.1f} mm apart (root mean square), {worst:.1f} mm at most."

    def reach(self) -> list[FloatArray]:
        """The drawn reach of the active joint: polylines in space; none where it is not shown."""
        state, character, frame = self.store.state, self.store.state.character, self.frame()
        joint = state.viewing.influence
        if not state.viewing.reach_shown or not state.weighing or character is None or frame is None:
            return []
        if character.skeleton is None or joint not in character.skeleton.index:
            return []
        return list(reach_lines(character.skeleton, joint, self.reach_radius, frame.joints))

    @property
    def reach_radius(self) -> float:
        """Metres the active joint reaches: its limb's radius times its factor."""
        character, joint = self.store.state.document.require_character(), self.store.state.viewing.influence
        assert character.skeleton is not None
        gauges = [gauge_of(p.mesh, character.skeleton, joint) for p in character.included if p.mesh.face_count]
        _, _, length = bones_at(character.skeleton, joint)
        # At a limb's root the section is the trunk's; the limb itself is no wider than this.
        radius = min(max((g.radius for g in gauges if g is not None), default=0.03 * character.height), 0.3 * length)
        return float(radius * character.reaches.get(joint, 1.0))


def _evaluated(known: Known | None, character: Character, pose: Shown, state: FloatArray) -> Known:
    """What is known already where it is of this character, pose and state."""
    if known is not None and known[0] is character and known[1] is pose and known[2] is state:
        return known
    return character, pose, state, evaluate(character, pose, state)


def pose_at(state: State, time: float) -> Shown:
    """The pose of what the strip plays at a time (seconds), with what was posed over it and not keyed."""
    character = state.document.require_character()
    source, kept, clip = state.clock.source, state.kept_pose, state.clip
    if source == RANGE_TEST and character.skeleton is not None:
        return range_pose(character.skeleton, time)
    if source == SCENE:
        return played_in(character, time)[0]
    if kept is not None:
        return kept.pose
    if clip is None:
        return character.pose
    pose = sample(clip, time, character.skeleton, character.pose, character.rig)
    if isinstance(pose, Pose) and state.draft_pose is not None:
        return Pose({**pose.values, **state.draft_pose.values})
    return pose


def source_moves(state: State) -> bool:
    """Whether all figures play, and the one in hand with them."""
    return state.clock.source == SCENE and state.character is not None and clip_of(state.character) is not None


def range_pose(skeleton: Skeleton, seconds: float) -> Shown:
    """The range test at a time: each trial goes out and back."""
    frame = seconds * 30.0
    count = len(trials_of(skeleton))
    number = min(int(frame // TRIAL_FRAMES), count - 1)
    within = (frame - number * TRIAL_FRAMES) / TRIAL_FRAMES
    amount = float(0.5 - 0.5 * np.cos(2 * np.pi * min(within, 1.0)))
    known = _of_skeleton(skeleton)
    key = round(frame, 3)
    if key not in known:
        if len(known) > 300:
            known.clear()
        known[key] = trial_amount(skeleton, trials_of(skeleton)[number].id, amount)
    return known[key]


@by_identity
def _of_skeleton(skeleton: Skeleton) -> dict[float, Shown]:
    """Poses of the range test worked out already."""
    return {}
