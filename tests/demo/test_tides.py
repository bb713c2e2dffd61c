"""The demo's numerics, against the truth that its readings were made from."""

from __future__ import annotations

import csv
import itertools
from collections import Counter
from datetime import UTC, datetime, timedelta

import numpy as np
import pytest

from tests.helpers import much
from yarnloom.demo import gauge_office, tides, web_host
from yarnloom.demo.almanac import loom
from yarnloom.testing import run_workflow


@pytest.fixture
def office(monkeypatch: pytest.MonkeyPatch) -> object:
    """The stand-in, without its slowness."""
    monkeypatch.setattr(gauge_office, "ANSWER_SECONDS", 0.0)
    with gauge_office.gauge_office() as url:
        monkeypatch.setenv(gauge_office.ADDRESS_VARIABLE, url)
        yield url


@pytest.mark.parametrize("harbour", list(tides.HARBOURS)[: much(2, 6)])
def test_the_table_is_right(office: object, harbour: str) -> None:
    """From fetched readings to the CSV: the fit is within 5 mm and 1 degree of the truth."""
    run = run_workflow(loom, "harbour-tides", harbour=harbour)
    assert run.state == "done", run.error
    fitted, truth = fit_of(harbour), tides.HARBOURS[harbour]
    for name in tides.SPEEDS:
        off = (fitted.phases[name] - truth.phases[name] + 180) % 360 - 180

        assert abs(fitted.amplitudes[name] - truth.amplitudes[name]) < 0.005, name
        assert abs(off) < 1.0, name
    head, *rows = csv.reader(run.read(run.output["file"]).decode().splitlines())
    assert head == ["time (UTC)", "water", "level (m)"]
    assert len(rows) == run.output["rows"] > 1_400
    assert run.output["first_lines"][1] == ",".join(rows[0])
    for at, _, level in rows[:: len(rows) // 50]:
        moment = datetime.strptime(at, "%Y-%m-%d %H:%M").replace(tzinfo=UTC)
        hour = np.array([tides.hours_since_epoch(moment)])
        assert abs(tides.levels(truth, hour)[0] - float(level)) < 0.03


@pytest.mark.parametrize(
    ("harbour", "tasks", "last"),
    [
        ("saltmere", {"done": 15}, " m"),
        (tides.SILENT, {"done": 2, "failed": 1, "skipped": 2}, "give or take 0.4 m"),
    ],
)
def test_a_silent_gauge_is_announced_from_the_handbook(
    office: object, monkeypatch: pytest.MonkeyPatch, harbour: str, tasks: dict[str, int], last: str
) -> None:
    """The handbook replaces a gauge, and the announcement then says how sure it is."""
    with web_host.web_host() as url:
        monkeypatch.setenv(web_host.ADDRESS_VARIABLE, url)
        run = run_workflow(loom, "tomorrows-waters", harbour=harbour)
    assert run.state == "done", run.error
    assert run.output.endswith(last)
    assert Counter(step["state"] for step in run.steps) == tasks


def fit_of(harbour: str) -> tides.Tide:
    """What the fit makes of a year of the harbour's readings."""
    start = datetime(2025, 1, 1, tzinfo=UTC)
    read: list[float | None] = []
    for month in range(1, 13):
        begin = datetime(2025, month, 1, tzinfo=UTC)
        end = datetime(2025 + month // 12, month % 12 + 1, 1, tzinfo=UTC)
        read += tides.observe(harbour, begin, round((end - begin) / timedelta(hours=1)))
    levels = np.array([np.nan if x is None else x for x in tides.without_spikes(read)])
    there = ~np.isnan(levels)
    hours = tides.hours_since_epoch(start) + np.arange(len(levels), dtype=np.float64)
    return tides.fit(hours[there], levels[there])[0]


def test_high_and_low_waters_alternate() -> None:
    """And each is an extreme of the curve."""
    tide = tides.HARBOURS["brackwater"]
    found = tides.high_and_low_waters(tide, 2027)
    kinds = [kind for _, kind, _ in found]

    assert all(one != other for one, other in itertools.pairwise(kinds))
    for moment, kind, level in found[::97]:
        hour = tides.hours_since_epoch(moment)
        around = tides.levels(tide, np.array([hour - 0.3, hour + 0.3]))
        assert (around < level + 1e-3).all() if kind == "high" else (around > level - 1e-3).all()


def test_an_unknown_harbour_gives_up(office: object) -> None:
    """The office's own words, and no second attempt."""
    run = run_workflow(loom, "harbour-tides", harbour="nowhere")

    assert run.state == "failed"
    assert run.error is not None
    assert run.error["type"] == "GiveUp"
    assert "there is brackwater" in run.error["message"]
