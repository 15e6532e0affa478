"""Control clips told in joints alone, for what plays no controls: files, and a character delivered in another rest."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from types import MappingProxyType
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pegloom.core.arrays import FloatArray, IntArray, frozen
from pegloom.core.curves import Run
from pegloom.core.errors import EditError
from pegloom.core.geometry.transforms import rotation_matrix
from pegloom.core.memo import by_identity
from pegloom.core.motion.clips import Clip, MorphTrack, ShowTrack, values_at
from pegloom.core.motion.follow_through import joints_of
from pegloom.core.motion.retell import local_rows, posed_at
from pegloom.core.motion.tracks import Track, joint_tracks
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.evaluate import AT_ONCE, driven
from pegloom.core.rig.halfway import halfway_rows
from pegloom.core.rig.outputs import PART, hidden_things
from pegloom.core.rig.pose import Pose, Shown
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.shapes import ShapeDrive, shape_weights
from pegloom.core.tolerances import BAKE_OF_SIZE, RATE_OF_SIZE
from pegloom.document.model import Character, Part

FINEST = 8
"""Times an interval between two frames or keys is halved at most."""
PROBES = (0.15, 0.35, 0.5, 0.65, 0.85)
"""Shares of an interval at which it is held against the live rig."""
MOMENTS = 1000
"""Intervals refined at once."""


class Live(NamedTuple):
    """What a clip is played on. height : metres."""

    skeleton: Skeleton
    rig: ControlRig
    pose: Shown
    height: float


def live(character: Character) -> Live:
    """A character's joints and controls. Raises EditError where there are none."""
    if character.skeleton is None or character.rig is None:
        raise EditError("there are no joints or controls to bake")
    return Live(character.skeleton, character.rig, character.pose, character.height)


def baked_clip(character: Character, clip: Clip) -> Clip:
    """The clip as tracks of every joint, see `bake_clip`; one that has tracks already is itself, with what follows from it."""
    if clip.tracks:
        return with_followers(character, clip)
    if not clip.every_curve or character.skeleton is None:
        return clip
    times, local = bake_clip(character, clip)
    times = np.asarray(frozen(times))
    spans = (("translation", slice(0, 3)), ("rotation", slice(3, 7)), ("scale", slice(7, 10)))
    tracks = {
        joint.id: tuple(
            Track(path, times, frozen(local[:, i, span].astype(np.float64))) for path, span in spans
        )
        for i, joint in enumerate(character.skeleton.joints)
    }
    return replace(clip, curves=MappingProxyType({}), layers=(), tracks=joint_tracks(tracks), morphs=_morph_tracks(character, clip, times), shows=shows_at(character, clip))


def with_followers(character: Character, clip: Clip) -> Clip:
    """Sampled motion with what follows from it, helper joints and corrective shapes: at its frames and wherever it has samples."""
    skeleton = character.skeleton
    if not clip.tracks or skeleton is None:
        return clip
    which = halfway_rows(skeleton)[0][:, 0].tolist()
    shaped = [p for p in character.included if shapes_of(character, p)]
    if not which and not shaped:
        return clip
    count = max(round(clip.length * clip.rate), 1)
    times = np.unique(np.concatenate([np.linspace(0.0, clip.length, count + 1), *(t.times for rows in clip.tracks.values() for t in rows)]))
    worlds = posed_at(clip, skeleton, times)
    local = local_rows(skeleton, worlds)
    morphs = tuple(m for m in clip.morphs if m.part not in {p.name for p in shaped})
    morphs += tuple(_track_with_shapes(character, p, clip, times, worlds) for p in shaped)
    spans = (("translation", slice(0, 3)), ("rotation", slice(3, 7)), ("scale", slice(7, 10)))
    more = {skeleton.joints[i].id: tuple(Track(path, frozen(times), frozen(np.ascontiguousarray(local[:, i, span]))) for path, span in spans) for i in which}
    return replace(clip, tracks=joint_tracks({**clip.tracks, **more}), morphs=morphs)


