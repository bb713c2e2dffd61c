"""Helpers for tests: a clock that the test moves, and runs inside the test's own process.

    from yarnloom.testing import run_workflow

    def test_the_table_is_written(tmp_path):
        run = run_workflow(loom, "harbour-tides", harbour="brackwater", folder=str(tmp_path))

        assert run.state == "done"

The engine and the store are the real ones; only the worker's processes are left out: tasks are
called in the test's process, one after another, with real checks of inputs and outputs.
"""

from yarnloom.testing.inline_service import (
    InlineLine,
    InlineRun,
    InlineService,
    ManualClock,
    inline_service,
    run_workflow,
)

__all__ = [
    "InlineLine",
    "InlineRun",
    "InlineService",
    "ManualClock",
    "inline_service",
    "run_workflow",
]
