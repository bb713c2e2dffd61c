"""The tide almanac's loom: readings of a whole coast become next year's almanac.

Two workflows share their parts: `harbour-tides` makes the table of one harbour, `yearly-almanac`
that of every harbour of the coast, binds them, and tells the harbour masters.
"""

from __future__ import annotations

import csv
import html
import logging
import os
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import httpx
import numpy as np
from pydantic import BaseModel, Field

from yarnloom import (
    FailedItem,
    Failure,
    GiveUp,
    Loom,
    NotDone,
    Part,
    Retry,
    StepContext,
    TryLater,
    each,
    failure,
    failures,
    item,
    output,
    parallel,
    param,
    previous,
    sequence,
    step,
)
from yarnloom.demo import tides
from yarnloom.demo.gauge_office import ADDRESS_VARIABLE
from yarnloom.demo.mailbox import ADDRESS_VARIABLE as MAILBOX_VARIABLE

loom = Loom("tide-almanac")
loom.pool("gauge-link", limit=3, note="the gauge office lets three callers in")

# One line a request is more than anybody wants to read in a step's log.
logging.getLogger("httpx").setLevel(logging.WARNING)

MONTHS = list(range(1, 13))
DRAWS = 20
DESKS = ("harbour master", "pilots", "ferry desk", "lifeboat")
"""Who gets a letter in each harbour."""


class Harbour(BaseModel):
    """A harbour in the office's list."""

    code: str


class Readings(BaseModel):
    """Hourly levels in metres; a gap is null."""

    start: datetime
    levels: list[float | None]


class Fit(BaseModel):
    """A fitted tide: mean, amplitudes and their uncertainties in metres, phases in degrees."""

    mean: float
    amplitudes: dict[str, float]
    phases: dict[str, float]
    residual: float
    uncertainties: dict[str, float]


class Water(BaseModel):
    """A high or low water."""

    at: datetime
    kind: str
    level: float


class Table(BaseModel):
    """The table that was written."""

    harbour: str
    path: str
    rows: int
    first_lines: list[str]


class Extremes(BaseModel):
    """The highest and the lowest water of a year."""

    highest: Water
    lowest: Water


class Page(BaseModel):
    """What the almanac says of a harbour; `plot` is the path of a picture."""

    table: Table
    plot: str | None
    extremes: Extremes


class Almanac(BaseModel):
    """The almanac that was bound."""

    path: str
    harbours: int
    missing: list[str]


class Mailed(Almanac):
    """The almanac, and how many letters say so."""

    letters: int


def _office() -> httpx.Client:
    address = os.environ.get(ADDRESS_VARIABLE)
    if not address:
        raise GiveUp(f"no gauge office: {ADDRESS_VARIABLE} is not set; `yarnloom demo` starts one")
    return httpx.Client(base_url=address, timeout=20, trust_env=False)


@loom.task(io=True)
def list_harbours() -> list[Harbour]:
    """The harbours of the coast, as the gauge office lists them."""
    with _office() as http:
        return [Harbour(**one) for one in http.get("/harbours").raise_for_status().json()]


@loom.task(
    io=True,
    pool="gauge-link",
    retry=Retry(attempts=4, wait="400ms", growth=2, within="1m", on=[httpx.HTTPError]),
    timeout="30s",
)
def fetch_month(harbour: str, year: int, month: int) -> list[float | None]:
    """A month of hourly levels from the gauge office."""
    with _office() as http:
        query: dict[str, str | int] = {"harbour": harbour, "year": year, "month": month}
        answer = http.get("/readings", params=query)
        if answer.status_code == 404:
            raise GiveUp(answer.json()["error"])
        if answer.status_code == 429:
            raise TryLater(answer.json()["again_in"], answer.json()["error"])
        levels: list[float | None] = answer.raise_for_status().json()["levels"]
    print(f"{year}-{month:02}: {len(levels)} readings, {levels.count(None)} missing")
    return levels


@loom.task
def clean_readings(ctx: StepContext, months: list[list[float | None]], year: int) -> Readings:
    """The months put together, without the gauge's own mistakes."""
    levels = [level for month in months for level in month]
    kept = tides.without_spikes(levels)
    dropped = kept.count(None) - levels.count(None)
    ctx.log.info("dropped %d spikes; %d of %d hours are gaps", dropped, kept.count(None), len(kept))
    return Readings(start=datetime(year, 1, 1, tzinfo=UTC), levels=kept)


