"""Formulas against Python's own arithmetic, and everything that is no formula refused where it stands."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from pegloom.core.rig.formulas import FormulaError, compiled, scaled
from pegloom.core.rig.kernels import formula as kernel

NAMES = ("x", "y")
KNOWN = {
    "abs": abs, "min": min, "max": max, "sin": math.sin, "cos": math.cos, "floor": math.floor, "atan2": math.atan2, "pi": math.pi,
    "deg": math.pi / 180, "cm": 0.01, "clamp": lambda v, a, b: min(max(v, a), b), "mix": lambda a, b, s: a + (b - a) * s,
}  # fmt: skip


def run(text, *inputs):
    program = compiled(text, NAMES[: len(inputs)])
    steps = np.array(program.steps, dtype=np.int64).ravel()
    return float(kernel.formula(steps, np.array(program.constants, dtype=np.float64), np.array(inputs, dtype=np.float64)))


LEAVES = st.one_of(st.sampled_from(["x", "y", "pi"]), st.floats(0.1, 9.0).map(lambda v: f"{v:.3f}"))


def grown(inner):
    pair = st.tuples(inner, inner)
    return st.one_of(
        st.tuples(pair, st.sampled_from(["+", "-", "*"])).map(lambda t: f"({t[0][0]} {t[1]} {t[0][1]})"),
        inner.map(lambda a: f"(-{a})"), inner.map(lambda a: f"sin({a})"), inner.map(lambda a: f"abs({a})"),
        pair.map(lambda t: f"min({t[0]}, {t[1]})"), pair.map(lambda t: f"max({t[0]}, {t[1]}, 1)"),
        st.tuples(pair, inner).map(lambda t: f"({t[0][0]} if {t[0][1]} < {t[1]} else {t[1]})"),
        st.tuples(pair, inner).map(lambda t: f"clamp({t[0][0]}, -1, 1) + mix({t[0][1]}, {t[1]}, 0.25)"),
        pair.map(lambda t: f"(1 if 0 < {t[0]} <= 2 and not {t[1]} > 1 else 0)"),
        pair.map(lambda t: f"({t[0]}) % 1.7 + ({t[1]}) / 3"),
    )  # fmt: skip


@given(st.recursive(LEAVES, grown, max_leaves=8), st.floats(-3, 3), st.floats(-3, 3))
def test_it_is_plain_arithmetic(text, x, y):
    wanted = float(eval(text, {"__builtins__": {}}, {**KNOWN, "x": x, "y": y}))
    assert run(text, x, y) == pytest.approx(wanted, rel=1e-9, abs=1e-9)


@pytest.mark.parametrize(
    "text",
    [
        "", "   ", "x +", "x y", "__import__('os')", "x.real", "x[0]", "[x]", "(x, y)", "{x}", "lambda: x", "x if y", "(x := 2)", "*x",
        "'a'", "b'a'", "f'{x}'", "True", "None", "...", "1j", "x @ y", "x // y", "x << 2", "~x", "x is y", "x in y", "x < 'a'", "z",
        "exec(x)", "open(x)", "min(x)", "min()", "sin()", "sin(x, y)", "clamp(x, 1)", "max(x, *y)", "sin(x=x)", "sin", "pi()", "(sin)(x).real",
        "x; y", "x\ny", "1e999", "9" * 400, "x" * 1001, "+".join(["x"] * 300), "(" * 300 + "x" + ")" * 300, "[x for x in y]", "yield x",
        "await x", "x\x00", "-" * 900 + "x", "x if x else " * 60 + "x", "min(1, " * 40 + "x" + ")" * 40, "π", "x²",
    ],
)  # fmt: skip
def test_what_is_no_formula_is_refused_with_its_place(text):
    with pytest.raises(FormulaError) as caught:
        compiled(text, NAMES)
    assert -1 <= caught.value.at <= len(text)


def test_the_place_of_an_error_is_where_it_stands():
    for text, at in (("x + zz", 4), ("  x + zz", 6), ("min(x, open(y))", 7), ("x + 'a'", 4)):
        with pytest.raises(FormulaError) as caught:
            compiled(text, NAMES)
        assert caught.value.at == at, text


@pytest.mark.parametrize("text", ["1 / x", "y % x", "sqrt(x - 1)", "x ** -1", "(x - 2) ** 0.5", "9 ** 9 ** 9 ** 9 * y"])
def test_what_has_no_value_is_nothing(text):
    assert run(text, 0.0, 1.0) == 0.0


@given(st.floats(-2, 2), st.floats(-2, 2), st.floats(0.2, 5.0))
def test_a_formula_of_other_readings_makes_the_same_of_them(x, y, factor):
    text = "clamp(x, -1, 1) * 2 + sin(y - x) + min(x * y, x + 1)"
    assert run(scaled(text, {"x": factor, "y": -1.0}), x / factor, -y) == pytest.approx(run(text, x, y), abs=1e-9)


def test_smooth_is_level_at_both_ends():
    assert run("smooth(1, 3, x)", 0.0) == 0.0 and run("smooth(1, 3, x)", 3.5) == 1.0
    assert run("smooth(1, 3, x)", 2.0) == pytest.approx(0.5)
    assert abs(run("smooth(1, 3, x)", 1.01)) < 1e-3