def _track_with_shapes(character: Character, part: Part, clip: Clip, times: FloatArray, worlds: FloatArray) -> MorphTrack:
    """Weights of a part's morph targets in sampled motion, with those that joints bring in."""
    columns = {m.name: k for k, m in enumerate(part.morphs)}
    rows = np.zeros((len(times), len(columns)))
    for track in clip.morphs:
        if track.part == part.name:
            there = [k for k, n in enumerate(track.names) if n in columns]
            rows[:, [columns[track.names[k]] for k in there]] += track.resampled(times).weights[:, there]
    known = {name for track in clip.morphs if track.part == part.name for name in track.names}
    add_shapes(rows, character.require_skeleton(), tuple(s for s in shapes_of(character, part) if s.morph not in known), columns, worlds)
    return MorphTrack(part.name, tuple(columns), frozen(times), frozen(rows))


def _morph_tracks(character: Character, clip: Clip, times: FloatArray) -> tuple[MorphTrack, ...]:
    """What the channels of a clip do with morph targets, sampled."""
    found = list(clip.morphs)
    for part in character.parts:
        made = morph_weights_at(character, part, clip, times)
        if made is not None:
            found.append(MorphTrack(part.name, tuple(m.name for m in part.morphs), frozen(made[0]), frozen(made[1])))
    return tuple(found)


def bake_clip(character: Character, clip: Clip) -> tuple[FloatArray, NDArray[np.float32]]:
    """A control clip as samples every joint can play: times (k,), local values (k, j, 10).

    Starts at the frames and at all keys, and just before and after the jumps of stepped curves. An interval that strays by more
    than BAKE_OF_SIZE of the height from the live rig at any of PROBES (turns weighed at a limb's distance, so that
    skinned points hold as well) is halved, and so on to FINEST halvings: wherever the keys stand, and however near each
    other. Testing the middle alone would miss a symmetric ease, which is exact there.
    """
    on = live(character)
    allowed = BAKE_OF_SIZE * on.height
    count = max(round(clip.length * clip.rate), 1)
    keys = np.unique(np.concatenate([np.zeros(0), *(c.times for c in clip.every_curve)]))
    jumps = _jumps(clip)
    after = jumps.astype(np.float32)
    after = np.where(after < jumps, np.nextafter(after, np.float32(np.inf)), after)
    # Times as the file holds them, so that live and file agree about the moment.
    times = _as_stored(
        np.concatenate([np.linspace(0.0, clip.length, count + 1), keys, after, np.nextafter(after, np.float32(-1.0))])
    )
    times = times[times >= 0.0]
    # Some at once, put into one array that grows: ten minutes take little more than what is made of them.
    found = []
    local = np.empty((0, len(on.skeleton.joints), 10), dtype=np.float32)
    for first in range(0, max(len(times) - 1, 1), MOMENTS):
        some, rows = _refined(on, clip, times[first : first + MOMENTS + 1], allowed)
        last = len(some) - (first + MOMENTS < len(times) - 1)
        found.append(some[:last])
        count = len(local)
        local.resize((count + last, *local.shape[1:]), refcheck=False)
        local[count:] = rows[:last]
    times = np.concatenate(found)
    _one_half_space(local)
    return times, local


