"""Everything that can be submitted to the engine, a file a noun.

Owns the commands and some of their answers: plain records, without behaviour. May import `records`
only. A new command goes into the file of its noun, and into the imports here; its use case says
with `@handles` that it does it.
"""

from yarnloom.engine.commands.clock import Tick as Tick
from yarnloom.engine.commands.command import Command as Command
from yarnloom.engine.commands.command import DeferredAnswer as DeferredAnswer
from yarnloom.engine.commands.command import handles as handles
from yarnloom.engine.commands.effects import BeginEffect as BeginEffect
from yarnloom.engine.commands.effects import EndEffect as EndEffect
from yarnloom.engine.commands.effects import SettleEffect as SettleEffect
from yarnloom.engine.commands.files import KeepFile as KeepFile
from yarnloom.engine.commands.files import KeepRows as KeepRows
from yarnloom.engine.commands.files import RowsToCheck as RowsToCheck
from yarnloom.engine.commands.files import Unchecked as Unchecked
from yarnloom.engine.commands.filters import DropFilter as DropFilter
from yarnloom.engine.commands.filters import SaveFilter as SaveFilter
from yarnloom.engine.commands.jobs import EndListJob as EndListJob
from yarnloom.engine.commands.jobs import ListJob as ListJob
from yarnloom.engine.commands.links import MakeLink as MakeLink
from yarnloom.engine.commands.links import RevokeLink as RevokeLink
from yarnloom.engine.commands.pools import ChangePool as ChangePool
from yarnloom.engine.commands.pools import ListPools as ListPools
from yarnloom.engine.commands.pools import MakePool as MakePool
from yarnloom.engine.commands.pools import RemovePool as RemovePool
from yarnloom.engine.commands.queries import ListQuiet as ListQuiet
from yarnloom.engine.commands.queries import Recently as Recently
from yarnloom.engine.commands.queries import Unfold as Unfold
from yarnloom.engine.commands.queries import Why as Why
from yarnloom.engine.commands.runs import CancelRun as CancelRun
from yarnloom.engine.commands.runs import ChangeRun as ChangeRun
from yarnloom.engine.commands.runs import CheckStarts as CheckStarts
from yarnloom.engine.commands.runs import FailuresOf as FailuresOf
from yarnloom.engine.commands.runs import MendRun as MendRun
from yarnloom.engine.commands.runs import PauseRun as PauseRun
from yarnloom.engine.commands.runs import RerunRun as RerunRun
from yarnloom.engine.commands.runs import ResumeRun as ResumeRun
from yarnloom.engine.commands.runs import Started as Started
from yarnloom.engine.commands.runs import StartMany as StartMany
from yarnloom.engine.commands.runs import StartRun as StartRun
from yarnloom.engine.commands.runs import StillRunning as StillRunning
from yarnloom.engine.commands.schedules import ChangeSchedule as ChangeSchedule
from yarnloom.engine.commands.schedules import ListSchedules as ListSchedules
from yarnloom.engine.commands.schedules import MakeSchedule as MakeSchedule
from yarnloom.engine.commands.schedules import RemoveSchedule as RemoveSchedule
from yarnloom.engine.commands.schedules import StartSchedule as StartSchedule
from yarnloom.engine.commands.steps import ACTIONS as ACTIONS
from yarnloom.engine.commands.steps import StepAction as StepAction
from yarnloom.engine.commands.workers import BeginAttempt as BeginAttempt
from yarnloom.engine.commands.workers import ClosePoll as ClosePoll
from yarnloom.engine.commands.workers import DrainWorker as DrainWorker
from yarnloom.engine.commands.workers import InHand as InHand
from yarnloom.engine.commands.workers import LeaveService as LeaveService
from yarnloom.engine.commands.workers import ListWorkers as ListWorkers
from yarnloom.engine.commands.workers import LoseWorker as LoseWorker
from yarnloom.engine.commands.workers import Poll as Poll
from yarnloom.engine.commands.workers import Register as Register
from yarnloom.engine.commands.workers import Report as Report
from yarnloom.engine.commands.workers import Reported as Reported
from yarnloom.engine.commands.workers import ReportItem as ReportItem
from yarnloom.engine.commands.workflows import Publish as Publish
