"""Curves: keys, how values run between them, and sampling."""

from pegloom.core.curves.curve import Beyond, Curve, Run, Slope, curve

__all__ = ["Beyond", "Curve", "Run", "Slope", "curve"]
