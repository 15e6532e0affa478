"""What makes the clips of the shelf: a body told by a few channels over time, and the scripts of each clip."""


def everything() -> None:
    """Every script on the list."""
    from tools.acting import beasts, birds, pairs, people, things  # noqa: F401
