"""Runs: list them, keep filters of them, watch one, and say what one waits for."""

from __future__ import annotations

import argparse
import contextlib
import shlex
from typing import cast

from rich.live import Live

from yarnloom.cli import output
from yarnloom.cli.options import Add, Parser, filter_options, positive
from yarnloom.cli.output import out
from yarnloom.cli.show import EXIT_BY_STATE
from yarnloom.cli.text_streams import discard_output
from yarnloom.client import ENDED, Client, Request
from yarnloom.client.http_requests import (
    drop_filter_request,
    glance_request,
    runs_query,
    save_filter_request,
    show_request,
)
from yarnloom.client.runs_filter import RunsFilter
from yarnloom.errors import RunEndedBadly
from yarnloom.run_filters import RUN_FILTERS


def runs(client: Client, options: argparse.Namespace) -> int:
    """List runs."""
    wanted = wanted_of(options)
    if options.save:
        given = {name: value for name, value in wanted.items() if value is not None}
        saved = client.call(save_filter_request(options.save, tuple(options.state), given))
        output.say(f"saved; see it again with: yarnloom runs --saved {shlex.quote(saved['name'])}")
    page = client.call(
        Request("GET", "/runs", query={**runs_query(options.state, wanted), "limit": options.limit})
    )
    if options.json:
        output.print_json(page)
    elif page["runs"]:
        out.print(output.run_table(page["runs"]))
    elif options.state or any(wanted.values()):
        output.say("no run fits; leave options out, or see all with `yarnloom runs`")
    else:
        output.say("no runs; start one with `yarnloom start WORKFLOW -p name=value`")
    return 0


def wanted_of(options: argparse.Namespace) -> RunsFilter:
    """Which runs are chosen, apart from their states."""
    names = ("saved", *(field.name for field in RUN_FILTERS))
    return cast(RunsFilter, {name: getattr(options, name) or None for name in names})


def filters(client: Client, drop: str, reason: str, as_json: bool) -> int:
    """List the saved filters of the list of runs, or drop one."""
    if drop:
        client.call(drop_filter_request(drop, reason))
        output.say(f"filter {drop} is dropped")
        return 0
    found = client.call(Request("GET", "/filters"))
    if as_json:
        output.print_json(found)
        return 0
    if not found["filters"]:
        output.say("no filter is saved; save one: yarnloom runs --state failed --save NAME")
        return 0
    rows = output.table("filter", "runs that are shown", "saved", "by")
    for one in found["filters"]:
        shown = ", ".join(
            f"{name} {' or '.join(value) if isinstance(value, list) else value}"
            for name, value in one["wanted"].items()
        )
        rows.add_row(one["name"], shown or "all", output.ago(one["saved_at"]), one["saved_by"])
    out.print(rows)
    return 0


def watch(client: Client, number: int) -> int:
    """Watch a run until it ends; its outcome is the exit code, whether somebody reads or not."""
    try:
        return _watch(client, number)
    except BrokenPipeError:
        discard_output()
    run = client.run(number)
    with contextlib.suppress(RunEndedBadly):
        run.wait()
    return EXIT_BY_STATE[run.state]


def _watch(client: Client, number: int) -> int:
    run = client.call(show_request(number))
    graph = client.call(Request("GET", f"/runs/{number}/graph"))
    with Live(console=out, auto_refresh=False, transient=False) as live:
        glance = client.call(glance_request(number))
        live.update(output.run_picture(run, graph, glance), refresh=True)
        if run["state"] not in ENDED:
            for event in client.events(number):
                data = event.get("data") or {}
                run, graph = data.get("run", run), data.get("graph", graph)
                glance = data.get("glance", glance)
                live.update(output.run_picture(run, graph, glance), refresh=True)
                # The graph comes right behind the run: wait for the last picture.
                if run["state"] in ENDED and graph["state"] in (*ENDED, "skipped"):
                    break
    if not out.is_terminal:
        out.print()  # without a terminal the last picture has no line's end
    output.print_end(run)
    return EXIT_BY_STATE[run["state"]]


# What can be typed


def add_parsers(add: Add, service: Parser, reading: Parser) -> None:
    """Add what can be typed."""
    runs_parser = add("runs", service, reading)
    filter_options(runs_parser, "only")
    runs_parser.add_argument(
        "--save", metavar="NAME", help="keep these options by name, for everybody"
    )
    runs_parser.add_argument("--limit", type=positive, default=20, help="how many (default 20)")
    runs_parser.set_defaults(talk=runs)

    filters_parser = add("filters", service, reading)
    filters_parser.add_argument("--drop", default="", metavar="NAME", help="forget this one")
    filters_parser.add_argument("--reason", default="", help="of drop: why, for the record")
    filters_parser.set_defaults(talk=lambda client, o: filters(client, o.drop, o.reason, o.json))

    watch_parser = add("watch", service)
    watch_parser.add_argument("run", type=positive, metavar="RUN")
    watch_parser.set_defaults(talk=lambda client, o: watch(client, o.run))
