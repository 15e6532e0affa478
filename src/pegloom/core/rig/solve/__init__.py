"""Compiled solvers: two-joint IK and the walk through a plan."""
