"""A floor with a workflow that schedules start, and what tests ask of it."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from pydantic import BaseModel

from tests.floor import Floor, floor, task_loom
from yarnloom import Loom, Secret, param, planned_at, sequence, step
from yarnloom.engine.commands import ListSchedules, MakeSchedule, Tick
from yarnloom.protocol.setting_answers import ScheduleAnswer
from yarnloom.sdk.calls import Call
from yarnloom.service.render.answers import show
from yarnloom.store import audit

HOUR = 3_600.0
FIRST = "2027-01-15T08:00:00+00:00"  # the clock's beginning


class Job(BaseModel):
    """What a run is started with."""

    order: int = 0
    password: Secret | None = None


def loom_with(**options: Any) -> Loom:
    """A loom with a schedule."""
    loom, work = task_loom()
    plan = sequence(step("it", work, value=planned_at()), step("then", work, value=param("order")))
    workflow = loom.workflow("w", params=Job, plan=plan)
    if options:
        call = Call(workflow, options.pop("params", {}))
        loom.schedule(call, **{"name": "nightly", "cron": "30 2 * * *", **options})
    return loom


@contextmanager
def schedule_floor() -> Iterator[Floor]:
    """A floor with a worker and a workflow, and right records at the end."""
    with floor() as found:
        found.publish(loom_with())
        found.worker(places=50)
        yield found
        assert audit(found.inline.database.writer) == []


def make(at: Floor, name: str = "hourly", **settings: Any) -> dict[str, Any]:
    """Make one by hand."""
    paused = settings.pop("paused", False)
    filled = {"workflow": "w", "cron": "0 * * * *", **settings}
    return show(ScheduleAnswer, at.do(MakeSchedule(name, filled, "ann", "why", paused)))


def look(at: Floor, name: str = "hourly") -> dict[str, Any]:
    """One as it is now."""
    (schedule,) = at.do(ListSchedules(name))
    return show(ScheduleAnswer, schedule)


def runs(at: Floor, name: str = "hourly") -> list[tuple[str, str]]:
    """Its runs: for when, and their states."""
    rows = at.inline.database.writer.execute(
        "SELECT planned_at, state FROM runs WHERE schedule = ? ORDER BY number", (name,)
    )
    return [(planned[11:16], state) for planned, state in rows.fetchall()]


def pass_by(at: Floor, hours: float) -> None:
    """Hours pass, with the workers heard of."""
    for _ in range(round(hours * 4)):
        at.advance(HOUR / 4)


def be_down(at: Floor, hours: float) -> None:
    """No service runs for some hours."""
    at.inline.clock.advance(hours * HOUR)
    at.inline.restart()
    at.worker()
    at.do(Tick())
