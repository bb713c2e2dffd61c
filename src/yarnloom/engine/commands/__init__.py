"""Everything that can be submitted to the engine, a file a noun.

Owns the commands and their answers: plain records, without behaviour. May import `store` only, for
the types of its records. A new command goes into the file of its noun, and into `Command` here.
"""

from yarnloom.engine.commands.clock import Tick
from yarnloom.engine.commands.effects import BeginEffect, EndEffect, SettleEffect
from yarnloom.engine.commands.files import KeepFile, KeepRows, RowsToCheck, Unchecked
from yarnloom.engine.commands.filters import DropFilter, SaveFilter
from yarnloom.engine.commands.jobs import Chore, EndChore
from yarnloom.engine.commands.links import MakeLink, RevokeLink
from yarnloom.engine.commands.pools import ChangePool, ListPools, MakePool, RemovePool
from yarnloom.engine.commands.questions import ListQuiet, Recently, Unfold, Why
from yarnloom.engine.commands.runs import (
    CancelRun,
    ChangeRun,
    CheckStarts,
    FailuresOf,
    MendRun,
    PauseRun,
    RerunRun,
    ResumeRun,
    Started,
    StartMany,
    StartRun,
    StillRunning,
)
from yarnloom.engine.commands.schedules import (
    ChangeSchedule,
    ListSchedules,
    MakeSchedule,
    RemoveSchedule,
    StartSchedule,
)
from yarnloom.engine.commands.steps import ACTIONS, HandleStep
from yarnloom.engine.commands.workers import (
    Ask,
    CloseAsk,
    DrainWorker,
    InHand,
    Leave,
    ListWorkers,
    LoseWorker,
    Register,
    Report,
    Reported,
    ReportItem,
)
from yarnloom.engine.commands.workflows import Publish

__all__ = [
    "ACTIONS",
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
    "ResumeRun",
    "RevokeLink",
    "RowsToCheck",
    "SaveFilter",
    "SettleEffect",
    "StartMany",
    "StartRun",
    "StartSchedule",
    "Started",
    "StillRunning",
    "Tick",
    "Unchecked",
    "Unfold",
    "Why",
]

Command = (
    Publish
    | StartRun
    | CheckStarts
    | StartMany
    | KeepFile
    | KeepRows
    | EndChore
    | CancelRun
    | PauseRun
    | Unfold
    | ResumeRun
    | MendRun
    | ChangeRun
    | RerunRun
    | HandleStep
    | BeginEffect
    | EndEffect
    | SettleEffect
    | Register
    | Ask
    | CloseAsk
    | Report
    | MakeLink
    | RevokeLink
    | SaveFilter
    | DropFilter
    | InHand
    | Leave
    | LoseWorker
    | Tick
    | ListWorkers
    | DrainWorker
    | MakePool
    | ChangePool
    | RemovePool
    | ListPools
    | MakeSchedule
    | ChangeSchedule
    | RemoveSchedule
    | StartSchedule
    | ListSchedules
    | Why
    | ListQuiet
    | Recently
)
