"""Skin: weights, binds, brushes, deforming, measures."""
