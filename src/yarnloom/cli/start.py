"""Commands that bring something in: check, publish, start."""

from __future__ import annotations

import argparse
import sys
from typing import Any

from yarnloom.cli import output, runs
from yarnloom.cli.files import check_bar, file_params, say_set_aside
from yarnloom.cli.options import Add, Parser, decimal, delimiter, duration
from yarnloom.cli.output import say
from yarnloom.cli.schedules import time_of
from yarnloom.cli.typed_params import (
    ask_for_secrets,
    lines_from,
    named_params,
    params_from,
    wanted_of_target,
)
from yarnloom.client import Client, Start
from yarnloom.client.http_requests import start_request
from yarnloom.errors import InvalidInput, Problem
from yarnloom.row_options import ENCODINGS, OPTIONS, THOUSANDS
from yarnloom.values import JsonObject


def start(
    client: Client,
    target: str,
    named: list[str],
    params_file: str | None,
    files: list[str],
    *,
    reading: JsonObject,
    many: str | None,
    stay: bool,
    as_json: bool,
    **settings: Any,
) -> int:
    """Start a run, or with `many` one for each line of a file.

    Args:
        reading: how rows of files are read.
        settings: those of a `Start`.
    """
    wants = wanted_of_target(client, target) if named or sys.stdin.isatty() else {}
    params = params_from(params_file) | named_params(wants, named)
    params |= file_params(client, files, reading)
    params |= ask_for_secrets(wants, params)
    if many is not None:
        found = lines_from(many)
        starts = [Start(target, {**params, **one}, **settings) for one in found.values()]
        return _start_many(client, starts, list(found), as_json)
    # The key is part of the call, so that a call that is sent twice starts one run.
    call = start_request(Start(target, params, **settings))
    with check_bar() as on_check:
        run = client.begin(call, on_check).data
    if as_json:
        output.print_json(run)
    elif not stay:
        output.print_started(run)
        say_set_aside(run["params"])
        look = "show" if run["entered"] and run["state"] != "scheduled" else "why"
        if run["state"] == "scheduled":
            say(f"it starts {output.until(run['start_at'])}, at {run['start_at'][:19]}Z")
        if run["error"]:
            say(run["error"]["message"])
        else:
            say(f"look at it: yarnloom {look} {run['number']}")
    return runs.watch(client, run["number"]) if stay else 0


def _by_line(problem: Problem, lines: list[int]) -> Problem:
    """A problem of one of many starts, with the line that it comes from."""
    _, _, place, *rest = problem.where.split("/")  # /starts/17/params/year
    where = "/".join(["", *(one for one in rest if one != "params")])
    return problem._replace(where=f"line {lines[int(place)]}, {where}")


def _start_many(client: Client, starts: list[Start], lines: list[int], as_json: bool) -> int:
    try:
        numbers = client.start_many(starts)
    except InvalidInput as error:
        error.problems = tuple(_by_line(problem, lines) for problem in error.problems)
        raise
    if as_json:
        output.print_json({"runs": numbers})
    else:
        output.write("".join(f"{number}\n" for number in numbers))
        runs = f"{len(numbers):,} runs" if len(numbers) > 1 else "1 run"
        say(f"{runs} of {starts[0].name}; look at them: yarnloom runs")
    return 0


def _start_as_typed(client: Client, o: argparse.Namespace) -> int:
    return start(
        client,
        o.target,
        o.param,
        o.params,
        o.file,
        reading={name: getattr(o, name) for name in OPTIONS if getattr(o, name) is not None},
        many=o.many,
        stay=o.watch,
        as_json=o.json,
        key=o.key,
        priority=o.priority,
        share=o.share,
        tags=tuple(o.tag),
        after=o.after,
        at=o.at and time_of(o.at, "--at"),
        start_by=o.start_by and time_of(o.start_by, "--start-by"),
    )


# What can be typed


def add_parsers(add: Add, service: Parser, reading: Parser) -> None:
    """Add what can be typed."""
    start_parser = add("start", service, reading)
    start_parser.add_argument(
        "target", metavar="NAME", help="a workflow, or a single task, whose inputs are its params"
    )
    start_parser.add_argument(
        "-p",
        "--param",
        action="append",
        default=[],
        metavar="NAME=VALUE",
        help="one param; NAME=@FILE and NAME=- read it, NAME=@@TEXT begins with @; secrets that "
        "are missing are asked for",
    )
    start_parser.add_argument(
        "--params", metavar="FILE", help="params as a JSON file; - reads the input"
    )
    start_parser.add_argument(
        "--file",
        action="append",
        default=[],
        metavar="NAME=PATH",
        help="one param that is a file, or rows of one (CSV, JSON Lines)",
    )
    start_parser.add_argument(
        "--delimiter",
        type=delimiter,
        metavar="MARK",
        help="what stands between the cells of a CSV file: comma (default), semicolon, tab, bar",
    )
    start_parser.add_argument("--encoding", choices=ENCODINGS, help="of a CSV file (default utf-8)")
    start_parser.add_argument(
        "--decimal",
        type=decimal,
        metavar="MARK",
        help="the decimal mark in a CSV file: point (default), comma",
    )
    start_parser.add_argument(
        "--thousands",
        choices=THOUSANDS[1:5],
        help="the mark between groups of three digits in a CSV file",
    )
    start_parser.add_argument(
        "--bad",
        choices=["refuse", "collect"],
        help="what becomes of a file with bad rows: refused (default), or they are set aside",
    )
    start_parser.add_argument(
        "--at-most-bad", metavar="N", help="how many rows may be set aside, as 20 or 5%%"
    )
    start_parser.add_argument("--key", help="start key: starting twice with one makes one run")
    start_parser.add_argument(
        "--priority", type=int, default=0, help="higher runs first (default 0)"
    )
    start_parser.add_argument("--share", default="", help="whom fair turns are counted for")
    start_parser.add_argument(
        "--tag", action="append", default=[], help="a word to find the run by"
    )
    when = start_parser.add_mutually_exclusive_group()
    when.add_argument("--after", type=duration, metavar="TIME", help="start after a time, as 10m")
    when.add_argument("--at", metavar="TIME", help="start at a time, as 7:30, 2027-03-01T07:30")
    start_parser.add_argument(
        "--start-by",
        metavar="TIME",
        help="do not begin it after that time: it ends cancelled as expired",
    )
    start_parser.add_argument(
        "--many",
        metavar="FILE",
        help="one run for each line of a JSON Lines file of params, all or none; - the input",
    )
    start_parser.add_argument("--watch", action="store_true", help="stay and show its progress")
    start_parser.set_defaults(talk=_start_as_typed)
