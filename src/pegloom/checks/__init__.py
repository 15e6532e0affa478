"""Snags: everything wrong or doubtful, each with where, why and often a fix. The guard: is a rig fit for other hands."""

from pegloom.checks.guard import CHECKS, Finding, guard, mended
from pegloom.checks.snags import Severity, Snag, find_snags, mesh_snags, search_snags

__all__ = ["CHECKS", "Finding", "Severity", "Snag", "find_snags", "guard", "mended", "mesh_snags", "search_snags"]
