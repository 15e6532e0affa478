"""Joints, their names and axes, pegs and the patterns that join them."""
