"""Long work off the UI thread."""

from pegloom.app.jobs.background import Background, Order
from pegloom.app.jobs.helper import Helper
from pegloom.app.jobs.runner import Job, JobRunner

__all__ = ["Background", "Helper", "Job", "JobRunner", "Order"]
