"""The tide almanac's loom: readings of a whole coast become next year's almanac.

Three workflows share their parts: `harbour-tides` makes the table of one harbour, `yearly-almanac`
that of every harbour of the coast, binds them, and tells the harbour masters; `tomorrows-waters`
announces a single day, each night if its schedule is let go. `print-copies` is for what is ordered
at the desk, see `orders`.
"""

from __future__ import annotations

import csv
import io
import logging
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from typing import Any

import httpx
import numpy as np
from pydantic import BaseModel, Field

from yarnloom import (
    FailedItem,
    Failure,
    File,
    GiveUp,
    Loom,
    Part,
    Retry,
    Rows,
    RunEnded,
    StepContext,
    TryLater,
    choose,
    each,
    failure,
    failures,
    item,
    output,
    parallel,
    param,
    planned_at,
    previous,
    sequence,
    step,
    text,
)
from yarnloom.demo import tides
from yarnloom.demo.almanac_pages import almanac_page
from yarnloom.demo.models import (
    Almanac,
    Contact,
    Extremes,
    Fit,
    Harbour,
    Mailed,
    Page,
    Readings,
    Site,
    Table,
    Water,
)
from yarnloom.demo.outside import host, mailbox, office, post_letter

# NumPy starts threads when it is imported, so each process loads this module itself.
loom = Loom("tide-almanac", fork=False)
loom.pool("gauge-link", limit=3, note="the gauge office lets three callers in")
loom.pool("machine", limit=4, note="the calculating machine; a fit takes half of it")

# One line a request is more than anybody wants to read in a step's log.
logging.getLogger("httpx").setLevel(logging.WARNING)

MONTHS = list(range(1, 13))
DRAWS = 20
PLAIN_TEXT = {"Content-Type": "text/plain; charset=utf-8"}


@loom.around_process
def lines_out() -> Iterator[httpx.Client]:
    """Connections to the outside that a process keeps from one attempt to the next."""
    with httpx.Client(timeout=20, trust_env=False) as http:
        yield http


@loom.task(io=True)
def list_harbours(ctx: StepContext) -> list[Harbour]:
    """The harbours of the coast, as the gauge office lists them."""
    answer = ctx.kept.get(f"{office()}/harbours").raise_for_status()
    return [Harbour(**one) for one in answer.json()]


@loom.task(
    io=True,
    pool="gauge-link",
    retry=Retry(attempts=4, wait="400ms", growth=2, within="1m", on=[httpx.HTTPError]),
    timeout="30s",
)
def fetch_month(ctx: StepContext, harbour: str, year: int, month: int) -> list[float | None]:
    """A month of hourly levels from the gauge office."""
    query: dict[str, str | int] = {"harbour": harbour, "year": year, "month": month}
    answer = ctx.kept.get(f"{office()}/readings", params=query)
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


