"""Limb kits: the controls of each body plan."""
