"""IK of a tree of joints with limits and stiffness, compiled: whole bodies, and chains that may not bend anyhow.

Damped least squares in the space of the goals (Wampler, "Manipulator inverse kinematic solutions based on vector
formulations and damped least-squares methods", 1986; Buss, "Introduction to inverse kinematics", 2009), with a pull back
to the start pose that fades: of all poses that meet the goals the nearest to the start is taken, whatever way led there,
so that the body moves evenly while a goal is dragged. Each axis of a joint gives way by one less its stiffness; an axis at
its limit is left out of a step that would push it on. At most ROUNDS rounds, always from the same start.
"""
# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"

from __future__ import annotations

import numpy as np
from numba import njit

from pegloom.core.rig.kernels.algebra import cross, flip, norm, on, size_of, times, turn_vector, vector_turn

ROUNDS = 60
STEP = 0.5
"""Most radians a joint turns in one round."""
PULL, FADES, LEAST_PULL = 1e-2, 0.6, 1e-9
"""How much the start pulls beside the goals at first, by how much less each round, and at last."""
CLOSE = 1e-7
"""Of the size of the body, below which a goal counts as met."""
ROOT = 0.005
"""How easily the root's place gives way beside a joint's turn: limbs move before the body does."""
TURN_WEIGHT = 0.25
"""A goal's turn beside its place: radians in sizes of the body."""


@njit(cache=True)
def forward(locals_, bones, parents, root, turns, places):
    """Turns (n, 3, 3) and places (n, 3) of a tree from each joint's turn and bone in its parent."""
    for i in range(len(parents)):
        p = parents[i]
        if p < 0:
            turns[i] = locals_[i]
            places[i] = bones[i] + root
        else:
            turns[i] = times(turns[p], locals_[i])
            places[i] = places[p] + on(turns[p], bones[i])


@njit(cache=True)
def errors(goals, wanted_places, wanted_turns, shares, turns, places, size, out):
    """What is missing at each goal (6 g,) into out, in sizes of the body; gives its length."""
    total = 0.0
    for g in range(len(goals)):
        j = goals[g]
        out[6 * g : 6 * g + 3] = (wanted_places[g] - places[j]) * (shares[g, 0] / size)
        out[6 * g + 3 : 6 * g + 6] = 0.0
        if shares[g, 1] > 0.0:
            out[6 * g + 3 : 6 * g + 6] = turn_vector(times(wanted_turns[g], flip(turns[j]))) * (shares[g, 1] * TURN_WEIGHT)
        for k in range(6):
            total += out[6 * g + k] ** 2
    return np.sqrt(total)


@njit(cache=True)
def strain(away, give, root_give):
    """How far a pose is from the start: squares of turns (3 n) and of the root's way (3,), each by what it gives way."""
    total, n = 0.0, len(give)
    for i in range(n):
        for k in range(3):
            if give[i, k] > 0.0:
                total += away[3 * i + k] ** 2 / give[i, k]
    if root_give > 0.0:
        for r in range(3):
            total += away[3 * n + r] ** 2 / (ROOT * root_give)
    return total


@njit(cache=True)
def within(local, resting, low, high):
    """A joint's turn in its parent, brought within its limits: rotation vectors from rest, in its own axes."""
    vector = turn_vector(times(flip(resting), local))
    changed = False
    for k in range(3):
        value = min(max(vector[k], low[k]), high[k])
        changed = changed or abs(value - vector[k]) > 1e-12
        vector[k] = value
    return times(resting, vector_turn(vector)) if changed else local