@loom.task
def fit_constituents(ctx: StepContext, readings: Readings) -> Fit:
    """Amplitude and phase of each tidal constituent, by least squares."""
    levels = np.array([np.nan if level is None else level for level in readings.levels])
    hours = tides.hours_since_epoch(readings.start) + np.arange(len(levels), dtype=np.float64)
    there = ~np.isnan(levels)
    tide, residual = tides.fit(hours[there], levels[there])
    # How sure the amplitudes are: the same fit over weeks drawn anew. What was drawn before a
    # pause is kept; a draw that is repeated gives the same.
    drawn: dict[str, dict[str, float]] = ctx.restored or {}
    for draw in ctx.track(range(DRAWS), note="drawing weeks"):
        chosen = tides.weeks_drawn(len(levels), draw)
        some = chosen[there[chosen]]
        drawn[str(draw)] = tides.fit(hours[some], levels[some])[0].amplitudes
        ctx.checkpoint(drawn)
    spread = {
        name: float(np.std([one[name] for one in drawn.values()])) for name in tide.amplitudes
    }
    for name, amplitude in tide.amplitudes.items():
        words = "%s: %.3f m, give or take %.3f m, %.1f degrees"
        ctx.log.info(words, name, amplitude, spread[name], tide.phases[name])
    return Fit(
        mean=tide.mean,
        amplitudes=tide.amplitudes,
        phases=tide.phases,
        residual=residual,
        uncertainties=spread,
    )


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
    return Table(harbour=harbour, path=str(path), rows=len(waters), first_lines=first_lines)


@loom.task
def find_extremes(waters: list[Water]) -> Extremes:
    """The highest and the lowest water."""
    by_level = sorted(waters, key=lambda water: water.level)
    return Extremes(highest=by_level[-1], lowest=by_level[0])


@loom.task
def draw_plot(harbour: str, readings: Readings, fit: Fit, folder: str) -> str:
    """What the gauge read in a spring month, and the tide that was fitted to it, as a picture."""
    import matplotlib

    matplotlib.use("svg")
    from matplotlib import pyplot

    first, count = 24 * 59, 24 * 31
    hours = tides.hours_since_epoch(readings.start) + np.arange(
        first, first + count, dtype=np.float64
    )
    days = np.arange(count) / 24 + 1
    read = [np.nan if level is None else level for level in readings.levels[first : first + count]]
    tide = tides.levels(tides.Tide(fit.mean, fit.amplitudes, fit.phases), hours)
    figure, axes = pyplot.subplots(figsize=(9, 2.6), layout="constrained")
    axes.plot(days, tide, color="#4a6fd0", linewidth=1.4, label="fitted tide")
    axes.plot(days, read, ".", color="#96694a", markersize=2.2, label="readings")
    axes.set(xlim=(1, 32), xlabel=f"day of March {readings.start.year}", ylabel="level (m)")
    figure.legend(loc="outside upper right", ncols=2, frameon=False)
    axes.spines[["top", "right"]].set_visible(False)
    path = Path(folder) / f"{harbour}.svg"
    path.parent.mkdir(parents=True, exist_ok=True)
    figure.savefig(path)
    pyplot.close(figure)
    return str(path)


@loom.task
def bind_almanac(pages: list[Page], missing: list[FailedItem], year: int, folder: str) -> Almanac:
    """All harbours in one page, with what is missing and why."""
    path = Path(folder) / f"almanac-{year}.html"
    path.write_text(_almanac_page(pages, missing, year), encoding="utf-8")
    print(f"{len(pages)} harbours bound, {len(missing)} missing")
    return Almanac(path=str(path), harbours=len(pages), missing=[one.name for one in missing])


@loom.task(retry=Retry(attempts=5, wait="500ms", growth=2))
def mail_masters(ctx: StepContext, almanac: Almanac, pages: list[Page]) -> Mailed:
    """A letter to every desk of every harbour, each exactly once."""
    desks = [(page, desk) for page in pages for desk in DESKS]
    with _mailbox() as http:
        for page, desk in ctx.track(desks, note="mailing"):
            harbour = page.table.harbour

            def send(token: str, page: Page = page, desk: str = desk) -> int:
                return _post_letter(http, token, page, desk)

            # The mailbox knows tokens, so asking it again is safe where it is unsure.
            letter = ctx.once(f"{harbour}: {desk}", send, if_unsure="again")
            ctx.count(added=1)
            ctx.publish({"to": f"{desk}, {harbour}", "letter": letter})
    return Mailed(**almanac.model_dump(), letters=len(desks))


def _mailbox() -> httpx.Client:
    address = os.environ.get(MAILBOX_VARIABLE)
    if not address:
        raise GiveUp(f"no mailbox: {MAILBOX_VARIABLE} is not set; `yarnloom demo` starts one")
    return httpx.Client(base_url=address, timeout=20, trust_env=False)


