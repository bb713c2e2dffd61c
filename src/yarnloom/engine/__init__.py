"""The engine: transition rules, handing out, reports, cancel. No interface code, no clock.

Python imports a name at its first use: a process for a single job needs few of them.
"""

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from yarnloom.engine.commands import (
        ACTIONS,
        Ask,
        BeginEffect,
        CancelRun,
        ChangePool,
        ChangeRun,
        ChangeSchedule,
        CheckStarts,
        CloseAsk,
        Command,
        DrainWorker,
        DropFilter,
        EndEffect,
        FailuresOf,
        HandleStep,
        InHand,
        Leave,
        ListPools,
        ListQuiet,
        ListSchedules,
        ListWorkers,
        LoseWorker,
        MakeLink,
        MakePool,
        MakeSchedule,
        MendRun,
        PauseRun,
        Publish,
        Recently,
        Register,
        RemovePool,
        RemoveSchedule,
        Report,
        Reported,
        ReportItem,
        RerunRun,
        ResumeRun,
        RevokeLink,
        SaveFilter,
        SettleEffect,
        Started,
        StartMany,
        StartRun,
        StartSchedule,
        StillRunning,
        Tick,
        Unfold,
        Why,
    )
    from yarnloom.engine.data_commands import (
        Chore,
        EndChore,
        KeepFile,
        KeepRows,
        RowsToCheck,
        Unchecked,
    )
    from yarnloom.engine.engine import ABOUT_ROWS, Engine, Results
    from yarnloom.engine.time_of_runs import Moment
    from yarnloom.engine.turn import KEEP_FILES, LEASE, LOSSES, Settings
    from yarnloom.engine.verdicts import MOST_WORK, Unjudged, Verdicts
    from yarnloom.engine.writer import SLOW_FLUSH, Writer, system_clock

__all__ = [
    "ABOUT_ROWS",
    "ACTIONS",
    "KEEP_FILES",
    "LEASE",
    "LOSSES",
    "MOST_WORK",
    "SLOW_FLUSH",
    "Ask",
    "BeginEffect",
    "CancelRun",
    "ChangePool",
    "ChangeRun",
    "ChangeSchedule",
    "CheckStarts",
    "Chore",
    "CloseAsk",
    "Command",
    "DrainWorker",
    "DropFilter",
    "EndChore",
    "EndEffect",
    "Engine",
    "FailuresOf",
    "HandleStep",
    "InHand",
    "KeepFile",
    "KeepRows",
    "Leave",
    "ListPools",
    "ListQuiet",
    "ListSchedules",
    "ListWorkers",
    "LoseWorker",
    "MakeLink",
    "MakePool",
    "MakeSchedule",
    "MendRun",
    "Moment",
    "PauseRun",
    "Publish",
    "Recently",
    "Register",
    "RemovePool",
    "RemoveSchedule",
    "Report",
    "ReportItem",
    "Reported",
    "RerunRun",
    "Results",
    "ResumeRun",
    "RevokeLink",
    "RowsToCheck",
    "SaveFilter",
    "Settings",
    "SettleEffect",
    "StartMany",
    "StartRun",
    "StartSchedule",
    "Started",
    "StillRunning",
    "Tick",
    "Unchecked",
    "Unfold",
    "Unjudged",
    "Verdicts",
    "Why",
    "Writer",
    "system_clock",
]

_ROOMS = {
    "data_commands": {"Chore", "EndChore", "KeepFile", "KeepRows", "RowsToCheck", "Unchecked"},
    "engine": {"ABOUT_ROWS", "Engine", "Results"},
    "time_of_runs": {"Moment"},
    "turn": {"KEEP_FILES", "LEASE", "LOSSES", "Settings"},
    "verdicts": {"MOST_WORK", "Unjudged", "Verdicts"},
    "writer": {"SLOW_FLUSH", "Writer", "system_clock"},
}
"""Where those names are that are no commands."""


def __getattr__(name: str) -> Any:
    """A name, from the module that has it."""
    if name not in __all__:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    room = next((room for room, names in _ROOMS.items() if name in names), "commands")
    found = globals()[name] = getattr(import_module(f"{__name__}.{room}"), name)
    return found
