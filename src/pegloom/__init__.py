"""Peg Loom: joints, skin weights and controls for character riggers."""

__version__ = "0.1.0"
