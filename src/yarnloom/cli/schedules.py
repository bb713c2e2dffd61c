"""Commands about what happens by the clock: schedules, schedule, and times as people type them."""

from __future__ import annotations

import argparse
from datetime import datetime, timedelta

from rich.text import Text

from yarnloom.cli import output
from yarnloom.cli.options import Add, BodyOption, Parser, add_body_options, body_of, hand_options
from yarnloom.cli.output import out
from yarnloom.cli.typed_params import named_params, params_from, wanted_types
from yarnloom.client import Client, Request
from yarnloom.client.http_requests import KEEP, schedule_request
from yarnloom.drawing import DYES
from yarnloom.errors import InvalidInput
from yarnloom.values import JsonObject

View = JsonObject
SETTINGS = (
    BodyOption("workflow", "what it starts"),
    BodyOption("cron", "minute hour day month weekday", more={"metavar": "WHEN"}),
    BodyOption("every", "an interval in place of --cron, as 90m", more={"metavar": "TIME"}),
    BodyOption("first", "the first time of --every (default: when it is made)"),
    BodyOption("spread", "start each time up to so much later, as 5m", more={"metavar": "TIME"}),
    BodyOption("zone", "by whose clock, as Europe/Lisbon (default UTC)"),
    BodyOption(
        "if_busy",
        "what becomes of a time that comes while an earlier run is under way (default wait)",
        more={"choices": ["wait", "skip", "replace", "start"]},
    ),
    BodyOption(
        "missed",
        "which missed times are caught up with (default one, the newest)",
        more={"choices": ["one", "all", "none"]},
    ),
    BodyOption("priority", "of its runs: higher first", more={"type": int}),
    BodyOption("share", "whom fair turns of its runs are counted for"),
    BodyOption("tag", "a word to find its runs by", field="tags", more={"action": "append"}),
    BodyOption("note", "what it is for"),
)
"""What can be set of a schedule, but for its params."""


def time_of(text: str, option: str, now: datetime | None = None) -> datetime:
    """A time as it is typed: RFC 3339, without an offset by this machine's clock, or `7:30`.

    Raises:
        InvalidInput: it is none.
    """
    now = now or datetime.now().astimezone()
    try:
        hour, colon, minute = text.partition(":")
        if colon and len(text) <= 5:
            at = now.replace(hour=int(hour), minute=int(minute), second=0, microsecond=0)
            return at if at > now else at + timedelta(days=1)
        found = datetime.fromisoformat(text)
    except ValueError:
        raise InvalidInput(
            f"found {option} {text!r}; expected a time, as 7:30 or 2027-03-01T07:30+01:00"
        ) from None
    return found if found.utcoffset() is not None else found.astimezone()


def schedules(client: Client, as_json: bool) -> int:
    """List the schedules."""
    found = client.call(Request("GET", "/schedules"))
    if as_json:
        output.print_json(found)
        return 0
    if not found["schedules"]:
        output.say(
            "no schedules; declare one with loom.schedule(...), or make one: yarnloom schedule "
            "NAME --make --workflow WORKFLOW --cron '30 2 * * *'"
        )
        return 0
    rows = output.table("schedule", "workflow", "when", "next", "last")
    for one in output.readable(found["schedules"]):
        rows.add_row(one["name"], one["workflow"], _when(one), _next(one), _last(one))
    out.print(rows)
    return 0


def schedule(client: Client, options: argparse.Namespace) -> int:
    """Show a schedule, or make, change, remove or start it."""
    name = options.name
    if options.remove:
        query = {"reason": options.reason} if options.reason else {}
        client.call(Request("DELETE", f"/schedules/{name}", query=query))
        out.print(f"schedule {name} is removed; its runs stay")
        return 0
    if options.start:
        run = client.start_schedule(name, reason=options.reason).data
        if options.json:
            output.print_json(run)
        else:
            output.print_started(run)
        return 0
    changes = body_of(SETTINGS, options)
    if options.times:
        return _times(client, changes, options)
    if options.param or options.params:
        changes["params"] = _params(client, changes.get("workflow"), options)
    # With no setting at all it is only shown: one command looks, makes and changes.
    paused = {"pause": True, "resume": False}.get(options.flow, KEEP)
    if options.make:
        paused = {} if paused is KEEP else {"paused": paused}
        body = {"name": name, "reason": options.reason, **paused, **changes}
        found = client.call(Request("POST", "/schedules", body))
    elif changes or paused is not KEEP or options.as_declared:
        settings = {**changes, "paused": paused, "as_declared": options.as_declared}
        found = client.call(schedule_request(name, reason=options.reason, **settings))
    else:
        found = client.call(Request("GET", f"/schedules/{name}"))
    if options.json:
        output.print_json(found)
    else:
        _print(found)
    return 0


