"""For all tests."""

import pegloom  # noqa: F401, I001  first: it says where compiled kernels are kept, before anything loads Numba

from hypothesis import settings

# No timed asserts: a first call may compile, and another program may have the machine.
settings.register_profile("pegloom", deadline=None)
settings.load_profile("pegloom")
