"""Commands about who runs when: pools, pool, why, and draining a worker."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from rich.padding import Padding
from rich.text import Text

from yarnloom.cli import output
from yarnloom.cli.options import Add, BodyOption, Parser, add_body_options, body_of, hand_options
from yarnloom.cli.output import out
from yarnloom.client import Client, Request
from yarnloom.client.http_requests import KEEP, pool_request
from yarnloom.drawing import DYES
from yarnloom.errors import LoomError
from yarnloom.units import duration_text, seconds, whole_number
from yarnloom.values import JsonObject, JsonValue

if TYPE_CHECKING:
    from yarnloom.plan import Rate

View = JsonObject


def pools(client: Client, as_json: bool) -> int:
    """List the pools."""
    found = client.call(Request("GET", "/pools"))
    if as_json:
        output.print_json(found)
    elif found["pools"]:
        out.print(_pool_table(found["pools"]))
    else:
        output.say("no pools; declare one with loom.pool(...), or `yarnloom pool NAME --make`")
    return 0


def pool(client: Client, options: argparse.Namespace) -> int:
    """Show a pool, or make, change or remove it."""
    if options.remove:
        query = {"reason": options.reason} if options.reason else {}
        client.call(Request("DELETE", f"/pools/{options.name}", query=query))
        out.print(f"pool {options.name} is removed")
        return 0
    changes = body_of(SETTINGS, options)
    paused = {"pause": True, "resume": False}.get(options.flow, KEEP)
    if options.make:
        call = pool_request(options.name, **changes, reason=options.reason)
        found = client.call(Request("POST", "/pools", {"name": options.name, **call.body}))
        if paused is True:
            found = client.call(pool_request(options.name, paused=True, reason=options.reason))
    elif paused is not KEEP or options.as_declared or changes:
        settings = {**changes, "paused": paused, "as_declared": options.as_declared}
        found = client.call(pool_request(options.name, **settings, reason=options.reason))
    else:
        found = client.call(Request("GET", f"/pools/{options.name}"))
        use = client.call(Request("GET", f"/pools/{options.name}/use"))
        found |= {name: use[name] for name in ("queue", "more", "by_priority")}
    if options.json:
        output.print_json(found)
    else:
        _print_pool(found)
    return 0


def _pool_table(found: list[View]) -> Any:
    rows = output.table(
        "pool", "in use", "waiting", "rate", "last minute", "used by", "", numbers=("waiting",)
    )
    for one in found:
        paused = Text("paused", style=DYES["paused"][0]) if one["paused"] else Text("")
        note = Text.assemble(paused, "  " if one["paused"] and one["note"] else "", one["note"])
        rows.add_row(
            one["name"],
            in_use_text(one),
            str(one["waiting"] or "–"),
            rate_text(one["rate"]),
            f"{one['begun_last_minute']} begun",
            _users(one),
            note,
        )
    return rows


def in_use_text(pool: View) -> Text:
    """How full a pool is: "3 of 3"."""
    limit = pool["limit"]
    if limit is None:
        return Text(f"{pool['in_use']}, no limit")
    each = " each" if pool["values"] else ""
    full = not pool["values"] and pool["in_use"] >= limit and pool["waiting"]
    return Text(f"{pool['in_use']} of {limit}{each}", style=DYES["ready"][0] if full else "")


def rate_text(rate: View | None) -> str:
    """A rate in words: "10 in 1 s"."""
    return "–" if rate is None else f"{rate['count']} in {duration_text(rate['per'])}"


def _users(pool: View) -> str:
    shown = [f"run {one['run']} ({one['weight']})" for one in pool["used_by"][:3]]
    more = pool["runs"] - len(shown)
    return ", ".join(shown) + (f" and {more} more" if more > 0 else "") or "–"


def _print_pool(found: View) -> None:
    head = Text.assemble((found["name"], "bold"), "  ").append_text(in_use_text(found))
    head.append(f" in use, {found['waiting']} waiting")
    out.print(head)
    facts = [
        ("note", found["note"]),
        ("rate", "" if found["rate"] is None else f"{rate_text(found['rate'])} begin at most"),
        ("begun", f"{found['begun_last_minute']} in the last minute"),
        ("used by", _users(found) if found["used_by"] else ""),
        ("waiting", _priorities(found.get("by_priority", {}))),
        ("paused", _pause(found["paused"])),
        ("by hand", ", ".join(f"{k} {_setting(v)}" for k, v in found["by_hand"].items())),
        *((f"loom {one['loom']}", _declaration(one)) for one in found["declared"]),
    ]
    for name, text in facts:
        if text:
            out.print(Text.assemble((f"  {name:<18}", "dim"), text))
    if found["values"]:
        rows = output.table("value", "in use", "waiting", numbers=("in use", "waiting"))
        for one in found["values"]:
            rows.add_row(one["value"], str(one["in_use"]), str(one["waiting"]))
        out.print(Padding(rows, (1, 0, 0, 2), expand=False))
    if found.get("queue"):
        out.print(Padding(_queue_table(found), (1, 0, 0, 2), expand=False))
        if found["more"]:
            output.say(f"{found['more']:,} more shares follow")


def _priorities(counts: View) -> str:
    """How many wait, where they differ in priority: "3 at priority 5, 20 at 0"."""
    if len(counts) < 2:
        return ""
    words = [f"{steps:,} at {priority}" for priority, steps in counts.items()]
    return ", ".join([words[0].replace(" at ", " at priority "), *words[1:]])


def _queue_table(pool: View) -> Any:
    """Who waits, next first."""
    rows = output.table("", "share", "steps", "needs", "why", numbers=("", "steps"))
    for place, one in enumerate(pool["queue"], 1):
        needs = ", ".join(
            f"{weight} of {name}" if weight > 1 else name for name, weight in one["pools"].items()
        )
        share = one["share"] + (f" (priority {one['priority']})" if one["priority"] else "")
        why = "; ".join(reason["text"] for reason in one["reasons"]) or "its turn comes next"
        rows.add_row(str(place), share, f"{one['steps']:,}", needs, why)
    return rows


def _pause(paused: View | None) -> str:
    if paused is None:
        return ""
    reason = f": {paused['reason']}" if paused["reason"] else ""
    return f"by {paused['by']} {output.ago(paused['at'])}{reason}"


def _setting(value: JsonValue) -> str:
    if isinstance(value, dict):
        return rate_text(value)
    return "none" if value is None else str(value)


def _declaration(one: View) -> str:
    limit = "no limit" if one["limit"] is None else f"limit {one['limit']}"
    rate = "" if one["rate"] is None else f", {rate_text(one['rate'])}"
    return f"says {limit}{rate}"


def _limit(given: str) -> int | None:
    if given == "none":
        return None
    if (number := whole_number(given)) is not None:
        return number
    raise argparse.ArgumentTypeError(f"found {given!r}; expected a whole number from 0 on, or none")


def _rate(given: str) -> Rate | None:
    """`10/1s` as a rate."""
    if given == "none":
        return None
    from yarnloom.plan import Rate

    count, slash, length = given.partition("/")
    try:
        if not slash or (number := whole_number(count)) is None:
            raise ValueError
        return Rate(number, seconds(length if length[:1].isdigit() else f"1{length}"))
    except LoomError as error:
        raise argparse.ArgumentTypeError(error.text) from None
    except ValueError:
        raise argparse.ArgumentTypeError(
            f"found {given!r}; expected a count and a time, as 10/1s or 100/m, or none"
        ) from None


SETTINGS = (
    BodyOption(
        "limit",
        "attempts at once; 0 halts, none is no limit",
        more={"type": _limit, "metavar": "N"},
    ),
    BodyOption(
        "rate",
        "attempts that may begin in a time, as 10/1s; or none",
        more={"type": _rate, "metavar": "N/TIME"},
    ),
    BodyOption("note", "what the limit is for"),
)
"""The settings of a pool."""


# What can be typed


def add_parsers(add: Add, service: Parser, reading: Parser) -> None:
    """Add what can be typed."""
    pools_parser = add("pools", service, reading)
    pools_parser.set_defaults(talk=lambda client, o: pools(client, o.json))

    pool_parser = add("pool", service, reading)
    pool_parser.add_argument("name", metavar="NAME", help="the pool")
    add_body_options(pool_parser, SETTINGS)
    hand_options(pool_parser, "begin")
    pool_parser.add_argument(
        "--make", action="store_true", help="make it; it must not be there yet"
    )
    pool_parser.add_argument("--remove", action="store_true", help="remove it; no step may name it")
    pool_parser.add_argument("--reason", default="", help="why, for the record")
    pool_parser.set_defaults(talk=pool)
