"""The command `log`: what steps printed, of one attempt or of a whole run, kept or as it comes."""

from __future__ import annotations

import argparse
from collections.abc import Iterable, Iterator

from rich.text import Text

from yarnloom.cli import output
from yarnloom.cli.options import Add, Parser, positive
from yarnloom.cli.output import out
from yarnloom.cli.part_address import split_address
from yarnloom.client import Client, Request
from yarnloom.client.http_requests import lines_request, live_lines
from yarnloom.errors import InvalidInput
from yarnloom.values import JsonObject

View = JsonObject

PAGE = 5_000
TAIL = 200
"""Lines that are printed before those that come."""


def log(client: Client, options: argparse.Namespace) -> int:
    """Print the lines of a step, or of all steps at an address; with --follow new ones too."""
    if not options.address:
        if not options.follow:
            raise InvalidInput("say which run: yarnloom log 1042; or --follow all of them")
        query = {"text": options.text}
        every = (event["data"] for event in client.stream("/lines/live", query))
        return _print(every, options)
    number, label = split_address(options.address)
    if options.follow:
        return _print(_followed(client, number, label, options), options)
    if options.last is None and not options.text and _is_step(client, number, label):
        return _attempt(client, number, label, options)
    if "#" in label:
        raise InvalidInput(
            "--text and --last look through whole steps; leave the attempt's number out"
        )
    if options.last is not None:
        lines: Iterable[View] = _newest(client, number, label, options, options.last)[0]
    else:
        lines = _all_lines(client, number, label, options.text)
    return _print(lines, options)


def _is_step(client: Client, number: int, label: str) -> bool:
    if not label:
        return False
    query = {"address": label.partition("#")[0]}
    return bool(client.call(Request("GET", f"/runs/{number}/graph", query=query))["kind"] == "step")


def _attempt(client: Client, number: int, label: str, options: argparse.Namespace) -> int:
    """Print the lines of one attempt, fetched a page at a time."""
    lines: list[View] = []
    while True:
        query = {"address": label, "after": len(lines), "limit": PAGE}
        page: View = client.call(Request("GET", f"/runs/{number}/log", query=query))
        lines += page["lines"]
        if len(page["lines"]) < PAGE:
            break
    if options.json:
        output.print_json({**page, "lines": lines})
        return 0
    for line in lines:
        out.print(_text_of(line, "", ""), soft_wrap=True)
    if not lines:
        output.say(f"{options.address} has printed nothing")
    return 0


def _all_lines(client: Client, number: int, label: str, text: str) -> Iterator[View]:
    after: str | None = ""
    while after is not None:
        page = client.call(lines_request(number, label, text, after=after, limit=PAGE))
        yield from page["lines"]
        after = page["next"]


def _newest(
    client: Client, number: int, label: str, options: argparse.Namespace, count: int
) -> tuple[list[View], str]:
    """The newest lines, and the mark behind them."""
    lines: list[View] = []
    place: View = {"newest": "true"}
    end = ""
    while len(lines) < count:
        limit = min(PAGE, count - len(lines))
        page = client.call(lines_request(number, label, options.text, limit=limit, **place))
        lines[:0] = page["lines"]
        end = end or page["end"]
        if page["next"] is None:
            break
        place = {"before": page["next"]}
    return lines, end


def _followed(
    client: Client, number: int, label: str, options: argparse.Namespace
) -> Iterator[View]:
    """The newest lines, then those that come; of one attempt all of them."""
    after = ""
    if "#" not in label:
        count = TAIL if options.last is None else options.last
        lines, after = _newest(client, number, label, options, count)
        yield from lines
    path, query = live_lines(number, label, options.text, after)
    for event in client.stream(path, query, ends=True):
        yield event["data"]


def _print(lines: Iterable[View], options: argparse.Namespace) -> int:
    if options.json and not options.follow:
        output.print_json({"lines": list(lines)})
        return 0
    found = False
    for line in lines:
        found = True
        if options.json:
            output.print_json_line(line)
        else:
            attempt = f"#{line['attempt']}" if "attempt" in line else ""
            place = f"{line['address']}{attempt}" if "address" in line else ""
            out.print(_text_of(line, place, options.text), soft_wrap=True)
    if not found and not options.json:
        what = f"no line with {options.text!r}" if options.text else "nothing"
        output.say(f"{options.address} has printed {what}")
    return 0


def _text_of(line: View, place: str, sought: str) -> Text:
    mark = line.get("level") or line["stream"]
    style = {"stderr": "yellow", "error": "red", "warning": "yellow"}.get(mark, "dim")
    at = str(line.get("at") or "")[11:23]
    head = Text.assemble((f"{at:<12}", "dim"), " ")
    if place:
        head.append(f"{place} ", style="bold")
    head.append(f"{mark:<8} ", style=style)
    text = output.coloured(line["text"])
    if sought:
        text.highlight_words([sought], style="reverse", case_sensitive=False)
    return head.append_text(text)


# What can be typed


def add_parsers(add: Add, service: Parser, reading: Parser) -> None:
    """Add what can be typed."""
    log_parser = add("log", service, reading)
    log_parser.add_argument(
        "address",
        metavar="RUN[/PART[#ATTEMPT]]",
        nargs="?",
        default="",
        help="1042, 1042/fetch, 1042/fetch#2; with --follow all runs unless given",
    )
    log_parser.add_argument(
        "--follow", action="store_true", help="also print new lines, until that has ended"
    )
    log_parser.add_argument("--text", default="", help="only lines with this in them")
    log_parser.add_argument("--last", type=positive, metavar="N", help="only the newest N lines")
    log_parser.set_defaults(talk=log)
