"""The tide almanac's loom: one harbour's year of readings becomes next year's tide table."""

from __future__ import annotations

import csv
import logging
import os
from datetime import UTC, datetime
from pathlib import Path

import httpx
import numpy as np
from pydantic import BaseModel, Field

from yarnloom import GiveUp, Loom, StepContext, param, previous, sequence, step
from yarnloom.demo import tides
from yarnloom.demo.gauge_office import ADDRESS_VARIABLE

loom = Loom("tide-almanac")

# One line a request is more than anybody wants to read in a step's log.
logging.getLogger("httpx").setLevel(logging.WARNING)


class Readings(BaseModel):
    """Hourly levels in metres; a gap is null."""

    start: datetime
    levels: list[float | None]


class Fit(BaseModel):
    """A fitted tide: mean and amplitudes in metres, phases in degrees."""

    mean: float
    amplitudes: dict[str, float]
    phases: dict[str, float]
    residual: float


class Water(BaseModel):
    """A high or low water."""

    at: datetime
    kind: str
    level: float


class Table(BaseModel):
    """The table that was written."""

    path: str
    rows: int
    first_lines: list[str]


@loom.task
def fetch_readings(ctx: StepContext, harbour: str, year: int) -> Readings:
    """A year of hourly levels from the gauge office, month by month."""
    office = os.environ.get(ADDRESS_VARIABLE)
    if not office:
        raise GiveUp(f"no gauge office: {ADDRESS_VARIABLE} is not set; `yarnloom demo` starts one")
    levels: list[float | None] = []
    with httpx.Client(base_url=office, timeout=20, trust_env=False) as http:
        for month in range(1, 13):
            ctx.check()
            query: dict[str, str | int] = {"harbour": harbour, "year": year, "month": month}
            answer = http.get("/readings", params=query)
            if answer.status_code == 404:
                raise GiveUp(answer.json()["error"])
            found = answer.raise_for_status().json()["levels"]
            levels += found
            print(f"{year}-{month:02}: {len(found)} readings, {found.count(None)} missing")
    return Readings(start=datetime(year, 1, 1, tzinfo=UTC), levels=levels)


@loom.task
def clean_readings(ctx: StepContext, readings: Readings) -> Readings:
    """The readings without the gauge's own mistakes."""
    kept = tides.without_spikes(readings.levels)
    dropped = kept.count(None) - readings.levels.count(None)
    ctx.log.info("dropped %d spikes; %d of %d hours are gaps", dropped, kept.count(None), len(kept))
    return Readings(start=readings.start, levels=kept)


@loom.task
def fit_constituents(ctx: StepContext, readings: Readings) -> Fit:
    """Amplitude and phase of each tidal constituent, by least squares."""
    levels = np.array([np.nan if level is None else level for level in readings.levels])
    hours = tides.hours_since_epoch(readings.start) + np.arange(len(levels), dtype=np.float64)
    there = ~np.isnan(levels)
    tide, residual = tides.fit(hours[there], levels[there])
    for name, amplitude in tide.amplitudes.items():
        ctx.log.info("%s: %.3f m, %.1f degrees", name, amplitude, tide.phases[name])
    return Fit(mean=tide.mean, amplitudes=tide.amplitudes, phases=tide.phases, residual=residual)


@loom.task
def predict_waters(fit: Fit, year: int) -> list[Water]:
    """Every high and low water of a year."""
    tide = tides.Tide(fit.mean, fit.amplitudes, fit.phases)
    return [
        Water(at=at, kind=kind, level=round(level, 2))
        for at, kind, level in tides.high_and_low_waters(tide, year)
    ]


@loom.task
def write_table(harbour: str, waters: list[Water], folder: str) -> Table:
    """The high and low waters as a CSV file."""
    path = Path(folder) / f"{harbour}-{waters[0].at.year}.csv"
    path.parent.mkdir(parents=True, exist_ok=True)
    # Written beside and moved into place: a second attempt never leaves half a table.
    draft = path.with_suffix(f".{os.getpid()}.draft")
    with draft.open("w", encoding="utf-8", newline="") as file:
        table = csv.writer(file)
        table.writerow(["time (UTC)", "water", "level (m)"])
        table.writerows(
            [f"{water.at:%Y-%m-%d %H:%M}", water.kind, f"{water.level:.2f}"] for water in waters
        )
    draft.replace(path)
    with path.open(encoding="utf-8") as file:
        first_lines = [line.rstrip("\n") for _, line in zip(range(6), file, strict=False)]
    return Table(path=str(path), rows=len(waters), first_lines=first_lines)


class HarbourTidesParams(BaseModel):
    """Which table to make."""

    harbour: str = Field(description="One of the office's harbours, e.g. brackwater")
    year: int = Field(2027, ge=2021, le=2100, description="The year to predict")
    readings_from: int = Field(2025, ge=2020, le=2099, description="The year to learn from")
    folder: str = Field("yarnloom-demo/almanac", description="Where the table is written")


loom.workflow(
    "harbour-tides",
    params=HarbourTidesParams,
    plan=sequence(
        step("fetch", fetch_readings, harbour=param("harbour"), year=param("readings_from")),
        step("clean", clean_readings, readings=previous),
        step("fit", fit_constituents, readings=previous),
        step("predict", predict_waters, fit=previous, year=param("year")),
        step(
            "write", write_table, harbour=param("harbour"), waters=previous, folder=param("folder")
        ),
    ),
)
