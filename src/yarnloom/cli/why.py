"""What a run waits for."""

from __future__ import annotations

from itertools import groupby

from rich.padding import Padding
from rich.text import Text

from yarnloom.cli import output
from yarnloom.cli.options import Add, Parser
from yarnloom.cli.output import out
from yarnloom.cli.part_address import split_address
from yarnloom.cli.pools import View
from yarnloom.client import Client
from yarnloom.client.http_requests import why_request


def why(client: Client, address: str, as_json: bool) -> int:
    """Say what each unfinished step of a run waits for."""
    number, label = split_address(address)
    found = client.call(why_request(number, label))
    if as_json:
        output.print_json(found)
        return 0
    head = Text.assemble((f"run {number}", "bold"), f"  {found['workflow']}  ")
    out.print(head.append_text(output.state_text(found["state"])))
    for reason in found["reasons"]:
        out.print(Padding(Text(reason["text"]), (0, 0, 0, 2), expand=False))
    for (state, text), group in groupby(found["waits"], lambda one: (one["state"], _texts(one))):
        first, *others = group
        line = Text("  ").append_text(output.state_text(state))
        line.append(" " * max(1, 17 - line.cell_len)).append(first["address"], style="bold")
        line.append(f" and {len(others)} more" if others else "", style="dim")
        out.print(line, soft_wrap=True)
        out.print(Padding(Text(text), (0, 0, 0, 17), expand=False))
    if found["more"]:
        output.say("there are more; ask for a part: yarnloom why 'RUN/PART'")
    return 0


def _texts(entry: View) -> str:
    """Everything that is said of one step."""
    found = [reason["text"] for reason in entry["reasons"]]
    if entry.get("last_line_at"):
        found.append(f"its last line came {output.ago(entry['last_line_at'])}")
    if entry.get("deadline_at"):
        found.append(f"its deadline is {output.until(entry['deadline_at'])}")
    return "; ".join(found)


# What can be typed


def add_parsers(add: Add, service: Parser, reading: Parser) -> None:
    """Add what can be typed."""
    why_parser = add("why", service, reading)
    why_parser.add_argument(
        "address", metavar="RUN[/PART]", help="1042, 1042/harbours[brackwater]/fetch"
    )
    why_parser.set_defaults(talk=lambda client, o: why(client, o.address, o.json))
