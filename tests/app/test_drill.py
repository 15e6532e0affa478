"""Killed at any moment, the last save and the autosave open, exports are whole, and nothing lies about."""

import random

import pytest

from tests.support.drill import drill


@pytest.fixture(scope="module")
def place(tmp_path_factory):
    return tmp_path_factory.mktemp("drill")


@pytest.mark.parametrize("seed", range(6))
def test_a_kill_loses_nothing_that_was_told_as_kept(place, seed):
    assert drill(place, random.Random(seed)) == []