@loom.task(pools={"machine": 2})
def fit_constituents(ctx: StepContext, readings: Readings) -> Fit:
    """Amplitude and phase of each tidal constituent, by least squares."""
    levels = np.array([np.nan if level is None else level for level in readings.levels])
    hours = tides.hours_since_epoch(readings.start) + np.arange(len(levels), dtype=np.float64)
    there = ~np.isnan(levels)
    tide, residual = tides.fit(hours[there], levels[there])
    # How sure the amplitudes are: the same fit over weeks drawn anew. What was drawn before a
    # pause is kept; a draw that is repeated gives the same.
    loop = ctx.track(range(DRAWS), carry={}, name="draws", note="drawing weeks anew")
    drawn = loop.carry
    for draw in loop:
        chosen = tides.weeks_drawn(len(levels), draw)
        some = chosen[there[chosen]]
        drawn[str(draw)] = tides.fit(hours[some], levels[some])[0].amplitudes
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
def open_handbook(harbour: str) -> Fit:
    """The tide as the old handbook has it, for a harbour whose gauge gives nothing."""
    tide = tides.HANDBOOK
    print(f"the handbook has no more of {harbour} than of the whole coast")
    return Fit(
        mean=tide.mean,
        amplitudes=tide.amplitudes,
        phases=tide.phases,
        residual=tides.HANDBOOK_RESIDUAL,
        uncertainties=dict.fromkeys(tide.amplitudes, tides.HANDBOOK_RESIDUAL / 2),
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
def write_table(ctx: StepContext, harbour: str, waters: list[Water]) -> Table:
    """The high and low waters as a CSV file."""
    text = io.StringIO()
    table = csv.writer(text, lineterminator="\n")
    table.writerow(["time (UTC)", "water", "level (m)"])
    table.writerows(
        [f"{water.at:%Y-%m-%d %H:%M}", water.kind, f"{water.level:.2f}"] for water in waters
    )
    file = ctx.save_file(text.getvalue().encode(), f"{harbour}-{waters[0].at.year}.csv")
    first_lines = text.getvalue().split("\n", 6)[:6]
    return Table(harbour=harbour, file=file, rows=len(waters), first_lines=first_lines)


@loom.task
def find_extremes(waters: list[Water]) -> Extremes:
    """The highest and the lowest water."""
    by_level = sorted(waters, key=lambda water: water.level)
    return Extremes(highest=by_level[-1], lowest=by_level[0])


@loom.task(pool="machine")
def draw_plot(ctx: StepContext, harbour: str, readings: Readings, fit: Fit) -> File:
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
    picture = io.BytesIO()
    # Without the date of its making, and with names that are not drawn, the same plot is the same
    # file.
    matplotlib.rcParams["svg.hashsalt"] = harbour
    figure.savefig(picture, format="svg", metadata={"Date": None})
    pyplot.close(figure)
    return ctx.save_file(picture.getvalue(), f"{harbour}.svg")


@loom.task
def bind_almanac(
    ctx: StepContext, pages: list[Page], missing: list[FailedItem], year: int
) -> Almanac:
    """All harbours in one page, with what is missing and why."""
    page = almanac_page(pages, missing, year).encode()
    file = ctx.save_file(page, f"almanac-{year}.html")
    print(f"{len(pages)} harbours bound, {len(missing)} missing")
    return Almanac(file=file, harbours=len(pages), missing=[one.name for one in missing])


@loom.task(retry=Retry(attempts=4, wait="400ms", growth=2))
def put_online(ctx: StepContext, almanac: Almanac, pages: list[Page]) -> Site:
    """The almanac with its plots and tables on the office's web host, the page itself at last."""
    plots = [page.plot for page in pages if page.plot]
    files = [*plots, *(page.table.file for page in pages), almanac.file]
    with host() as http:
        for file in ctx.track(files, name="files"):
            kind = {"Content-Type": file.media_type}
            http.put(f"/{file.name}", content=file.read_bytes(), headers=kind).raise_for_status()
        url = str(http.base_url.join(f"/{almanac.file.name}"))
    return Site(**almanac.model_dump(), url=url)


@loom.task(retry=Retry(attempts=5, wait="500ms", growth=2))
def mail_masters(ctx: StepContext, contacts: Rows[Contact], pages: list[Page]) -> Mailed:
    """A letter to everybody on the list whose harbour is bound, each exactly once."""
    bound = {page.table.harbour: page for page in pages}
    with mailbox() as http:
        for contact in ctx.track(contacts, name="letters"):
            page = bound.get(contact.harbour)
            if page is None:
                ctx.count(added=0, skipped=1)
                continue

            def send(token: str, page: Page = page, contact: Contact = contact) -> int:
                return post_letter(http, token, page, contact)

            # The mailbox knows tokens, so asking it again is safe where it is unsure.
            letter = ctx.once(f"{contact.harbour}: {contact.desk}", send, if_unsure="again")
            ctx.count(added=1)
            ctx.publish({"to": f"{contact.desk}, {contact.harbour}", "letter": letter})
    letters = sum(contact.harbour in bound for contact in contacts)
    return Mailed(letters=letters, passed_over=len(contacts) - letters)


@loom.task
def post_notice(ctx: StepContext, failure: Failure) -> str:
    """A letter to the duty officer: what failed, and where to look."""
    first = failure.first
    line = f"{first.address}: {first.error.message} ({failure.count} failed in all)"
    with mailbox() as http:
        body = {"to": "duty officer", "subject": "Something failed", "text": line}
        http.post("/letters", json=body, headers={"Idempotency-Key": ctx.token})
    return line


@loom.task(retry=Retry(attempts=4, wait="400ms", growth=2))
def announce_day(harbour: str, fit: Fit, planned: datetime, note: str = "") -> str:
    """High and low water of the day after the planned time, put up at the office's web host."""
    day = (planned + timedelta(days=1)).date()
    tide = tides.Tide(fit.mean, fit.amplitudes, fit.phases)
    lines = [f"{harbour}, {day:%d %B %Y}"]
    for at, kind, level in tides.high_and_low_waters(tide, day.year):
        if at.astimezone(planned.tzinfo).date() == day:
            lines.append(f"{at.astimezone(planned.tzinfo):%H:%M} {kind:4} {level:.2f} m")
    if note:
        lines.append(note)
    text = "\n".join(lines)
    with host() as http:
        http.put(f"/tomorrow-{harbour}.txt", content=text, headers=PLAIN_TEXT).raise_for_status()
    return text


@loom.task
def print_copies(order: int, harbour: str, copies: int) -> str:
    """The copies that somebody ordered: see `yarnloom.demo.orders`."""
    return f"order {order}: {copies} of {harbour}"


@loom.on_run_end(workflows=["yearly-almanac", "harbour-tides"], io=True, retry=Retry(attempts=5))
def put_on_board(ctx: StepContext, ended: RunEnded) -> str:
    """How a table or almanac ended, for the board in the hall."""
    why = f": {ended.error['message']}" if ended.error else ""
    line = f"run {ended.number} of {ended.workflow} has {ended.state}{why}"
    with host() as http:
        http.put(f"/board/{ended.number}", content=line, headers=PLAIN_TEXT).raise_for_status()
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


loom.workflow(
    "harbour-tides",
    params=HarbourTidesParams,
    plan=sequence(
        *year_of(param("harbour")),
        step("predict", predict_waters, fit=previous, year=param("year")),
        step("write", write_table, harbour=param("harbour"), waters=previous),
    ),
    on_failure=step("tell-duty-officer", post_notice, failure=failure()),
)


class AlmanacParams(BaseModel):
    """Which almanac to make."""

    contacts: Rows[Contact] = Field(description="Who gets a letter: harbour, desk, address, …")
    year: int = Field(2027, ge=2021, le=2100, description="The year to predict")
    readings_from: int = Field(2025, ge=2020, le=2099, description="The year to learn from")
    plots: bool = Field(True, description="Whether pictures are drawn")


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
                    step("table", write_table, harbour=item("code"), waters=output("predict")),
                    step(
                        "plot",
                        draw_plot,
                        harbour=item("code"),
                        readings=output("clean"),
                        fit=output("fit"),
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
        ),
        parallel(
            "send",
            step(
                "online", put_online, almanac=output("bind"), pages=output("harbours", only="done")
            ),
            step(
                "mail",
                mail_masters,
                contacts=param("contacts"),
                pages=output("harbours", only="done"),
            ),
        ),
    ),
    on_failure=step("tell-duty-officer", post_notice, failure=failure()),
)


