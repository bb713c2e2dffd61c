"""Schedules in the engine: what comes when, what is missed, busy, paused and changed."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest
from pydantic import BaseModel

from tests.engine.use_cases.schedule_floor import (
    FIRST,
    HOUR,
    be_down,
    look,
    loom_with,
    make,
    pass_by,
    runs,
    schedule_floor,
)
from tests.floor import Floor, task_loom
from yarnloom import param, step
from yarnloom.engine.commands import (
    CancelRun,
    ChangeSchedule,
    ListSchedules,
    MakeSchedule,
    PauseRun,
    RemoveSchedule,
    StartSchedule,
    Tick,
)
from yarnloom.errors import Conflict, InvalidInput, NotFound, PlanError
from yarnloom.testing import inline_service


@pytest.fixture
def at() -> Iterator[Floor]:
    """A floor, and right records at the end."""
    with schedule_floor() as found:
        yield found


def test_each_planned_time_makes_one_run(at: Floor) -> None:
    """At its time, with its params, key and planned time, by the schedule."""
    shown = make(at, params={"order": 4}, tags=["by-clock"], priority=3, share="office")
    assert shown["next_at"] == "2027-01-15T09:00:00+00:00"
    at.advance(HOUR - 0.1)
    assert runs(at) == []
    at.advance(0.1)
    assert runs(at) == [("09:00", "running")]
    run = at.inline.run(1)
    assert run["key"] == "schedule/hourly/2027-01-15T09:00:00Z"
    assert (run["started_by"], run["schedule"]) == ("schedule hourly", "hourly")
    assert (run["tags"], run["priority"], run["share"]) == (["by-clock"], 3, "office")
    assert run["params"] == {"order": 4, "password": None}
    assert at.inline.step(1, "it")["input"]["value"] == "2027-01-15T09:00:00+00:00"
    shown = look(at)
    assert (shown["last"]["run"], shown["last"]["result"]) == (1, "started")
    assert (shown["next_at"], shown["running"]) == ("2027-01-15T10:00:00+00:00", [1])
    at.drain()
    pass_by(at, 3)
    at.drain()
    assert look(at)["last"]["state"] == "done"
    assert runs(at)[:3] == [("09:00", "done"), ("10:00", "done"), ("12:00", "done")]


def test_nothing_is_looked_at_before_the_next_time() -> None:
    """There is one timer, of the time that comes first; a paused schedule has none."""
    with inline_service() as inline:
        inline.publish(loom_with())
        settings = {"workflow": "w", "cron": "0 10 * * *"}
        inline.do(MakeSchedule("paused", settings, "ann", paused=True))
        assert inline.batch(Tick()).next_due is None
        inline.do(MakeSchedule("daily", settings, "ann"))
        assert inline.batch(Tick()).next_due == 2 * HOUR
        inline.do(MakeSchedule("other", {**settings, "cron": "30 9 * * *"}, "ann"))
        assert inline.batch(Tick()).next_due == 1.5 * HOUR
        inline.restart()
        assert inline.batch(Tick()).next_due == 1.5 * HOUR


def test_planned_times_are_told_in_the_schedules_zone(at: Floor) -> None:
    """With its offset, so that a step sees the local date."""
    make(at, cron="30 0 * * *", zone="Australia/Lord_Howe")
    pass_by(at, 24)
    assert at.inline.step(1, "it")["input"]["value"] == "2027-01-16T00:30:00+11:00"


# Busy


def test_at_most_one_time_waits_for_an_earlier_run(at: Floor) -> None:
    """The newest; a paused run counts as running; it comes when that has ended."""
    make(at)
    pass_by(at, 1)
    at.do(PauseRun(1, "t"))
    pass_by(at, 3)
    shown = look(at)
    assert runs(at) == [("09:00", "pausing")]
    assert (shown["waiting_at"], shown["passed_over"]) == ("2027-01-15T12:00:00+00:00", 2)
    be_down(at, 0)
    at.do(CancelRun(1, "t"))
    at.end("1/it", "cancelled")
    assert runs(at) == [("09:00", "cancelled"), ("12:00", "running")]
    assert look(at)["waiting_at"] is None


def test_a_time_can_be_skipped_where_an_earlier_run_is_under_way(at: Floor) -> None:
    """It says so."""
    make(at, if_busy="skip")
    pass_by(at, 2)
    shown = look(at)
    assert runs(at) == [("09:00", "running")]
    assert shown["last"]["why"] == "run 1 was still under way"
    assert (shown["last"]["result"], shown["last"]["run"]) == ("passed_over", None)
    at.drain()
    pass_by(at, 1)
    assert len(runs(at)) == 2


def test_a_time_can_replace_an_earlier_run(at: Floor) -> None:
    """Which is told to stop, and gets its grace."""
    make(at, if_busy="replace")
    pass_by(at, 2)
    assert runs(at) == [("09:00", "cancelling")]
    at.end("1/it", "cancelled")
    assert runs(at) == [("09:00", "cancelled"), ("10:00", "running")]
    assert "replaced by the next of schedule hourly" in at.inline.run(1)["error"]["message"]


def test_runs_of_a_schedule_can_stand_side_by_side(at: Floor) -> None:
    """Where it says so."""
    make(at, if_busy="start")
    pass_by(at, 3)
    assert runs(at) == [("09:00", "running"), ("10:00", "running"), ("11:00", "running")]


# Missed


@pytest.mark.parametrize(
    ("missed", "expected"),
    [("one", ["13:00"]), ("none", []), ("all", ["09:00", "10:00", "11:00", "12:00", "13:00"])],
)
def test_what_was_missed_while_no_service_ran(at: Floor, missed: str, expected: list[str]) -> None:
    """Caught up with as it says, oldest first; the next comes at its time."""
    make(at, missed=missed, if_busy="start")
    be_down(at, 5.5)
    assert [planned for planned, _ in runs(at)] == expected
    assert look(at)["next_at"] == "2027-01-15T14:00:00+00:00"
    assert look(at)["passed_over"] == 5 - len(expected)
    be_down(at, 0)
    assert len(runs(at)) == len(expected)


def test_at_most_a_hundred_are_caught_up_with(at: Floor) -> None:
    """The newest."""
    make(at, cron="* * * * *", missed="all", if_busy="start")
    be_down(at, 10.0)
    found = [planned for planned, _ in runs(at)]
    assert (len(found), found[0], found[-1]) == (100, "16:21", "18:00")


def test_a_time_that_is_looked_at_a_little_late_was_not_missed(at: Floor) -> None:
    """A busy service, or a short restart."""
    make(at, missed="none")
    be_down(at, 1 + 50 / HOUR)
    assert runs(at) == [("09:00", "running")]


# Paused


def test_a_paused_schedule_starts_nothing_and_misses_nothing(at: Floor) -> None:
    """What passed meanwhile is behind; who paused it is kept; one can be made paused."""
    make(at, paused=True)
    pass_by(at, 3)
    be_down(at, 3)
    shown = look(at)
    assert (runs(at), shown["next_at"], shown["paused"]["by"]) == ([], None, "ann")
    assert shown["next_times"][0] == "2027-01-15T15:00:00+00:00"
    at.do(ChangeSchedule("hourly", {}, "bob", paused=False))
    assert (runs(at), look(at)["next_at"]) == ([], "2027-01-15T15:00:00+00:00")
    pass_by(at, 1)
    assert runs(at) == [("15:00", "running")]


def test_a_time_that_waits_stays_while_the_schedule_is_paused(at: Floor) -> None:
    """It comes with the resume, if the run has ended."""
    make(at)
    pass_by(at, 2)
    at.do(ChangeSchedule("hourly", {}, "bob", paused=True))
    at.drain()
    assert runs(at) == [("09:00", "done")]
    at.do(ChangeSchedule("hourly", {}, "bob", paused=False))
    assert runs(at) == [("09:00", "done"), ("10:00", "running")]


def test_it_can_be_started_now_whatever_it_is(at: Floor) -> None:
    """By whom is kept; the same key is the same run."""
    make(at, paused=True, params={"order": 9})
    for key in ("a", "a", "b"):
        at.do(StartSchedule("hourly", key, "ann"))
    assert runs(at) == [("08:00", "running")] * 2
    assert at.inline.run(1)["started_by"] == "ann"
    assert at.inline.step(1, "it")["input"]["value"] == FIRST


# The clock is set, and crashes


def test_a_clock_that_is_set_back_fires_nothing_twice(at: Floor) -> None:
    """Times that come again were started; those after them come."""
    make(at)
    for _ in range(3):
        pass_by(at, 1)
        at.drain()
    at.inline.clock.now -= round(2.5 * HOUR * 1_000_000)
    pass_by(at, 4)
    at.drain()
    pass_by(at, 1)
    at.drain()
    assert [planned for planned, _ in runs(at)] == ["09:00", "10:00", "11:00", "12:00", "13:00"]


def test_a_clock_that_went_far_ahead_and_back_does_not_silence_it(at: Floor) -> None:
    """A year ahead by mistake, and back: the next comes at its time."""
    make(at)
    at.inline.clock.now += 365 * 86_400 * 1_000_000
    at.do(Tick())
    at.do(Tick())
    at.drain()
    assert look(at)["next_at"].startswith("2028")
    at.inline.clock.now -= 365 * 86_400 * 1_000_000
    pass_by(at, 1)
    assert len(runs(at)) == 2


def test_a_clock_that_was_set_back_while_no_service_ran(at: Floor) -> None:
    """The same."""
    make(at)
    pass_by(at, 2)
    at.drain()
    at.inline.clock.now -= round(1.5 * HOUR * 1_000_000)
    be_down(at, 0)
    pass_by(at, 3)
    at.drain()
    assert [planned for planned, _ in runs(at)] == ["09:00", "10:00", "11:00"]


# What cannot start


def test_a_firing_that_cannot_start_is_a_run_that_failed(at: Floor) -> None:
    """Because the workflow wants other params by now; it says what is wrong."""
    make(at, params={"order": 4})
    loom, work = task_loom()

    class Other(BaseModel):
        """Other params."""

        name: str

    loom.workflow("w", params=Other, plan=step("it", work, value=param("name")))
    at.publish(loom)
    pass_by(at, 1)
    run = at.inline.run(1)
    assert (run["state"], run["error"]["type"]) == ("failed", "CouldNotStart")
    assert "/name" in run["error"]["message"]
    assert (look(at)["last"]["result"], look(at)["last"]["state"]) == ("failed", "failed")
    pass_by(at, 1)
    assert len(runs(at)) == 2


def test_a_secret_is_kept_sealed_and_given_to_the_run(at: Floor) -> None:
    """Nobody reads it in the records or in what is shown."""
    shown = make(at, params={"password": "hunter2"})
    assert "hunter2" not in str(shown)
    assert at.do(ChangeSchedule("hourly", {"note": "x"}, "ann")).note == "x"
    kept = at.inline.database.writer.execute("SELECT declared, by_hand FROM schedules").fetchall()
    kept += at.inline.database.writer.execute("SELECT detail FROM commands").fetchall()
    assert "hunter2" not in str(kept)
    pass_by(at, 1)
    assert at.inline.run(1)["state"] == "running"
    assert "hunter2" not in str(at.inline.run(1))


# Made, changed, declared


@pytest.mark.parametrize(
    ("settings", "where"),
    [
        ({"cron": "61 * * * *"}, "/cron"),
        ({"cron": ""}, "/cron"),
        ({"zone": "Nowhere/Here"}, "/zone"),
        ({"if_busy": "hope"}, "/if_busy"),
        ({"missed": "some"}, "/missed"),
        ({"missed": "all"}, "/missed"),
        ({"priority": 9_999}, "/priority"),
        ({"workflow": "v"}, "/workflow"),
        ({"params": {"ordr": 1}}, "/params/ordr"),
        ({"whatever": 1}, "/whatever"),
        ({"tags": "x"}, "/tags"),
    ],
)
def test_what_makes_no_sense_is_refused(at: Floor, settings: dict[str, Any], where: str) -> None:
    """When it is made, and when it is changed; each mistake by its place, and nothing changes."""
    with pytest.raises(InvalidInput) as refused:
        make(at, **settings)
    assert where in {problem.where for problem in refused.value.problems}
    before = make(at)
    with pytest.raises(InvalidInput) as refused:
        at.do(ChangeSchedule("hourly", settings, "ann"))
    assert where in {problem.where for problem in refused.value.problems}
    assert look(at) == before


def test_names(at: Floor) -> None:
    """A name is taken once, must be one, and the nearest is offered."""
    make(at)
    for name in ("hourly", "a b", ""):
        with pytest.raises(InvalidInput):
            make(at, name)
    for command in (
        ListSchedules("hourli"),
        ChangeSchedule("hourli", {}, "ann"),
        RemoveSchedule("hourli", "ann"),
        StartSchedule("hourli", "k", "ann"),
    ):
        with pytest.raises(NotFound, match="did you mean 'hourly'"):
            at.do(command)


def test_a_removed_one_starts_nothing_and_its_runs_stay(at: Floor) -> None:
    """Made anew it does not fire again what it fired."""
    make(at)
    pass_by(at, 1)
    at.do(RemoveSchedule("hourly", "ann"))
    pass_by(at, 2)
    assert runs(at) == [("09:00", "running")]
    at.drain()
    at.inline.clock.now -= round(2.5 * HOUR * 1_000_000)
    make(at)
    pass_by(at, 1)
    assert runs(at) == [("09:00", "done")]


def test_a_loom_declares_changes_and_forgets(at: Floor) -> None:
    """What is changed by hand wins until it is taken back; a pause outlives a publication."""
    at.publish(loom_with(zone="Europe/Lisbon", paused=True))
    shown = look(at, "nightly")
    assert (shown["loom"], shown["workflow"]) == ("l", "l/w")
    assert (bool(shown["paused"]), shown["zone"]) == (True, "Europe/Lisbon")
    at.do(ChangeSchedule("nightly", {"cron": "0 4 * * *"}, "ann", paused=False))
    at.publish(loom_with(zone="Europe/Madrid", paused=True))
    shown = look(at, "nightly")
    assert (shown["paused"], shown["cron"], shown["zone"]) == (None, "0 4 * * *", "Europe/Madrid")
    assert shown["by_hand"] == {"cron": "0 4 * * *"}
    assert at.do(ChangeSchedule("nightly", {}, "a", as_declared=True)).cron == "30 2 * * *"
    with pytest.raises(Conflict, match="can be paused"):
        at.do(RemoveSchedule("nightly", "ann"))
    at.publish(loom_with())
    with pytest.raises(NotFound):
        look(at, "nightly")


def test_a_publication_that_changes_nothing_keeps_the_next_time(at: Floor) -> None:
    """A deployment right after a planned time does not lose one that is about to be looked at."""
    at.publish(loom_with(cron="0 9 * * *"))
    at.inline.clock.advance(HOUR + 1)
    at.publish(loom_with(cron="0 9 * * *"))
    at.do(Tick())
    assert runs(at, "nightly") == [("09:00", "running")]


def test_two_owners_of_one_name_are_refused(at: Floor) -> None:
    """And with them the whole publication."""
    make(at, "nightly")
    with pytest.raises(InvalidInput, match="nothing was published") as refused:
        at.publish(loom_with(note="x"))
    assert "made by hand" in str(refused.value)


@pytest.mark.parametrize(
    ("options", "where", "said"),
    [
        ({"cron": "never"}, "nightly.cron", "expected five fields"),
        ({"zone": "Here"}, "nightly.zone", "no time zone"),
        ({"params": {"ordr": 1}}, "nightly.params.ordr", ""),
        ({"missed": "all"}, "nightly.missed", "if_busy='start'"),
    ],
)
def test_a_loom_is_checked(options: dict[str, Any], where: str, said: str) -> None:
    """Before anything is published."""
    with pytest.raises(PlanError) as wrong:
        loom_with(**options).check()
    (problem,) = wrong.value.problems
    assert problem.where == where
    assert said in problem.message
