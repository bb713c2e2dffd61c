"""Which function does which command: the table of all use cases."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from yarnloom.engine import commands
from yarnloom.engine.compact import segments
from yarnloom.engine.dispatch import effects, kept_files, pool_settings
from yarnloom.engine.operations import (
    attempt_reports,
    cancel,
    change_run,
    due,
    links,
    list_results,
    mend,
    pause,
    publish,
    saved_filters,
    schedules,
    start,
    step_actions,
    worker_sessions,
)
from yarnloom.engine.queries import explain
from yarnloom.engine.state.transaction import (
    Transaction,
)

USE_CASES: dict[type, Callable[[Transaction, Any], Any]] = {
    commands.Publish: publish.publish,
    commands.StartRun: start.start_run,
    commands.CheckStarts: start.check_starts,
    commands.StartMany: start.start_many,
    commands.KeepFile: kept_files.keep_file,
    commands.KeepRows: kept_files.keep_rows,
    commands.EndListJob: list_results.end_chore,
    commands.CancelRun: cancel.cancel_run,
    commands.PauseRun: pause.pause_run,
    commands.ResumeRun: pause.resume_run,
    commands.MendRun: mend.mend_run,
    commands.Unfold: segments.unfold,
    commands.ChangeRun: change_run.change_run,
    commands.RerunRun: start.rerun,
    commands.StepAction: step_actions.handle_step,
    commands.BeginEffect: attempt_reports.begin_effect,
    commands.EndEffect: effects.end_effect,
    commands.SettleEffect: effects.settle_effect,
    commands.Register: worker_sessions.register,
    commands.Poll: worker_sessions.ask,
    commands.ClosePoll: worker_sessions.close_ask,
    commands.Report: worker_sessions.take_report,
    commands.InHand: worker_sessions.in_hand,
    commands.MakeLink: links.make_link,
    commands.RevokeLink: links.revoke_link,
    commands.SaveFilter: saved_filters.save_filter,
    commands.DropFilter: saved_filters.drop_filter,
    commands.LeaveService: worker_sessions.leave,
    commands.BeginAttempt: attempt_reports.begin_attempt,
    commands.LoseWorker: worker_sessions.lose_worker,
    commands.Tick: due.tick,
    commands.ListWorkers: worker_sessions.list_workers,
    commands.DrainWorker: worker_sessions.drain_worker,
    commands.MakePool: pool_settings.make_pool,
    commands.ChangePool: pool_settings.change_pool,
    commands.RemovePool: pool_settings.remove_pool,
    commands.ListPools: pool_settings.list_pools,
    commands.MakeSchedule: schedules.make_schedule,
    commands.ChangeSchedule: schedules.change_schedule,
    commands.RemoveSchedule: schedules.remove_schedule,
    commands.StartSchedule: schedules.start_schedule,
    commands.ListSchedules: schedules.list_schedules,
    commands.Why: explain.why,
    commands.ListQuiet: explain.list_quiet,
    commands.Recently: pool_settings.recently,
}


QUESTIONS = (
    *(commands.Why, commands.ListQuiet, commands.Recently),
    *(commands.ListWorkers, commands.ListPools, commands.ListSchedules),
)
"""Commands that change nothing: they are answered also while nothing can be stored."""


ABOUT_RUNS = (
    *(commands.CancelRun, commands.PauseRun, commands.ResumeRun, commands.MendRun),
    *(commands.ChangeRun, commands.StepAction, commands.SettleEffect),
)
"""Commands that change the open steps of a run."""

ABOUT_ROWS = (commands.MendRun, commands.StepAction)
"""Commands that read or change ended steps of a run."""