def _post_letter(http: httpx.Client, token: str, page: Page, desk: str) -> int:
    high = page.extremes.highest
    body = {
        "to": f"{desk}, {page.table.harbour}",
        "subject": f"Tides of {high.at.year}",
        "text": f"Highest water {high.level:.2f} m on {high.at:%d %B at %H:%M} UTC.",
    }
    answer = http.post("/letters", json=body, headers={"Idempotency-Key": token})
    if answer.status_code == 503:
        raise NotDone(answer.json()["error"])
    number: int = answer.raise_for_status().json()["letter"]
    return number


def _almanac_page(pages: list[Page], missing: list[FailedItem], year: int) -> str:
    """The almanac as HTML."""
    parts = [
        "<!doctype html><meta charset=utf-8>",
        f"<title>Tide almanac {year}</title>",
        "<style>body{font:15px/1.5 system-ui,sans-serif;max-width:60rem;margin:2rem auto;"
        "padding:0 1rem;color:#2e3338;background:#f8f5ee}h2{margin:1.6rem 0 .2rem}"
        "img{width:100%}a{color:#2f5fb0}.missing{color:#a8342f}</style>",
        f"<h1>Tide almanac {year}</h1>",
    ]
    for page in pages:
        low, high = page.extremes.lowest, page.extremes.highest
        table = Path(page.table.path).name
        parts += [
            f"<h2>{html.escape(page.table.harbour.replace('-', ' ').title())}</h2>",
            f"<p>Highest water {high.level:.2f} m on {high.at:%d %B at %H:%M} UTC, lowest "
            f"{low.level:.2f} m on {low.at:%d %B at %H:%M} UTC. "
            f"<a href={table}>All {page.table.rows:,} high and low waters</a>.</p>",
        ]
        if page.plot:
            parts.append(f"<img src={Path(page.plot).name} alt='readings and fitted tide'>")
    for one in missing:
        name, why = html.escape(one.name.title()), html.escape(one.error.message)
        parts.append(f"<p class=missing>{name} is missing: {why}.</p>")
    return "\n".join(parts)


@loom.task
def post_notice(failure: Failure, folder: str) -> str:
    """A line on the duty officer's board: what failed, and where to look."""
    first = failure.first
    line = f"{first.address}: {first.error.message} ({failure.count} failed in all)"
    board = Path(folder) / "notices.txt"
    board.parent.mkdir(parents=True, exist_ok=True)
    with board.open("a", encoding="utf-8") as notices:
        notices.write(line + "\n")
    return line


def year_of(harbour: Any) -> list[Part]:
    """The parts that learn a harbour's tide: fetch a year month by month, clean, fit."""
    months = each(
        "months",
        over=MONTHS,
        name=item(),
        at_once=3,
        do=step("fetch", fetch_month, harbour=harbour, year=param("readings_from"), month=item()),
    )
    clean = step("clean", clean_readings, months=output("months"), year=param("readings_from"))
    return [months, clean, step("fit", fit_constituents, readings=previous)]


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
        *year_of(param("harbour")),
        step("predict", predict_waters, fit=previous, year=param("year")),
        step(
            "write", write_table, harbour=param("harbour"), waters=previous, folder=param("folder")
        ),
    ),
    on_failure=step("tell-duty-officer", post_notice, failure=failure(), folder=param("folder")),
)


class AlmanacParams(BaseModel):
    """Which almanac to make."""

    year: int = Field(2027, ge=2021, le=2100, description="The year to predict")
    readings_from: int = Field(2025, ge=2020, le=2099, description="The year to learn from")
    plots: bool = Field(True, description="Whether pictures are drawn")
    folder: str = Field("yarnloom-demo/almanac", description="Where the almanac is written")


loom.workflow(
    "yearly-almanac",
    params=AlmanacParams,
    plan=sequence(
        step("list", list_harbours),
        each(
            "harbours",
            over=previous,
            name=item("code"),
            at_once=3,
            may_fail=1,
            do=sequence(
                *year_of(item("code", of="harbours")),
                step("predict", predict_waters, fit=previous, year=param("year")),
                parallel(
                    "page",
                    step(
                        "table",
                        write_table,
                        harbour=item("code"),
                        waters=output("predict"),
                        folder=param("folder"),
                    ),
                    step(
                        "plot",
                        draw_plot,
                        harbour=item("code"),
                        readings=output("clean"),
                        fit=output("fit"),
                        folder=param("folder"),
                        only_if=param("plots"),
                    ),
                    step("extremes", find_extremes, waters=output("predict")),
                ),
            ),
        ),
        step(
            "bind",
            bind_almanac,
            pages=output("harbours", only="done"),
            missing=failures("harbours"),
            year=param("year"),
            folder=param("folder"),
        ),
        step("mail", mail_masters, almanac=previous, pages=output("harbours", only="done")),
    ),
    on_failure=step("tell-duty-officer", post_notice, failure=failure(), folder=param("folder")),
)
