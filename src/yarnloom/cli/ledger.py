"""What is on record: side effects of a run, and who gave which command."""

from __future__ import annotations

import argparse
import shlex

from rich.text import Text

from yarnloom.cli import output
from yarnloom.cli.options import Add, Parser, positive
from yarnloom.cli.output import out
from yarnloom.cli.part_address import split_address
from yarnloom.cli.typed_params import json_or_text
from yarnloom.client import Client, Request
from yarnloom.client.http_requests import settle_request
from yarnloom.drawing import DYES


def ledger(client: Client, number: int, as_json: bool) -> int:
    """List the side effects of a run."""
    found = client.call(Request("GET", f"/runs/{number}/ledger"))
    if as_json:
        output.print_json(found)
        return 0
    if not found["effects"]:
        output.say(f"run {number} has no side effects on record; tasks write them with ctx.once")
        return 0
    rows = output.table("what", "step", "state", "attempt", "begun", "value", "")
    for one in output.readable(found["effects"]):
        dye = {"done": "done", "not done": "skipped", "begun": "running", "unsure": "failed"}[
            one["state"]
        ]
        rows.add_row(
            Text(one["what"]),
            one["address"] or "the run",
            Text(one["state"], style=DYES[dye][0]),
            f"#{one['attempt']}",
            output.ago(one["begun_at"]),
            Text("" if one["value"] is None else output.short_value(one["value"], 40)),
            Text(f"by {one['by']}" if one["by"] else "", style="dim"),
        )
    out.print(rows)
    if found["unsure"]:
        unsure = next(one for one in found["effects"] if one.get("state") == "unsure")
        where = f"{number}/{unsure['address']}".rstrip("/")
        valued = " --value JSON" if unsure["is_used"] else ""
        text = (
            f"\n{output.count(found['unsure'], 'effect')} unsure: an attempt ended in the middle. "
            "Say what you found out:\n  "
            + shlex.join(["yarnloom", "settle", where, unsure["what"], "--done"])
            + f"{valued}  (or --not-done)"
        )
        out.print(Text(text, style="dim"), soft_wrap=True)
    return 0


def settle(client: Client, options: argparse.Namespace) -> int:
    """Say whether something unsure was done."""
    number, label = split_address(options.address)
    body = {"done": options.done, "reason": options.reason}
    if options.value is not None:
        body["value"] = json_or_text(options.value)
    found = client.call(settle_request(number, label, options.what, **body))
    if options.json:
        output.print_json(found)
    else:
        out.print(f"{found['effect']} is {found['state']}")
    return 0


def commands(client: Client, options: argparse.Namespace) -> int:
    """List who gave which command, when and why."""
    query = {"run": options.run, "who": options.who, "what": options.what, "limit": options.limit}
    given = {name: value for name, value in query.items() if value is not None}
    found = client.call(Request("GET", "/commands", query=given))
    if options.json:
        output.print_json(found)
        return 0
    rows = output.table("when", "who", "what", "run", "about", "")
    for one in output.readable(found["commands"]):
        about = (one["detail"].get(what) for what in ("step", "pool", "schedule", "filter"))
        step_of = next(filter(None, about), "")
        run = "" if one["run"] is None else str(one["run"])
        reason = Text(one["reason"], style="dim")
        rows.add_row(output.ago(one["at"]), one["who"], one["what"], run, step_of, reason)
    out.print(rows)
    return 0


# What can be typed


def add_parsers(add: Add, service: Parser, reading: Parser) -> None:
    """Add what can be typed."""
    ledger_parser = add("ledger", service, reading)
    ledger_parser.add_argument("run", type=positive, metavar="RUN")
    ledger_parser.set_defaults(talk=lambda client, o: ledger(client, o.run, o.json))

    settle_parser = add("settle", service, reading)
    settle_parser.add_argument(
        "address", metavar="RUN[/STEP]", help="1042/mail, or the run's alone"
    )
    settle_parser.add_argument("what", metavar="WHAT", help="as the ledger names it")
    word = settle_parser.add_mutually_exclusive_group(required=True)
    word.add_argument("--done", dest="done", action="store_const", const=True, help="it was done")
    word.add_argument(
        "--not-done", dest="done", action="store_const", const=False, help="it was not"
    )
    settle_parser.add_argument(
        "--value", metavar="JSON", help="what it gave, where it was done and the step uses that"
    )
    settle_parser.add_argument("--reason", default="", help="how you know, for the record")
    settle_parser.set_defaults(talk=settle)

    commands_parser = add("commands", service, reading)
    commands_parser.add_argument("--run", type=positive, metavar="RUN", help="only about this run")
    commands_parser.add_argument("--who", help="only by this one, as cli:ann@office")
    commands_parser.add_argument("--what", help="only this command, as cancel")
    commands_parser.add_argument("--limit", type=positive, default=50, help="how many (default 50)")
    commands_parser.set_defaults(talk=commands)
