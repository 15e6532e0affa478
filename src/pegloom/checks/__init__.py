"""Snags: everything wrong or doubtful, each with where, why and often a fix."""

from pegloom.checks.snags import Severity, Snag, find_snags, mesh_snags, search_snags

__all__ = ["Severity", "Snag", "find_snags", "mesh_snags", "search_snags"]
