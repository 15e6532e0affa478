"""Tolerances, each with its unit and its reason. Nothing else in the program states one."""

WELD_OF_SIZE = 1e-6
"""Fraction of the bounding diagonal: points nearer than this are one place (float32 files carry about 1e-7)."""

WEIGHT_SUM = 1e-6
"""Rows of weights add up to 1 within this."""

WEIGHT_TINY = 1e-4
"""A weight below this moves nothing anyone can see: 0.1 mm where a joint carries a vertex a metre away."""

PARALLEL = 1e-9
"""Sine of the angle under which two unit directions count as parallel."""

LENGTH_ZERO = 1e-12
"""Metres: a shorter vector has no direction."""

PREBEND = 0.035
"""Radians (2 degrees): a limb straighter than this takes its bend side from the pattern, not from its points."""

BAKE_OF_SIZE = 2.5e-5
"""Fraction of the character's size a baked motion may differ between its keys (the promise outside is 1e-4)."""

PARTNER_OF_SIZE = 2e-3
"""Fraction of the height within which a mirrored vertex counts as having its partner there."""

FARTHEST = 1e15
"""In any unit: no vertex lies farther from the origin. Squares and cubes of it are still numbers."""

RATE_OF_SIZE = 5e-4
"""Fraction of the height that a player of whole frames may stray from a clip before another rate is proposed."""
