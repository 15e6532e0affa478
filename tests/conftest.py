"""For all tests."""

from hypothesis import settings

# No timed asserts: a first call may compile, and another program may have the machine.
settings.register_profile("pegloom", deadline=None)
settings.load_profile("pegloom")
