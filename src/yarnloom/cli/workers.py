"""Workers: list them, and let one take nothing new."""

from __future__ import annotations

from yarnloom.cli import output
from yarnloom.cli.lists import print_list
from yarnloom.cli.options import Add, Parser
from yarnloom.cli.output import Column
from yarnloom.cli.show import View
from yarnloom.client import Client


def workers(client: Client, as_json: bool) -> int:
    """List workers."""
    hint = "start one with `yarnloom worker --load MODULE:LOOM`"
    return print_list(client, "workers", COLUMNS, hint, as_json)


def _in_hand(worker: View) -> str:
    """How many attempts a worker has, or for how long none."""
    count = len(worker["in_hand"])
    return f"{count}" if count else f"idle {output.took(worker['idle_since'], None)}"


def _seen(worker: View) -> str:
    """When a worker was heard of last."""
    return output.ago(worker["seen_at"]) if worker["registered"] else "not since the restart"


def _takes(worker: View) -> str:
    """What is special about a worker."""
    found = [worker["trouble"].partition("\n")[0]] if worker["trouble"] else []
    last = worker["last"]
    if last and not worker["in_hand"] and "address" in last:
        found.append(f"ran {last['run']}/{last['address']} last")
    found += ["draining"] if worker["draining"] else []
    found += [f"has {', '.join(worker['has'])}"] if worker["has"] else []
    pools = worker["pools"]
    found += [] if pools is None else [f"only pools {', '.join(pools) or 'none'}"]
    return ", ".join(found)


COLUMNS = (
    Column("worker", lambda one: one["name"]),
    Column("host", lambda one: one["facts"].get("host", "")),
    Column("pid", lambda one: one["facts"].get("pid", "")),
    Column("processes", lambda one: one["facts"].get("processes", "")),
    Column("in hand", _in_hand),
    Column("tasks", lambda one: len(one["tasks"])),
    Column("last seen", _seen),
    Column("", _takes),
)
"""The columns of the list of workers."""

# What can be typed


def add_parsers(add: Add, service: Parser, reading: Parser) -> None:
    """Add what can be typed."""
    workers_parser = add("workers", service, reading)
    workers_parser.set_defaults(talk=lambda client, o: workers(client, o.json))