def morph_weights_at(character: Character, part: Part, clip: Clip, times: FloatArray) -> tuple[FloatArray, FloatArray] | None:
    """Times (k,) and weights (k, m) of a part's morph targets in a clip on controls, finer than `times` where straight runs
    would stray by more than BAKE_OF_SIZE of the height; None where no channel moves them."""
    rig, skeleton = character.rig, character.skeleton
    if rig is None or skeleton is None or not part.morphs:
        return None
    columns = {x.name: k for k, x in enumerate(part.morphs)}
    drives = [m for m in rig.morphs if m.part in ("", part.id) and m.morph in columns]
    shapes = shapes_of(character, part)
    if not drives and not shapes:
        return None
    reach = np.array([float(np.linalg.norm(m.deltas, axis=1).max(initial=0.0)) for m in part.morphs])

    def weights(at: FloatArray) -> FloatArray:
        found = np.zeros((len(at), len(columns)))
        values = driven(skeleton, rig, values_at(clip, at, rig, character.pose)) if drives else np.zeros((0, 0))
        for drive in drives:
            found[:, columns[drive.morph]] += values[:, rig.slots.index[drive.channel]]
        if shapes:
            for first in range(0, len(at), AT_ONCE):
                some = slice(first, first + AT_ONCE)
                add_shapes(found[some], skeleton, shapes, columns, joints_of(skeleton, rig, clip, at[some], character.pose))
        return found

    result = weights(times)
    for _ in range(FINEST):
        between = _as_stored(0.5 * (times[:-1] + times[1:]))
        exact = weights(between)
        gap = (np.abs(exact - 0.5 * (result[:-1] + result[1:])) * reach).sum(axis=1)
        far = np.flatnonzero((gap > BAKE_OF_SIZE * character.height) & ~np.isin(between, times))
        if not len(far):
            break
        times, result = np.insert(times, far + 1, between[far]), np.insert(result, far + 1, exact[far], axis=0)
    return times, result


def shapes_of(character: Character, part: Part) -> tuple[ShapeDrive, ...]:
    """What joints bring in of a part's morph targets."""
    names = {m.name for m in part.morphs}
    return tuple(s for s in character.shapes if s.part == part.id and s.morph in names)


def add_shapes(weights: FloatArray, skeleton: Skeleton, shapes: tuple[ShapeDrive, ...], columns: Mapping[str, int], joints: FloatArray) -> None:
    """Add what joints (k, j, 4, 4) bring in to weights (k, m), in place."""
    for drive, row in zip(shapes, shape_weights(skeleton, shapes, joints).T, strict=True):
        weights[:, columns[drive.morph]] += row


HALVINGS = 24
"""Times the span in which a part comes or goes is halved: a frame's ten-millionth is left."""


def shows_at(character: Character, clip: Clip, rate: float = 0.0) -> tuple[ShowTrack, ...]:
    """When the parts that a clip's channels show and hide are seen. rate : at whole frames alone; 0 for the very moments."""
    rig, skeleton = character.rig, character.skeleton
    if rig is None or skeleton is None or clip.tracks or not clip.every_curve:
        return ()
    parts = {f"{PART}{p.id}": p.name for p in character.included}
    drives = tuple(s for s in rig.shows if s.thing in parts)
    if not drives:
        return ()

    def hidden_at(some: FloatArray) -> list[frozenset[str]]:
        return [hidden_things(drives, rig.slots, row) for row in driven(skeleton, rig, values_at(clip, some, rig, character.pose))]

    step = rate or clip.rate
    frames = np.arange(round(clip.length * step) + 1) / step
    times = frames if rate else np.unique(np.concatenate([frames, _jumps(clip)]))
    hidden, found = hidden_at(times), []
    for thing in sorted({s.thing for s in drives}):
        seen = np.array([thing not in row for row in hidden])
        turns = np.flatnonzero(np.concatenate([[True], seen[1:] != seen[:-1]]))
        moments = times[turns].copy()
        # Between two samples the turn is halved in upon, so that the file agrees with the live rig anywhere.
        low, high = times[np.maximum(turns - 1, 0)].copy(), moments.copy()
        for _ in range(0 if rate else HALVINGS):
            middle = 0.5 * (low + high)
            after = np.array([thing not in row for row in hidden_at(middle)]) == seen[turns]
            low, high = np.where(after, low, middle), np.where(after, middle, high)
        moments[1:] = high[1:]
        found.append(ShowTrack(parts[thing], frozen(moments), tuple(seen[turns].tolist())))
    return tuple(found)


