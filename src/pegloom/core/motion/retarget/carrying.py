"""Motion of one body told on another: rests matched, root scaled, feet and hands held to what they touch."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy.ndimage import gaussian_filter1d

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError
from pegloom.core.jobs import Progress, silent
from pegloom.core.motion.borrowed import CarryOptions
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.retarget.carry import (
    adjusted,
    carried,
    copies,
    flattened_feet,
    performance,
)
from pegloom.core.motion.retarget.chains import LIMBS, frames_of, kind_of, other_part, parts_of
from pegloom.core.motion.retarget.figure import Figure
from pegloom.core.motion.retarget.figures import Figures, beyond, measured
from pegloom.core.motion.retarget.mirror import mirrored_figure
from pegloom.core.motion.retarget.pairing import Pairing
from pegloom.core.motion.retarget.plant import (
    Contact,
    Limb,
    Sole,
    bare_soles,
    bend_to,
    contacts_of,
    flat_moments,
    limbs_of,
    paths,
    sunk,
    unit_of,
)
from pegloom.core.motion.retarget.source import Source, moments_of, stance_of, stood
from pegloom.core.motion.retarget.touch import Flesh, touched
from pegloom.core.motion.retarget.turns import step_of
from pegloom.core.rig.limits import JointLimit
from pegloom.core.skeleton.joints import Skeleton

STILL = 1e-9


@dataclass(frozen=True, eq=False)
class Carried:
    """clip : sampled motion of the target's joints. scale : target over source. rests : how each of them stands at rest, in a
    word."""

    clip: Clip
    figures: Figures
    contacts: tuple[Contact, ...]
    scale: float
    rests: tuple[str, str]


def retarget(
    source: Source, target: Skeleton, pairing: Pairing, *, options: CarryOptions | None = None, soles: Mapping[str, Sole] | None = None,
    flesh: Mapping[str, Flesh] | None = None, limits: Sequence[JointLimit] = (), progress: Progress = silent,
) -> Carried:  # fmt: skip
    """Tell a source's motion on another skeleton.

    target : at rest, Y up, facing +Z, metres. soles : what of the skin can touch the floor, by part; without, joints stand
    for it. flesh : the skin about bones that hands may touch. Directions of arms, and of legs that stand alike at rest, are
    taken over; all else turns from its rest as the source does. The root's path is scaled by the legs' length.

    Raises EditError where nothing is paired, or the range is empty.
    """
    options = options or CarryOptions()
    read = stood(source, pairing.rest)
    times = moments_of(source.clip)
    kept = times[(times >= (options.first if options.first is not None else -np.inf) - 1e-6) & (times <= (options.last if options.last is not None else np.inf) + 1e-6)]
    chains = [c for c in pairing.chains if c.source and all(j in read.skeleton.index for j in c.source) and all(j in target.index for j in c.target)]
    if not chains:
        raise EditError(f"no part of {source.name} is paired; pair the trunk and the limbs first")
    if not len(kept):
        raise EditError(f"{source.name} holds nothing in that range; it runs from {times[0]:.2f} to {times[-1]:.2f} s")
    pairing = replace(pairing, chains=tuple(chains))
    progress(0.05, "reading the source")
    seen = performance(source, read, kept)
    base_pair = pairing.of("trunk") or chains[0]
    base = target.index[base_pair.target[0]]
    ours = frames_of(target)
    copied = frozenset(c.part for c in chains if kind_of(c.part) in ("arm", "wing", "leg") and copies(c, read, target))
    scale = scale_of(read.skeleton, target, pairing, copied)
    progress(0.2, "turning the parts")
    figure = carried(seen, pairing, target, base)
    root_there = scale * seen.at[:, seen.number(base_pair.source[0])]
    figure.places = root_there.copy()
    figure.stand()
    adjusted(figure, pairing)
    _reached(figure, pairing, ours)
    bounds = _bounds(target, limits) if options.limits else {}
    figure.limited(bounds)
    figure.stand()
    soles = dict(soles or bare_soles(target, parts_of(target)))
    floor = min((float(s.points[:, 1].min()) for s in soles.values() if len(s.points)), default=0.0)
    limbs = limbs_of(seen, figure, list(chains), scale, soles)
    for limb in limbs:
        if not limb.hand and options.plant:
            flattened_feet(figure, limb.chain, flat_moments(limb))
    figure.stand()
    progress(0.45, "finding contacts")
    if options.at_zero:
        high = float(read.skeleton.positions[read.skeleton.index[base_pair.source[0]], 1])
        figure.places = figure.places + np.array([0.0, target.positions[base, 1] - scale * high, 0.0])
    else:
        figure.places = figure.places + _onto_the_floor(figure, limbs, floor)
    figure.stand()
    missed: dict[str, FloatArray] = {}
    if options.plant:
        missed = _planted(figure, limbs, floor, kept, ours, progress)
    touches, ruled = touched(seen, figure, pairing, scale, 1.0 / unit_of(read.skeleton), flesh or {}, ours) if options.touch else ([], {})
    figure.limited(bounds)
    figure.stand()
    shift = np.zeros((len(kept), 3))
    if options.in_place:
        shift = -path_of(figure.places, kept)
        figure.places = figure.places + shift
        figure.stand()
        for limb in limbs:
            limb.there = [p + shift for p in limb.there]
    progress(0.85, "measuring")
    figures = measured(
        seen, figure, pairing, limbs, soles, copied=copied, floor=floor, missed=missed, over=beyond(figure, bounds),
        path=(figure.places, root_there + shift), ruled=ruled,
    )  # fmt: skip
    contacts = tuple(sorted([*(contacts_of(limbs, kept, figure) if options.plant else ()), *touches], key=lambda c: c.first))
    if options.mirror:
        figure, contacts = mirrored_figure(figure), tuple(_other_side(contact, target) for contact in contacts)
    return Carried(_clip(source, figure, kept), figures, contacts, scale, (read.stance, stance_of(target)))


def _other_side(contact: Contact, skeleton: Skeleton) -> Contact:
    return replace(contact, part=other_part(contact.part) or contact.part, point=skeleton.other_side(contact.point) or contact.point)


def _reached(figure: Figure, pairing: Pairing, axes: Mapping[str, FloatArray]) -> None:
    """Bring the ends of limbs nearer to their base, or farther from it, where a chain says so."""
    for chain in pairing.chains:
        if chain.reach == 1.0 or kind_of(chain.part) not in LIMBS or len(chain.target) < 3:
            continue
        upper, lower, end = (figure.skeleton.index[j] for j in chain.target[:3])
        start = figure.at[:, upper]
        bend_to(figure, (upper, lower, end), start + chain.reach * (figure.at[:, end] - start), axes[chain.target[0]][:, 0])


def scale_of(source: Skeleton, target: Skeleton, pairing: Pairing, copied: frozenset[str]) -> float:
    """Target over source: by the length of legs that are told by directions, else by how high they carry the body."""
    ratios = []
    for chain in pairing.chains:
        if kind_of(chain.part) not in ("leg", "foreleg") or len(chain.source) < 3 or len(chain.target) < 3:
            continue
        lengths = []
        for skeleton, joints in ((source, chain.source), (target, chain.target)):
            at = skeleton.positions[[skeleton.index[j] for j in joints]]
            if chain.part in copied:
                lengths.append(float(np.linalg.norm(np.diff(at[:3], axis=0), axis=1).sum()))
            else:
                lengths.append(float(at[0, 1] - at[:, 1].min()))
        if min(lengths) > STILL:
            ratios.append(lengths[1] / lengths[0])
    if ratios:
        return float(np.mean(ratios))
    used = [
        float(np.ptp(skeleton.positions[[skeleton.index[j] for j in joints]], axis=0).max())
        for skeleton, joints in ((source, [j for c in pairing.chains for j in c.source]), (target, [j for c in pairing.chains for j in c.target]))
    ]
    return used[1] / used[0] if min(used) > STILL else 1.0


def _bounds(target: Skeleton, limits: Sequence[JointLimit]) -> dict[int, tuple[FloatArray, FloatArray]]:
    return {target.index[x.joint]: (np.array(x.low), np.array(x.high)) for x in limits if x.joint in target.index and not x.free}


def _onto_the_floor(figure: Figure, limbs: list[Limb], floor: float) -> FloatArray:
    """What to put on the root (3,) so that feet stand on the floor: on average where whole soles stand, else where the figure is
    lowest."""
    legs = [limb for limb in limbs if not limb.hand and len(limb.sole.points)]
    if not legs:
        return np.zeros(3)
    lowest = [limb.sole.lowest(figure) for limb in legs]
    flat = [flat_moments(limb) for limb in legs]
    standing = [low[stands] for low, stands in zip(lowest, flat, strict=True) if stands.sum() >= 2]
    height = float(np.median(np.concatenate(standing))) if standing else float(np.percentile(np.min(lowest, axis=0), 5))
    return np.array([0.0, floor - height, 0.0])


def _planted(figure: Figure, limbs: list[Limb], floor: float, times: FloatArray, ours: Mapping[str, FloatArray], progress: Progress) -> dict[str, FloatArray]:
    """Bend the limbs so that what stands in the source stands here. Returns how far each planted end misses (k,), metres."""
    goals = paths(limbs, figure, floor, times)
    down = sunk(limbs, goals, figure, times)
    if down.any():
        figure.places = figure.places - down[:, None] * np.array([0.0, 1.0, 0.0])
        figure.stand()
    missed = {}
    for number, (limb, (goal, held)) in enumerate(zip(limbs, goals, strict=True)):
        progress(0.5 + 0.3 * number / len(limbs), "planting feet")
        if limb.hand and not held.any():
            continue
        axis = ours[limb.chain.target[0]][:, 0]
        far = bend_to(figure, limb.joints, goal, axis)
        # The skin under a foot bends with the shin as well: what is left is taken out.
        if len(limb.sole.points):
            left = limb.sole.lowest(figure) - floor - (limb.level if limb.level is not None else 0.0)
            left = np.where(held > 0.5, left, np.minimum(left, 0.0))
            if np.abs(left).max() > 1e-4:
                left = held * left + (1.0 - held) * np.minimum(gaussian_filter1d(left, 0.03 / step_of(times)), 0.0)
                goal = goal - left[:, None] * np.array([0.0, 1.0, 0.0])
                far = bend_to(figure, limb.joints, goal, axis)
        missed[limb.chain.part] = far * held
    return missed


def path_of(places: FloatArray, times: FloatArray) -> FloatArray:
    """The way a root goes over the ground (k, 3), without its sway: smoothed over a second."""
    way = places.copy()
    width = 0.45 / step_of(times)
    pad = min(int(4 * width), max(len(way) - 1, 0))
    if pad < 2:
        return np.asarray((way - way[:1]) * [1.0, 0.0, 1.0])
    # Carried on straight at both ends, so that it does not lag there.
    before = 2 * way[0] - way[pad:0:-1]
    after = 2 * way[-1] - way[-2 : -pad - 2 : -1]
    smooth_way = gaussian_filter1d(np.concatenate([before, way, after]), width, axis=0)[pad : pad + len(way)]
    smooth_way[:, 1] = 0.0
    return np.asarray(smooth_way)


def _clip(source: Source, figure: Figure, times: FloatArray) -> Clip:
    clip = source.clip
    seconds = times - times[0]
    length = max(float(seconds[-1]), 1.0 / clip.rate)
    return replace(clip, id="", name=source.name, length=length, tracks=figure.tracks(seconds), curves={}, layers=(), morphs=())