@njit(cache=True)
def solved_tree(begin, parents, resting, low, high, give, root_give, goals, wanted, shares, size, turns, places):
    """Turns (n, 3, 3) and places (n, 3) of a tree's joints, into the last two; gives what is left open, in metres.

    begin (n, 4, 4) : where it starts; parents (n,) come first, -1 for the one root. resting (n, 3, 3) : turns in the
    parents at rest. low, high (n, 3) : limits, radians, rotation vectors from rest in the joint's axes. give (n, 3) : by
    how much each axis gives way, 0 to 1. root_give : the same for the root's place. goals (g,) : joints; wanted
    (g, 4, 4), shares (g, 2) : of place and turn. size : of the body, metres.
    """
    n, m = len(begin), len(goals)
    locals_, bones, root = np.empty((n, 3, 3)), np.empty((n, 3)), np.zeros(3)
    for i in range(n):
        turn, p = begin[i, :3, :3] / size_of(begin[i]), parents[i]
        if p < 0:
            locals_[i], bones[i] = turn, begin[i, :3, 3]
        else:
            above = flip(begin[p, :3, :3] / size_of(begin[p]))
            locals_[i] = times(above, turn)
            bones[i] = on(above, begin[i, :3, 3] - begin[p, :3, 3])
        if p >= 0:
            locals_[i] = within(locals_[i], resting[i], low[i], high[i])
    wanted_places, wanted_turns = np.empty((m, 3)), np.empty((m, 3, 3))
    for g in range(m):
        wanted_places[g] = wanted[g, :3, 3]
        wanted_turns[g] = wanted[g, :3, :3] / size_of(wanted[g])
    below = np.zeros((n, m), dtype=np.bool_)
    for g in range(m):
        j = goals[g]
        while j >= 0:
            below[j, g] = True
            j = parents[j]
    forward(locals_, bones, parents, root, turns, places)
    rows, columns = 6 * m, 3 * n + 3
    error, trial = np.zeros(rows), np.zeros(rows)
    left = errors(goals, wanted_places, wanted_turns, shares, turns, places, size, error)
    damping, pull = 0.0, PULL
    jacobian, weight, away = np.zeros((rows, columns)), np.zeros(columns), np.zeros(columns)
    new_locals, new_root = locals_.copy(), root.copy()
    new_turns, new_places = turns.copy(), places.copy()
    vectors, new_away = np.zeros((n, 3)), np.zeros(columns)
    starts = locals_.copy()
    for _ in range(ROUNDS):
        if left < CLOSE:
            break
        jacobian[:] = 0.0
        for i in range(n):
            for k in range(3):
                weight[3 * i + k] = give[i, k]
                axis = turns[i][:, k].copy()
                for g in range(m):
                    if below[i, g]:
                        arm = cross(axis, places[goals[g]] - places[i])
                        for r in range(3):
                            jacobian[6 * g + r, 3 * i + k] = arm[r] * (shares[g, 0] / size)
                            jacobian[6 * g + 3 + r, 3 * i + k] = axis[r] * (shares[g, 1] * TURN_WEIGHT)
            vectors[i] = turn_vector(times(flip(resting[i]), locals_[i]))
        for r in range(3):
            # The root's place in sizes of the body, as far as a joint's turn moves what it carries.
            weight[3 * n + r] = ROOT * root_give
            for g in range(m):
                jacobian[6 * g + r, 3 * n + r] = shares[g, 0]
        step = np.zeros(columns)
        total = pull + damping
        for _try in range(3):
            scaled = jacobian * weight
            free = away * (weight > 0.0)
            square = scaled @ jacobian.T
            for r in range(rows):
                square[r, r] += total
            step = scaled.T @ np.linalg.solve(square, error + (pull / total) * (jacobian @ free)) - (pull / total) * free
            blocked = False
            for i in range(n):
                if parents[i] < 0:
                    continue
                for k in range(3):
                    after = vectors[i, k] + step[3 * i + k]
                    at_low = vectors[i, k] <= low[i, k] + 1e-9 and after < low[i, k]
                    at_high = vectors[i, k] >= high[i, k] - 1e-9 and after > high[i, k]
                    if (at_low or at_high) and weight[3 * i + k] > 0.0:
                        weight[3 * i + k] = 0.0
                        blocked = True
            if not blocked:
                break
        for i in range(n):
            turn = step[3 * i : 3 * i + 3]
            length = norm(turn)
            if length > STEP:
                turn = turn * (STEP / length)
            new_locals[i] = times(locals_[i], vector_turn(turn))
            if parents[i] >= 0:
                new_locals[i] = within(new_locals[i], resting[i], low[i], high[i])
            new_away[3 * i : 3 * i + 3] = turn_vector(times(flip(starts[i]), new_locals[i]))
        new_root = root + step[3 * n :] * size
        new_away[3 * n :] = new_root / size
        forward(new_locals, bones, parents, new_root, new_turns, new_places)
        now = errors(goals, wanted_places, wanted_turns, shares, new_turns, new_places, size, trial)
        if now * now + pull * strain(new_away, give, root_give) <= left * left + pull * strain(away, give, root_give):
            locals_[:] = new_locals
            root[:] = new_root
            turns[:] = new_turns
            places[:] = new_places
            error[:] = trial
            away[:] = new_away
            left, damping = now, damping * 0.2
        else:
            damping = min(max(damping * 5.0, 1e-5), 10.0)
        pull = max(pull * FADES, LEAST_PULL)
    open_ = 0.0
    for g in range(m):
        if shares[g, 0] > 0.0:
            open_ = max(open_, norm(wanted_places[g] - places[goals[g]]))
    return open_