def with_widths(character: Character, clip: Clip, times: FloatArray, local: NDArray[np.float32]) -> NDArray[np.float32]:
    """Local values (k, j, 10) with the widths of joints nothing hangs on; others would widen what hangs on them."""
    rig, skeleton = character.rig, character.skeleton
    if rig is None or skeleton is None or not rig.widths:
        return local
    values = driven(skeleton, rig, values_at(clip, times, rig, character.pose))
    local = local.copy()
    for drive in rig.widths:
        if drive.joint in skeleton.index and not skeleton.children(drive.joint):
            i = skeleton.index[drive.joint]
            local[:, i, 7] *= values[:, rig.slots.index[drive.across]]
            local[:, i, 9] *= values[:, rig.slots.index[drive.through]]
    return local


def _jumps(clip: Clip) -> FloatArray:
    """Moments at which some stepped curve takes its next value, rising."""
    some = (c.times[1:][c.runs[:-1] == Run.STEP] for c in clip.every_curve)
    return np.asarray(np.unique(np.concatenate([np.zeros(0), *some])))


def _refined(on: Live, clip: Clip, times: FloatArray, allowed: float) -> tuple[FloatArray, NDArray[np.float32]]:
    """Times with more put between them until nothing strays by more than `allowed` metres, and the local values there."""
    local = _locals(on, clip, times)
    open_ = np.arange(len(times) - 1)
    for _ in range(FINEST):
        bad = open_[_strays(on, clip, times, local, open_) > allowed]
        more = _as_stored((times[bad] + times[bad + 1]) / 2)
        more = more[~np.isin(more, times)]
        if len(more) == 0:
            break
        place = np.searchsorted(times, more)
        local = np.insert(local, place, _locals(on, clip, more), axis=0)
        times = np.insert(times, place, more)
        # Only the halves of what was bad are looked at again.
        place = np.searchsorted(times, more)
        open_ = np.unique(np.concatenate([place - 1, place]))
    return times, local


JUDGED = 1200
"""Intervals between frames a rate is judged by at most: forty seconds at thirty frames a second."""
RATES = (24.0, 25.0, 30.0, 48.0, 50.0, 60.0, 90.0, 120.0, 240.0)
"""Frame rates that are proposed."""


def rate_error(on: Live, clip: Clip, rate: float) -> float:
    """How far, in metres, a player that knows the clip at `rate` frames a second alone strays from it at most.

    Measured as `bake_clip` does, of long clips in JUDGED intervals spread evenly. Jumps of stepped curves, which no rate
    shows in between, are left out.
    """
    count = max(round(clip.length * rate), 1)
    jumps = _jumps(clip)
    chosen = np.unique(np.linspace(0, count - 1, min(count, JUDGED)).astype(np.int64))
    starts, ends = chosen / rate, (chosen + 1) / rate
    smooth = np.searchsorted(jumps, starts, side="right") == np.searchsorted(jumps, ends, side="right")
    times = np.unique(np.concatenate([starts[smooth], ends[smooth]]))
    if not len(times):
        return 0.0
    local = _locals(on, clip, times)
    worst = 0.0
    for first in range(0, len(times) - 1, AT_ONCE):
        some = np.arange(first, min(first + AT_ONCE, len(times) - 1))
        some = some[times[some + 1] - times[some] < 1.5 / rate]
        worst = max(worst, float(_strays(on, clip, times, local, some).max(initial=0.0)))
    return worst


@by_identity
def rates_of(skeleton: Skeleton, rig: ControlRig, height: float, clip: Clip) -> tuple[float, float, float]:
    """The clip's error at its own rate, the lowest rate that holds it to RATE_OF_SIZE of the height, and its error there.

    Where none of RATES does, the highest. Metres and frames a second; channels without keys rest.
    """
    on = Live(skeleton, rig, Pose(), height)
    own = rate_error(on, clip, clip.rate)
    allowed = RATE_OF_SIZE * height
    if own <= allowed:
        return own, clip.rate, own
    for rate in RATES:
        if rate > clip.rate:
            error = rate_error(on, clip, rate)
            if error <= allowed:
                return own, rate, error
    return own, RATES[-1], rate_error(on, clip, RATES[-1])


