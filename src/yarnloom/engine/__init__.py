"""The engine: transition rules, handing out, reports, cancel. No interface code, no clock."""

from yarnloom.engine.commands import (
    Ask,
    CancelRun,
    CloseAsk,
    Command,
    Leave,
    ListWorkers,
    LoseWorker,
    Publish,
    Register,
    Report,
    Reported,
    ReportItem,
    Started,
    StartRun,
    Tick,
)
from yarnloom.engine.engine import Engine, Moment, Results
from yarnloom.engine.turn import LEASE, LOSSES, Settings
from yarnloom.engine.writer import SLOW_FLUSH, Writer, system_clock

__all__ = [
    "LEASE",
    "LOSSES",
    "SLOW_FLUSH",
    "Ask",
    "CancelRun",
    "CloseAsk",
    "Command",
    "Engine",
    "Leave",
    "ListWorkers",
    "LoseWorker",
    "Moment",
    "Publish",
    "Register",
    "Report",
    "ReportItem",
    "Reported",
    "Results",
    "Settings",
    "StartRun",
    "Started",
    "Tick",
    "Writer",
    "system_clock",
]
