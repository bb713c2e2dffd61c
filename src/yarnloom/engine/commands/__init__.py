"""Everything that can be submitted to the engine, a file a noun.

Owns the commands and their answers: plain records, without behaviour. May import `store` only, for
the types of its records. A new command goes into the file of its noun, and into `Command` here.
"""

from yarnloom.engine.commands.clock import Tick
from yarnloom.engine.commands.effects import BeginEffect, EndEffect, SettleEffect
from yarnloom.engine.commands.files import KeepFile, KeepRows, RowsToCheck, Unchecked
from yarnloom.engine.commands.filters import DropFilter, SaveFilter
from yarnloom.engine.commands.jobs import EndListJob, ListJob
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
from yarnloom.engine.commands.steps import ACTIONS, StepAction
from yarnloom.engine.commands.workers import (
    BeginAttempt,
    ClosePoll,
    DrainWorker,
    InHand,
    LeaveService,
    ListWorkers,
    LoseWorker,
    Poll,
    Register,
    Report,
    Reported,
    ReportItem,
)
from yarnloom.engine.commands.workflows import Publish

__all__ = [
    "ACTIONS",
    "BeginAttempt",
    "BeginEffect",
    "CancelRun",
    "ChangePool",
    "ChangeRun",
    "ChangeSchedule",
    "CheckStarts",
    "ClosePoll",
    "Command",
    "DrainWorker",
    "DropFilter",
    "EndEffect",
    "EndListJob",
    "FailuresOf",
    "InHand",
    "KeepFile",
    "KeepRows",
    "LeaveService",
    "ListJob",
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
    "Poll",
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
    "StepAction",
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
    | EndListJob
    | CancelRun
    | PauseRun
    | Unfold
    | ResumeRun
    | MendRun
    | ChangeRun
    | RerunRun
    | StepAction
    | BeginAttempt
    | BeginEffect
    | EndEffect
    | SettleEffect
    | Register
    | Poll
    | ClosePoll
    | Report
    | MakeLink
    | RevokeLink
    | SaveFilter
    | DropFilter
    | InHand
    | LeaveService
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
