"""From records to what evaluation runs on: numbered nodes and slots, and the steps in order, once per skeleton and rig."""

from pegloom.core.rig.plan.plan import Plan, make_plan

__all__ = ["Plan", "make_plan"]
