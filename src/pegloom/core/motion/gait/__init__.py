"""Gaits from numbers: footfalls, the way over the ground, a body that goes by them.

Nothing is imported here: a clip names what it was made from, and what makes clips is in this package.
"""
