"""What happens to the weights when parts or joints change: to those in hand and to every weave alike."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import replace
from types import MappingProxyType
from typing import TypeVar

import numpy as np
from scipy import sparse

from pegloom.core.arrays import FloatArray, owned_floats
from pegloom.core.skin.relax import Relax
from pegloom.core.skin.weights import Weights, dense, dense_over, from_dense
from pegloom.document.model import Character, Part, Skin

V = TypeVar("V")


def each_skin(character: Character, change: Callable[[Skin], Skin]) -> Character:
    """A change of the skin in hand and of every weave's; a skin used twice is changed once."""
    done: dict[int, Skin] = {}

    def once(skin: Skin) -> Skin:
        if id(skin) not in done:
            done[id(skin)] = change(skin)
        return done[id(skin)]

    skin = once(character.skin) if character.skin is not None else None
    weaves = tuple(replace(w, skin=once(w.skin)) for w in character.weaves)
    return replace(character, skin=skin, weaves=weaves)


def with_weights(skin: Skin, weights: Mapping[str, Weights]) -> Skin:
    """The skin with some parts' weights put in."""
    return replace(skin, weights=MappingProxyType({**skin.weights, **weights}))


def without_parts(skin: Skin, part_ids: Collection[str]) -> Skin:
    """The skin with everything of some parts taken out."""

    def kept(mapping: Mapping[str, V]) -> Mapping[str, V]:
        return MappingProxyType({k: v for k, v in mapping.items() if k not in part_ids})

    return replace(skin, weights=kept(skin.weights), dual=kept(skin.dual), relax=kept(skin.relax), limits=kept(skin.limits))


def carried_to(skin: Skin, source: str, carries: Mapping[str, sparse.csr_matrix]) -> Skin:
    """One part's weights and masks told to others: carry (new vertices, old vertices) by part id; the source may be one."""
    old = skin.weights.get(source)
    share, relax = skin.dual.get(source), skin.relax.get(source)
    weights, dual, relaxes = dict(skin.weights), dict(skin.dual), dict(skin.relax)
    for part_id, carry in carries.items():
        if old is not None:
            # Rows mixed of several may hold too many joints; rows merely picked keep theirs.
            limit = skin.limit(source) if carry.nnz > carry.shape[0] else None
            weights[part_id] = from_dense(np.asarray(carry @ dense(old)), old.joint_ids, influences=limit)
        if share is not None:
            dual[part_id] = _mask(carry @ share)
        if relax is not None:
            mask = None if relax.mask is None else _mask(carry @ relax.mask)
            relaxes[part_id] = replace(relax, mask=mask)
    return replace(
        skin, weights=MappingProxyType(weights), dual=MappingProxyType(dual), relax=MappingProxyType(relaxes),
        limits=MappingProxyType({**skin.limits, **{p: skin.limit(source) for p in carries if source in skin.limits}}),
    )  # fmt: skip


def joined_to(skin: Skin, parts: list[Part]) -> Skin:
    """Several parts' weights as those of the first, in their order; left unbound where one of them was."""
    first, ids = parts[0].id, [p.id for p in parts]
    bound = [skin.weights.get(i) for i in ids]
    rest = without_parts(skin, ids)
    if any(w is None for w in bound):
        return rest
    dual, relaxes = dict(rest.dual), dict(rest.relax)
    if any(i in skin.dual for i in ids):
        pieces = [skin.dual.get(p.id, np.zeros(p.mesh.vertex_count)) for p in parts]
        dual[first] = _mask(np.concatenate(pieces))
    asked = [skin.relax[i] for i in ids if i in skin.relax]
    if asked:
        masks = [_full_mask(skin.relax.get(p.id), p.mesh.vertex_count) for p in parts]
        relaxes[first] = replace(asked[0], mask=_mask(np.concatenate(masks)))
    rest = replace(rest, dual=MappingProxyType(dual), relax=MappingProxyType(relaxes))
    limit = max(skin.limit(i) for i in ids)
    return with_weights(rest, {first: stacked([w for w in bound if w is not None])}).with_limit(limit, (first,))


def stacked(pieces: list[Weights]) -> Weights:
    """Weights of several parts one below the other, over all their joints."""
    joints = list(dict.fromkeys(j for w in pieces for j in w.joint_ids))
    return from_dense(np.concatenate([dense_over(own, joints) for own in pieces]), joints)


def _full_mask(relax: Relax | None, count: int) -> FloatArray:
    if relax is None:
        return np.zeros(count)
    return np.ones(count) if relax.mask is None else relax.mask


def _mask(values: FloatArray) -> FloatArray:
    return owned_floats(np.clip(values, 0.0, 1.0))
