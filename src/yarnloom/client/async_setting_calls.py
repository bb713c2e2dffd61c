"""Settings of the service, for asyncio. `make generate` makes `setting_calls.py` from it."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING, Any, Unpack
from urllib.parse import quote

from yarnloom.client import http_requests
from yarnloom.client.async_connection import AsyncConnection
from yarnloom.client.http_requests import KEEP, Request
from yarnloom.client.run_facts import read, read_list
from yarnloom.client.runs_filter import RunsFilter

if TYPE_CHECKING:
    from yarnloom.plan import Rate
    from yarnloom.protocol.access_answers import NewToken, TokenAnswer
    from yarnloom.protocol.fields import Role
    from yarnloom.protocol.overview_answers import OverTimeAnswer
    from yarnloom.protocol.run_answers import RunStateWord
    from yarnloom.protocol.setting_answers import PoolAnswer, PoolUse, SavedFilter, ScheduleAnswer
    from yarnloom.protocol.worker_answers import WorkerAnswer, WorkerFacts
    from yarnloom.protocol.workflow_answers import (
        PublishedWorkflow,
        TaskAnswer,
        TaskWithCode,
        WorkflowAnswer,
        WorkflowWithPlan,
    )
    from yarnloom.sdk.calls import Call
    from yarnloom.sdk.loom import Loom
    from yarnloom.units import Duration


class AsyncSettingCalls(AsyncConnection):
    """Looms, workers, pools, schedules and saved filters."""

    async def publish(self, loom: Loom) -> list[PublishedWorkflow]:
        """Publish a loom: its workflows, tasks, pools and schedules are current then.

        Raises:
            PlanError: the loom has mistakes.
            Conflict: a step names a pool that is not there.
        """
        from yarnloom.protocol.workflow_answers import PublishedWorkflows

        request = Request("POST", "/workflows", loom.publication())
        return read(PublishedWorkflows, await self.call(request)).workflows

    async def workflows(self) -> list[WorkflowAnswer]:
        """Every workflow that is published."""
        from yarnloom.protocol.workflow_answers import WorkflowAnswer

        return read_list(WorkflowAnswer, (await self._get("/workflows"))["workflows"])

    async def workflow(self, name: str) -> WorkflowWithPlan:
        """A workflow with its plan.

        Raises:
            NotFound: there is none of that name.
        """
        from yarnloom.protocol.workflow_answers import WorkflowWithPlan

        return read(WorkflowWithPlan, await self._get("/workflows", name=name))

    async def over_time(self, name: str, *, days: int = 30) -> OverTimeAnswer:
        """How the runs of a workflow went, day by day and step by step.

        Args:
            name: the workflow's.
            days: how many, back from today.
        """
        from yarnloom.protocol.overview_answers import OverTimeAnswer

        data = await self._get("/workflows/over-time", name=name, days=days)
        return read(OverTimeAnswer, data)

    async def tokens(self) -> list[TokenAnswer]:
        """Every token that can be used, and those that ended lately."""
        from yarnloom.protocol.access_answers import TokenAnswer

        return read_list(TokenAnswer, (await self._get("/tokens"))["tokens"])

    async def add_token(
        self,
        name: str,
        may: Sequence[Role],
        *,
        workflows: Sequence[str] = (),
        lasts: Duration = 90 * 86_400,
    ) -> NewToken:
        """Make a token; its `token` is shown this once.

        Args:
            name: its owner, for the record.
            may: its roles.
            workflows: patterns of what it may operate, as `shop/*`; empty for all.
            lasts: how long it can be used.

        Raises:
            Conflict: one of the name can be used.
        """
        from yarnloom.protocol.access_answers import NewToken

        request = http_requests.add_token_request(name, may, workflows, lasts)
        return read(NewToken, await self.call(request))

    async def revoke_token(self, name: str, *, reason: str = "") -> TokenAnswer:
        """End a token before its time, with all that it holds open.

        Raises:
            NotFound: no token of the name can be used.
        """
        from yarnloom.protocol.access_answers import TokenAnswer

        request = http_requests.revoke_token_request(name, reason)
        return read(TokenAnswer, await self.call(request))

    async def tasks(self) -> list[TaskAnswer]:
        """Every task that is published, and the workers that have it."""
        from yarnloom.protocol.workflow_answers import TaskAnswer

        return read_list(TaskAnswer, (await self._get("/tasks"))["tasks"])

    async def task(self, name: str, *, code: str | None = None) -> TaskWithCode:
        """A task with its source.

        Args:
            name: the task's.
            code: the hash of its code, as attempts have it; the newest unless given.

        Raises:
            NotFound: there is none of that name.
        """
        from yarnloom.protocol.workflow_answers import TaskWithCode

        return read(TaskWithCode, await self._get("/tasks", name=name, code=code))

    async def workers(self) -> list[WorkerAnswer]:
        """Every worker, with its attempts in hand and its tasks."""
        from yarnloom.protocol.worker_answers import WorkerList

        return read(WorkerList, await self._get("/workers")).workers

    async def drain(self, worker: str, *, reason: str = "") -> WorkerFacts:
        """Give a worker nothing more, and let it end when it has nothing in hand.

        Args:
            worker: its name or id.
            reason: why, for the record.

        Raises:
            NotFound: there is none of that name.
        """
        from yarnloom.protocol.worker_answers import WorkerFacts

        return read(WorkerFacts, await self.call(http_requests.drain_request(worker, reason)))

    async def pools(self) -> list[PoolAnswer]:
        """Every pool: its limits, and how it is used now."""
        from yarnloom.protocol.setting_answers import PoolList

        return read(PoolList, await self._get("/pools")).pools

    async def pool(self, name: str) -> PoolAnswer:
        """A pool.

        Raises:
            NotFound: there is none of that name.
        """
        return await self._pool(Request("GET", f"/pools/{quote(name, safe='')}"))

    async def pool_use(self, name: str) -> PoolUse:
        """How full a pool was, and how long steps waited for it.

        Raises:
            NotFound: there is none of that name.
        """
        from yarnloom.protocol.setting_answers import PoolUse

        return read(PoolUse, await self._get(f"/pools/{quote(name, safe='')}/use"))

    async def make_pool(
        self,
        name: str,
        *,
        limit: int | None = None,
        rate: Rate | None = None,
        note: str = "",
        reason: str = "",
    ) -> PoolAnswer:
        """Make a pool by hand; looms declare theirs with `loom.pool`.

        Args:
            name: the pool's.
            limit: how many attempts may run at once; any number unless given, 0 halts.
            rate: how many may begin in a time; any number unless given.
            note: its purpose.
            reason: why, for the record.

        Raises:
            Conflict: there is one of that name.
        """
        settings = {"limit": limit, "rate": rate, "note": note, "reason": reason}
        body = http_requests.pool_request(name, **settings).body
        return await self._pool(Request("POST", "/pools", {"name": name, **body}))

    async def change_pool(
        self,
        name: str,
        *,
        limit: int | None = KEEP,
        rate: Rate | None = KEEP,
        note: str = KEEP,
        paused: bool = KEEP,
        as_declared: bool = False,
        reason: str = "",
    ) -> PoolAnswer:
        """Change a pool at once; settings that are left out stay. Returns the changed pool.

        Args:
            name: the pool's.
            limit: how many attempts may run at once; None for any number, 0 halts.
            rate: how many may begin in a time; None for any number.
            note: its purpose.
            paused: True begins nothing of it any more, False goes on.
            as_declared: first forget earlier changes by hand.
            reason: why, for the record.

        Raises:
            NotFound: there is none of that name.
        """
        settings = {"limit": limit, "rate": rate, "note": note, "paused": paused}
        more = {"as_declared": as_declared, "reason": reason}
        return await self._pool(http_requests.pool_request(name, **settings, **more))

    async def remove_pool(self, name: str, *, reason: str = "") -> None:
        """Remove a pool.

        Raises:
            Conflict: a step names it.
        """
        await self.call(http_requests.remove_request("pools", name, reason))

    async def _pool(self, request: Request) -> PoolAnswer:
        from yarnloom.protocol.setting_answers import PoolAnswer

        return read(PoolAnswer, await self.call(request))

    async def schedules(self) -> list[ScheduleAnswer]:
        """Every schedule, with its next time and its last result."""
        from yarnloom.protocol.setting_answers import ScheduleAnswer

        data = (await self._get("/schedules"))["schedules"]
        return read_list(ScheduleAnswer, data)

    async def schedule(self, name: str) -> ScheduleAnswer:
        """A schedule.

        Raises:
            NotFound: there is none of that name.
        """
        return await self._schedule(Request("GET", f"/schedules/{quote(name, safe='')}"))

    async def make_schedule(
        self,
        target: Call[Any] | str,
        *,
        cron: str = "",
        name: str = "",
        paused: bool = False,
        **settings: Any,
    ) -> ScheduleAnswer:
        """Make a schedule by hand; looms declare theirs with `loom.schedule`.

        Args:
            target: a call of a workflow, or the workflow's name.
            cron: when: minute, hour, day of month, month, day of week.
            name: the schedule's; the workflow's unless given.
            paused: whether it is made paused.
            settings: `every`, `first`, `spread`, `zone`, `params` (after a name), `if_busy`,
                `missed`, `priority`, `share`, `tags`, `note` and `reason`, as of `loom.schedule`.

        Raises:
            InvalidInput: something is not right; `problems` holds all that is wrong.
        """
        body = http_requests.schedule_body(target, name, settings)
        body |= {"cron": cron, "paused": paused}
        return await self._schedule(Request("POST", "/schedules", body))

    async def change_schedule(
        self, name: str, *, paused: bool = KEEP, as_declared: bool = False, **settings: Any
    ) -> ScheduleAnswer:
        """Change a schedule at once; settings that are left out stay. Returns the changed schedule.

        Args:
            name: the schedule's.
            paused: True pauses it, False lets it go on.
            as_declared: first forget earlier changes by hand.
            settings: as of `make_schedule`, with `workflow` and `cron`.

        Raises:
            NotFound: there is none of that name.
            InvalidInput: something is not right then.
        """
        more = {"paused": paused, "as_declared": as_declared}
        return await self._schedule(http_requests.schedule_request(name, **more, **settings))

    async def remove_schedule(self, name: str, *, reason: str = "") -> None:
        """Remove a schedule; its runs stay.

        Raises:
            NotFound: there is none of that name.
        """
        await self.call(http_requests.remove_request("schedules", name, reason))

    async def next_times(
        self, cron: str = "", *, every: str = "", first: str = "", zone: str = "UTC", count: int = 5
    ) -> list[datetime]:
        """Return the next times of a schedule by five fields or an interval, by a zone's clock."""
        query = {"cron": cron, "every": every, "first": first, "zone": zone}
        data = await self._get("/next-times", count=count, **query)
        return [datetime.fromisoformat(text) for text in data["times"]]

    async def _schedule(self, request: Request) -> ScheduleAnswer:
        from yarnloom.protocol.setting_answers import ScheduleAnswer

        return read(ScheduleAnswer, await self.call(request))

    async def filters(self) -> list[SavedFilter]:
        """Filters of the list of runs that are kept by name."""
        from yarnloom.protocol.setting_answers import FilterList

        return read(FilterList, await self._get("/filters")).filters

    async def save_filter(
        self, name: str, *, states: Sequence[RunStateWord] = (), **filters: Unpack[RunsFilter]
    ) -> SavedFilter:
        """Keep a filter of the list of runs by name: `client.runs(saved=name)`."""
        from yarnloom.protocol.setting_answers import SavedFilter

        request = http_requests.save_filter_request(name, states, filters)
        return read(SavedFilter, await self.call(request))

    async def drop_filter(self, name: str, *, reason: str = "") -> None:
        """Forget a filter.

        Raises:
            NotFound: there is none of that name.
        """
        await self.call(http_requests.drop_filter_request(name, reason))
