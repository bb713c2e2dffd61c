"""Workers: list them, and let one take nothing new."""

from __future__ import annotations

from typing import Any

from yarnloom.cli import output
from yarnloom.cli.lists import print_list
from yarnloom.cli.options import Add, Parser
from yarnloom.cli.show import View
from yarnloom.client import Client


def workers(client: Client, as_json: bool) -> int:
    """List workers."""

    def row(one: View) -> list[Any]:
        facts = [one["facts"].get(name, "") for name in ("host", "pid", "processes")]
        seen = output.ago(one["seen_at"]) if one["registered"] else "not since the restart"
        count = len(one["in_hand"])
        hand = f"{count}" if count else f"idle {output.took(one['idle_since'], None)}"
        return [one["name"], *facts, hand, len(one["tasks"]), seen, _takes(one)]

    columns = ("worker", "host", "pid", "processes", "in hand", "tasks", "last seen", "")
    hint = "start one with `yarnloom worker --load MODULE:LOOM`"
    return print_list(client, "workers", columns, row, hint, as_json)


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


# What can be typed


def add_parsers(add: Add, service: Parser, reading: Parser) -> None:
    """Add what can be typed."""
    workers_parser = add("workers", service, reading)
    workers_parser.set_defaults(talk=lambda client, o: workers(client, o.json))
