"""For all tests."""

import pegloom  # noqa: F401, I001  first: it says where compiled kernels are kept, before anything loads Numba

from collections import Counter

import pytest
from hypothesis import settings

# No timed asserts: a first call may compile, and another program may have the machine.
settings.register_profile("pegloom", deadline=None)
settings.load_profile("pegloom")


def pytest_configure(config: pytest.Config) -> None:
    config.addinivalue_line("filterwarnings", "ignore::numba.core.errors.NumbaWarning")


@pytest.hookimpl(tryfirst=True)
def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """`each(n)`: of a law's many cases the first of every n runs in the usual run, all of them with --all."""
    seen = Counter[str]()
    for item in items:
        mark = item.get_closest_marker("each")
        if mark is None:
            continue
        law = item.nodeid.split("[")[0]
        if seen[law] % mark.args[0]:
            item.add_marker(pytest.mark.full)
        seen[law] += 1
