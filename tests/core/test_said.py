"""Counts and numbers for a person are written one way."""

import pytest

from pegloom.core.said import counted, grouped


@pytest.mark.parametrize(("number", "shown"), [(0, "0"), (999, "999"), (1000, "1 000"), (13602, "13 602"), (1234567, "1 234 567")])
def test_digits_are_grouped_in_threes(number, shown):
    assert grouped(number).replace("\u202f", " ") == shown


def test_one_is_one_and_two_are_two():
    assert counted(1, "clip") == "1 clip" and counted(0, "clip") == "0 clips"
    assert counted(1, "vertex", "vertices") == "1 vertex" and counted(2, "vertex", "vertices") == "2 vertices"