def _params(client: Client, workflow: str | None, options: argparse.Namespace) -> View:
    """Params as they are typed, in place of all that it has."""
    if workflow is None and not options.make:
        workflow = client.call(Request("GET", f"/schedules/{options.name}"))["workflow"]
    wants = wanted_types(client, workflow or "", False) if options.param else {}
    return params_from(options.params) | named_params(wants, options.param)


def _times(client: Client, changes: View, options: argparse.Namespace) -> int:
    """When it would come, before anything is saved."""
    if "cron" not in changes and "every" not in changes:
        known = client.call(Request("GET", f"/schedules/{options.name}"))
        changes = {**known, **changes}
    names = ("cron", "every", "first", "zone")
    query = {name: changes[name] for name in names if changes.get(name)}
    found = client.call(Request("GET", "/next-times", query={**query, "count": 10}))
    if options.json:
        output.print_json(found)
        return 0
    for text in found["times"]:
        out.print(_local(text))
    for remark in found["remarks"]:
        output.say(remark)
    return 0


def _print(found: View) -> None:
    state = ("paused", DYES["paused"][0]) if found["paused"] else ("", "")
    out.print(Text.assemble((found["name"], "bold"), f"  {found['workflow']}  ", state))
    paused = found["paused"]
    why = paused and (f": {paused['reason']}" if paused["reason"] else "")
    params = found["params"] and output.short_value(found["params"], 100)
    facts = [
        ("note", found["note"]),
        ("when", _when(found)),
        ("params", params),
        ("if busy", found["if_busy"]),
        ("missed times", {"one": "the newest", "all": "all", "none": "none"}[found["missed"]]),
        ("tags", ", ".join(found["tags"])),
        ("paused", paused and f"by {paused['by']} {output.ago(paused['at'])}{why}"),
        ("declared by", found["loom"] and f"loom {found['loom']}"),
        ("by hand", ", ".join(f"{k} {v}" for k, v in found["by_hand"].items())),
        ("running", ", ".join(f"run {one}" for one in found["running"])),
        ("waits", found["waiting_at"] and f"{_local(found['waiting_at'])} waits for its end"),
        ("last", _last(found) if found["last"] else ""),
        ("passed over", str(found["passed_over"] or "")),
    ]
    for name, text in facts:
        if text:
            out.print(Text.assemble((f"  {name:<14}", "dim"), str(text)))
    # Of a paused one these are the times that come if it is resumed now.
    label = "resumed" if paused else "next"
    for place, text in enumerate(found["next_times"]):
        out.print(Text.assemble((f"  {'' if place else label:<14}", "dim"), _local(text)))
    if paused:
        out.print(Text(f"  let it go on: yarnloom schedule {found['name']} --resume", "dim"))
    for remark in found["remarks"]:
        output.say(remark)


def _when(one: View) -> str:
    if not one["every"]:
        words = one["cron"]
    else:
        words = f"every {one['every']}" + (f" from {one['first']}" if one["first"] else "")
    spread = f"  spread over {one['spread']}" if one["spread"] else ""
    return f"{words}  {one['zone']}{spread}"


def _next(one: View) -> Text:
    if one["paused"]:
        return Text("paused", style=DYES["paused"][0])
    return Text("never" if one["next_at"] is None else output.until(one["next_at"]))


def _last(one: View) -> Text:
    last = one["last"]
    if last is None:
        return Text("–")
    if last["result"] == "passed_over":
        return Text(f"passed over {output.ago(last['planned_at'])}: {last['why']}")
    text = Text(f"run {last['run']} ")
    return text.append_text(output.state_text(last["state"] or "done"))


def _local(text: str) -> str:
    """A planned time with its weekday, as its zone has it."""
    at = datetime.fromisoformat(text)
    return f"{at:%a %Y-%m-%d %H:%M} {at:%z}"


# What can be typed


def add_parsers(add: Add, service: Parser, reading: Parser) -> None:
    """Add what can be typed."""
    schedules_parser = add("schedules", service, reading)
    schedules_parser.set_defaults(talk=lambda client, o: schedules(client, o.json))

    schedule_parser = add("schedule", service, reading)
    schedule_parser.add_argument("name", metavar="NAME", help="the schedule")
    add_body_options(schedule_parser, SETTINGS)
    schedule_parser.add_argument(
        "-p", "--param", action="append", default=[], metavar="NAME=VALUE", help="one param"
    )
    schedule_parser.add_argument("--params", metavar="FILE", help="params as a JSON file")
    hand_options(schedule_parser, "start")
    doing = schedule_parser.add_mutually_exclusive_group()
    doing.add_argument("--make", action="store_true", help="make it; it must not be there yet")
    doing.add_argument("--remove", action="store_true", help="remove it; its runs stay")
    doing.add_argument("--start", action="store_true", help="start what it starts, now")
    doing.add_argument(
        "--times", action="store_true", help="only say when it would come, and save nothing"
    )
    schedule_parser.add_argument("--reason", default="", help="why, for the record")
    schedule_parser.set_defaults(talk=schedule)
