# One flow that cannot be drawn or documented must not cost the others: it is told, and the work goes on.
"""Faults of single flows."""

from __future__ import annotations

from zeitbuch.core.model.problems import Problem, ZeitbuchError
from zeitbuch.core.model.records import Flow


def problem_of_flow(error: Exception, act: str, flow: Flow) -> Problem:
    """What to tell of a flow with which something could not be done: ``act`` is a verb."""
    if isinstance(error, ZeitbuchError):
        problem = error.problem
        message = f"{flow.title}: {problem.message}"
        return Problem(problem.code, problem.severity, message, problem.origin or flow.origin, problem.hint)
    reason = f"{type(error).__name__}: {str(error)[:200]}"
    hint = "report it with the export, or the part of it that you may show"
    return Problem(
        "fault", "error", f"a fault of Zeitbuch: could not {act} '{flow.title}', found {reason}", flow.origin, hint
    )