def _locals(on: Live, clip: Clip, times: FloatArray) -> NDArray[np.float32]:
    """Local values (k, j, 10) of the live rig, some moments at a time, as fine as files hold them."""
    result = np.empty((len(times), len(on.skeleton.joints), 10), dtype=np.float32)
    for first in range(0, len(times), AT_ONCE):
        some = slice(first, first + AT_ONCE)
        worlds = joints_of(on.skeleton, on.rig, clip, times[some], on.pose)
        result[some] = local_rows(on.skeleton, worlds)
    return result


def _one_half_space(local: NDArray[np.float32]) -> None:
    """Quaternions of neighbouring samples on one side, in place."""
    q = local[..., 3:7]
    for j in range(q.shape[1]):
        turns = q[:, j]
        flips = np.cumprod(np.where((turns[1:] * turns[:-1]).sum(axis=-1) < 0, -1.0, 1.0))
        turns[1:] *= flips[:, None]


def _strays(
    on: Live, clip: Clip, times: FloatArray, local: NDArray[np.float32], chosen: IntArray
) -> FloatArray:
    """How far (m,), in metres, a point 0.12 of the height off a joint strays at most in the chosen intervals (m,)."""
    worst = np.zeros(len(chosen))
    for first in range(0, len(chosen), AT_ONCE):
        some = chosen[first : first + AT_ONCE]
        for share in PROBES:
            at = times[some] + share * (times[some + 1] - times[some])
            exact = joints_of(on.skeleton, on.rig, clip, at, on.pose)
            result = _between(on.skeleton, local[some].astype(np.float64), local[some + 1].astype(np.float64), share)
            gap = np.linalg.norm(result[..., :3, 3] - exact[..., :3, 3], axis=-1)
            turn = np.linalg.norm(result[..., :3, :3] - exact[..., :3, :3], axis=(-2, -1)) / np.sqrt(2.0)
            here = (gap + 0.12 * on.height * turn).max(axis=1, initial=0.0)
            worst[first : first + len(some)] = np.maximum(worst[first : first + len(some)], here)
    return worst


def _between(skeleton: Skeleton, a: FloatArray, b: FloatArray, share: float) -> FloatArray:
    """character_from_joint (k, j, 4, 4) a share of the way from local values a to b (k, j, 10), as a file's player has it."""
    qa, qb = a[..., 3:7], b[..., 3:7]
    cosine = (qa * qb).sum(axis=-1, keepdims=True)
    qb, cosine = np.where(cosine < 0, -qb, qb), np.minimum(np.abs(cosine), 1.0)
    angle = np.arccos(cosine)
    near = angle < 1e-6
    sine = np.where(near, 1.0, np.sin(angle))
    wa = np.where(near, 1.0 - share, np.sin((1.0 - share) * angle) / sine)
    wb = np.where(near, share, np.sin(share * angle) / sine)
    mixed = (1.0 - share) * a + share * b
    q = wa * qa + wb * qb
    q /= np.linalg.norm(q, axis=-1, keepdims=True)
    result = np.zeros((*a.shape[:2], 4, 4))
    result[..., :3, :3] = rotation_matrix(q) * mixed[..., None, 7:]
    result[..., :3, 3] = mixed[..., :3]
    result[..., 3, 3] = 1.0
    for j, parent in enumerate(skeleton.parents):
        if parent >= 0:
            result[:, j] = result[:, parent] @ result[:, j]
    return result


def _as_stored(times: FloatArray) -> FloatArray:
    """Rising times rounded to float32."""
    return np.asarray(np.unique(times.astype(np.float32)).astype(np.float64))