class TomorrowParams(BaseModel):
    """Whose waters are announced."""

    harbour: str = "brackwater"
    readings_from: int = Field(2025, ge=2020, le=2099, description="The year to learn from")


tomorrows_waters = loom.workflow(
    "tomorrows-waters",
    params=TomorrowParams,
    plan=sequence(
        sequence(
            "learn",
            *year_of(param("harbour")),
            instead=step("handbook", open_handbook, harbour=param("harbour")),
        ),
        choose(
            "announce",
            by=output("learn")["residual"] < 0.2,
            when={
                True: step(
                    "as-usual",
                    announce_day,
                    harbour=param("harbour"),
                    fit=output("learn"),
                    planned=planned_at(),
                )
            },
            otherwise=step(
                "with-care",
                announce_day,
                harbour=param("harbour"),
                fit=output("learn"),
                planned=planned_at(),
                note=text("give or take {metres} m", metres=output("learn")["residual"]),
            ),
        ),
    ),
)
loom.schedule(
    tomorrows_waters.of(),
    name="nightly-waters",
    cron="30 2 * * *",
    zone="Europe/Lisbon",
    paused=True,
    note="tomorrow's high and low waters, each night",
)


class Order(BaseModel):
    """Copies that somebody ordered."""

    order: int
    harbour: str
    copies: int = Field(1, ge=1)


loom.workflow(
    "print-copies",
    params=Order,
    plan=step(
        "print",
        print_copies,
        order=param("order"),
        harbour=param("harbour"),
        copies=param("copies"),
    ),
)
