"""What the steps of a run published."""

from __future__ import annotations

from collections.abc import Iterator

from rich.text import Text

from yarnloom.cli import output
from yarnloom.cli.options import Add, Parser, positive
from yarnloom.cli.output import out
from yarnloom.client import Client
from yarnloom.client.http_requests import published_request
from yarnloom.values import JsonObject


def published(client: Client, number: int, follow: bool, as_json: bool) -> int:
    """Print what the steps of a run published."""
    for entry in _entries(client, number, follow):
        if as_json:
            output.print_json_line(entry)
        else:
            where = entry["address"].partition("/")[2]
            value = output.short_value(entry["value"], 2_000)
            line = Text.assemble((entry["at"][11:23], "dim"), " ", (f"{where}  ", "dim"), value)
            out.print(line, soft_wrap=True)
    return 0


def _entries(client: Client, number: int, follow: bool) -> Iterator[JsonObject]:
    if follow:
        for event in client.stream(f"/runs/{number}/published/live"):
            yield event["data"]
    after = 0
    while page := client.call(published_request(number, after))["published"]:
        yield from page
        after = page[-1]["line"] + 1


# What can be typed


def add_parsers(add: Add, service: Parser, reading: Parser) -> None:
    """Add what can be typed."""
    published_parser = add("published", service, reading)
    published_parser.add_argument("run", type=positive, metavar="RUN")
    published_parser.add_argument(
        "--follow", action="store_true", help="stay, and print what comes"
    )
    published_parser.set_defaults(talk=lambda client, o: published(client, o.run, o.follow, o.json))
