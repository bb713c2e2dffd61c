"""When schedules come: cron, intervals, spread, and times that cannot mean what they say."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, timedelta
from typing import Any

import pytest

from tests.engine.use_cases.schedule_floor import (
    FIRST,
    be_down,
    look,
    make,
    pass_by,
    runs,
    schedule_floor,
)
from tests.floor import Floor
from yarnloom.engine.commands import ChangeSchedule
from yarnloom.errors import InvalidInput


@pytest.fixture
def at() -> Iterator[Floor]:
    """A floor, and right records at the end."""
    with schedule_floor() as found:
        yield found


def test_next_times_are_those_that_come(at: Floor) -> None:
    """They are shown as they happen."""
    shown = make(at, cron="*/25 * * * *", if_busy="start")
    seen = shown["next_times"]
    end = datetime.fromisoformat(seen[-1]) - datetime.fromisoformat(FIRST)
    while at.inline.clock.mono < end / timedelta(seconds=1):
        at.advance(60.0)
    assert [planned for planned, _ in runs(at)] == [one[11:16] for one in seen]


def test_an_interval_counts_from_its_first_time(at: Floor) -> None:
    """However long a run takes, and over a time without a service."""
    made = make(at, cron="", every="90m", first="2027-01-15T08:30", missed="all", if_busy="start")
    assert [next_time[11:16] for next_time in made["next_times"][:3]] == ["08:30", "10:00", "11:30"]
    pass_by(at, 2.5)
    assert [planned for planned, _ in runs(at)] == ["08:30", "10:00"]
    be_down(at, 3.5)
    assert [planned for planned, _ in runs(at)] == ["08:30", "10:00", "11:30", "13:00"]
    assert look(at)["next_at"][11:16] == "14:30"


def test_without_a_first_time_it_counts_from_when_it_was_made(at: Floor) -> None:
    """In its own zone; changed to cron and back by hand."""
    at.advance(600)
    assert make(at, cron="", every="45s", zone="Europe/Lisbon")["next_at"].endswith(
        "08:10:45+00:00"
    )
    assert at.do(ChangeSchedule("hourly", {"cron": "5 * * * *"}, "ann", "")).every == ""
    assert look(at)["next_at"][11:16] == "09:05"
    assert at.do(ChangeSchedule("hourly", {"every": "2h"}, "ann", "")).cron == ""
    assert look(at)["next_at"][11:16] == "10:10"


def test_a_spread_moves_each_time_always_by_the_same(at: Floor) -> None:
    """Two schedules of one time do not start at once; planned they are for the same."""
    for name in ("north", "south"):
        make(at, name, spread="10m")
    firsts = {name: look(at, name)["next_times"] for name in ("north", "south")}
    moved = {name: times[0][14:19] for name, times in firsts.items()}
    assert moved["north"] != moved["south"]
    assert all(time < "10:00" for time in moved.values())
    at.inline.restart()
    at.worker()
    assert {name: look(at, name)["next_times"] for name in firsts} == firsts
    pass_by(at, 1.25)
    assert [runs(at, name) for name in firsts] == [[("09:00", "running")], [("09:00", "running")]]


@pytest.mark.parametrize(
    ("settings", "where", "words"),
    [
        ({"cron": "*/90 * * * *"}, "/cron", 'give every="90m" instead'),
        ({"cron": "0 */36 * * *"}, "/cron", 'give every="36h" instead'),
        ({"cron": "0 0 */40 * *"}, "/cron", 'give every="40d" instead'),
        ({"every": "90m"}, "/every", "found cron too"),
        ({"first": "2027-01-01T00:00"}, "/first", "give that too"),
        ({"cron": "", "every": "soon"}, "/every", "expected a duration"),
        ({"cron": "", "every": "1.5s"}, "/every", "expected whole seconds"),
        ({"cron": "", "every": "1h", "first": "noon"}, "/first", "expected a time"),
        ({"spread": "1h"}, "/spread", "less than 1 h, the shortest gap"),
        ({"cron": ""}, "/cron", "missing"),
    ],
)
def test_times_that_cannot_mean_what_they_say_are_refused(
    at: Floor, settings: dict[str, Any], where: str, words: str
) -> None:
    """With what says it instead."""
    with pytest.raises(InvalidInput) as refused:
        make(at, **settings)
    (problem,) = refused.value.problems

    assert problem.where == where
    assert words in problem.message


def test_an_uneven_step_gets_a_remark(at: Floor) -> None:
    """Since it is what somebody may mean."""
    (remark,) = make(at, cron="*/7 * * * *")["remarks"]
    assert 'every="7m" is even' in remark
    assert make(at, "even", cron="*/15 * * * *")["remarks"] == []


def test_one_that_is_stored_goes_on_with_a_remark(at: Floor) -> None:
    """It was right when it was made, and its other settings can be changed."""
    make(at)
    at.inline.database.writer.execute(
        "UPDATE schedules SET declared = json_set(declared, '$.cron', '*/90 * * * *')"
    )
    at.inline.restart()
    at.worker()
    (remark,) = look(at)["remarks"]
    assert 'every="90m"' in remark
    at.do(ChangeSchedule("hourly", {"note": "x"}, "ann", ""))
    with pytest.raises(InvalidInput):
        at.do(ChangeSchedule("hourly", {"cron": "*/80 * * * *"}, "ann", ""))
