"""Compiled: the walk through a plan, one module for each kind of solver, and joints posed without controls."""
