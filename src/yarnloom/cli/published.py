"""What the steps of a run published."""

from __future__ import annotations

from rich.text import Text

from yarnloom.cli import output
from yarnloom.cli.options import Add, Parser, positive
from yarnloom.cli.output import out
from yarnloom.client import Client


def published(client: Client, number: int, follow: bool, as_json: bool) -> int:
    """Print what the steps of a run published."""
    for entry in client.run(number).published(follow=follow):
        if as_json:
            output.print_json_line(entry)
        else:
            where = entry["address"].partition("/")[2]
            value = output.short_value(entry["value"], 2_000)
            line = Text.assemble((entry["at"][11:23], "dim"), " ", (f"{where}  ", "dim"), value)
            out.print(line, soft_wrap=True)
    return 0


# What can be typed


def add_parsers(add: Add, service: Parser, reading: Parser) -> None:
    """Add what can be typed."""
    published_parser = add("published", service, reading)
    published_parser.add_argument("run", type=positive, metavar="RUN")
    published_parser.add_argument(
        "--follow", action="store_true", help="stay, and print what comes"
    )
    published_parser.set_defaults(talk=lambda client, o: published(client, o.run, o.follow, o.json))
