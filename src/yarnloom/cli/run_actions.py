"""Commands that control runs and steps: pause, resume, cancel, mend, rerun, step, ledger, link."""

from __future__ import annotations

import argparse
import sys

from rich.text import Text

from yarnloom.cli import output, runs
from yarnloom.cli.options import (
    Add,
    BodyOption,
    Parser,
    add_body_options,
    body_of,
    choosing_options,
    duration,
    positive,
)
from yarnloom.cli.output import out
from yarnloom.cli.part_address import split_address
from yarnloom.cli.schedules import time_of
from yarnloom.cli.typed_params import json_or_text, named_params, params_from, wanted_types
from yarnloom.client import Client
from yarnloom.client.http_requests import (
    act_request,
    bulk_request,
    change_request,
    rerun_request,
    show_request,
    step_act_request,
    step_request,
)
from yarnloom.errors import InvalidInput
from yarnloom.values import JsonObject

View = JsonObject
REFUSED_SHOWN = 10


def act(client: Client, action: str, options: argparse.Namespace) -> int:
    """Pause, resume, cancel or mend a run, or every run of a list."""
    chosen = options.state or any(runs.wanted_of(options).values())
    if options.run is not None and chosen:
        raise InvalidInput("give a run's number, or what runs are chosen by; not both")
    if options.run is None and not chosen:
        raise InvalidInput(
            f"say which: yarnloom {action} 1042, or all that --state, --workflow, --text, … choose"
        )
    if options.run is None:
        return _act_on_many(client, action, options)
    run = client.call(act_request(options.run, action, options.reason, **_more(action, options)))
    if options.json:
        output.print_json(run)
    else:
        out.print(output.run_head(run))
        _hint(action, run)
    return 0


CHANGES = (
    BodyOption("priority", "higher runs first", more={"type": int}),
    BodyOption("tag", "its tags from now on", field="tags", more={"action": "append"}),
)
"""What can be changed of a run that has not begun, but for when it begins."""


def change(client: Client, options: argparse.Namespace) -> int:
    """Change a run that has not begun."""
    at = options.at and time_of(options.at, "--at")
    after = 0 if options.now else options.after
    changes = body_of(CHANGES, options)
    if at is None and after is None and not changes:
        raise InvalidInput("say what to change: --now, --after, --at, --priority or --tag")
    run = client.call(change_request(options.run, at, after, **changes, reason=options.reason))
    if options.json:
        output.print_json(run)
    else:
        out.print(output.run_head(run))
    return 0


ONLY = (
    BodyOption(
        "only",
        "run only this step again, in all items where it failed",
        field="address",
        more={"metavar": "ADDRESS"},
    ),
    BodyOption("error", "with --only: only these errors", field="type", more={"metavar": "TYPE"}),
)
"""Which failures a mend is for."""


def _more(action: str, options: argparse.Namespace) -> JsonObject:
    """What only one of the commands takes."""
    if action == "mend":
        only = body_of(ONLY, options)
        if only.keys() == {"type"}:
            raise InvalidInput("--error chooses among the failures of a step; say --only ADDRESS")
        if only and options.run is None:
            raise InvalidInput("--only is for one run; give its number")
        return {"paused": options.paused, "only": only}
    return {"now": options.now} if action == "cancel" else {}


def _hint(action: str, run: View) -> None:
    """What follows from a command, where that is not plain to see."""
    number = run["number"]
    if run["state"] == "pausing":
        text = f"what runs stops at its next checkpoint; look: yarnloom why {number}"
    elif action == "mend" and run["state"] == "paused":
        text = f"round {run['round']}, paused; let it begin: yarnloom resume {number}"
    elif action == "mend":
        text = f"round {run['round']}; watch it: yarnloom watch {number}"
    else:
        return
    out.print(Text(text, style="dim"))


def _act_on_many(client: Client, action: str, options: argparse.Namespace) -> int:
    wanted = {"states": options.state, **runs.wanted_of(options), **_more(action, options)}
    count = client.call(bulk_request(action, None, options.reason, **wanted))["count"]
    if count == 0:
        output.say("no run matches; nothing was done")
        return 0
    if not options.yes and not _confirmed(action, count):
        output.say("nothing was done")
        return 2
    found = client.call(bulk_request(action, count, options.reason, **wanted))
    if options.json:
        output.print_json(found)
        return 0
    done = {"pause": "paused", "resume": "resumed", "cancel": "cancelled", "mend": "mended"}
    out.print(f"{output.count(len(found['done']), 'run')} told to be {done[action]}")
    for one in found["refused"][:REFUSED_SHOWN]:
        out.print(Text(f"  refused: {one['why']}", style="dim"))
    if len(found["refused"]) > REFUSED_SHOWN:
        out.print(Text(f"  and {len(found['refused']) - REFUSED_SHOWN} more", style="dim"))
    return 0


def _confirmed(action: str, count: int) -> bool:
    """Ask whoever sits there; nobody does where the input is no terminal."""
    runs = output.count(count, "run")
    if not sys.stdin.isatty():
        raise InvalidInput(f"that would {action} {runs}; say so with --yes")
    sys.stderr.write(f"{action} {runs}? [y/N] ")
    sys.stderr.flush()
    return sys.stdin.readline().strip().lower() in ("y", "yes")


def rerun(client: Client, options: argparse.Namespace) -> int:
    """Start a run's workflow anew, with some of its params changed."""
    run = client.call(show_request(options.run))
    wants = wanted_types(client, run["task"] or run["workflow"], bool(run["task"]))
    changes = params_from(options.params) | named_params(wants, options.param)
    started = client.call(rerun_request(options.run, changes, options.reason))
    if options.json:
        output.print_json(started)
    elif not options.watch:
        output.print_started(started)
    return runs.watch(client, started["number"]) if options.watch else 0


def _pool(typed: str) -> str:
    return "" if typed == "none" else typed


DECIDED = {
    "edit": (
        BodyOption("pool", "of edit: the pool; none for none", more={"type": _pool}),
        BodyOption("priority", "of edit: higher runs first", more={"type": int}),
    ),
    "supply": (
        BodyOption(
            "output", "of supply: the output", more={"type": json_or_text, "metavar": "JSON"}
        ),
    ),
}
"""Fields of a decision about a step, except inputs, whose types the task knows."""


def step(client: Client, options: argparse.Namespace) -> int:
    """Decide something about a step."""
    number, label = split_address(options.address)
    if not label:
        raise InvalidInput(f"found {options.address!r}; expected a step, as 1042/fetch")
    body = {"reason": options.reason, **_decided(options)}
    if options.param:
        body["inputs"] = _inputs(client, number, label, options.param)
    found = client.call(step_act_request(number, label, options.action, **body))
    if options.json:
        output.print_json(found)
        return 0
    head = Text.assemble((found["address"], "bold"), "  ")
    out.print(head.append_text(output.state_text(found["state"], found.get("stop_asked"))))
    return 0


def _decided(options: argparse.Namespace) -> JsonObject:
    """Return the fields of the body; refuse options of another decision."""
    for action, fields in DECIDED.items():
        typed = [name for field in fields if (name := field.name) in options]
        typed += ["param"] if action == "edit" and options.param else []
        if typed and action != options.action:
            raise InvalidInput(f"--{typed[0]} is for {action}, not for {options.action}")
    body = body_of(DECIDED.get(options.action, ()), options)
    if options.action == "supply" and not body:
        raise InvalidInput("give the output: --output JSON")
    return body


def _inputs(client: Client, number: int, label: str, typed: list[str]) -> JsonObject:
    """Return the inputs of a step that were typed, by the types of its task."""
    task = client.call(step_request(number, label))["task"]
    return named_params(wanted_types(client, task, task=True), typed)


# What can be typed


def add_parsers(add: Add, service: Parser, reading: Parser) -> None:
    """Add what can be typed."""
    choosing = choosing_options()
    pause_parser = add("pause", service, reading, choosing)
    pause_parser.set_defaults(talk=lambda client, o: act(client, "pause", o))

    resume_parser = add("resume", service, reading, choosing)
    resume_parser.set_defaults(talk=lambda client, o: act(client, "resume", o))

    cancel_parser = add("cancel", service, reading, choosing)
    cancel_parser.add_argument("--now", action="store_true", help="give what runs no grace")
    cancel_parser.set_defaults(talk=lambda client, o: act(client, "cancel", o))

    mend_parser = add("mend", service, reading, choosing)
    mend_parser.add_argument(
        "--paused", action="store_true", help="only meet what was decided by hand; resume begins"
    )
    add_body_options(mend_parser, ONLY)
    mend_parser.set_defaults(talk=lambda client, o: act(client, "mend", o))

    change_parser = add("change", service, reading)
    change_parser.add_argument("run", type=positive, metavar="RUN")
    when = change_parser.add_mutually_exclusive_group()
    when.add_argument("--now", action="store_true", help="begin it now")
    when.add_argument(
        "--after", type=duration, metavar="TIME", help="begin it after a time, as 10m"
    )
    when.add_argument("--at", metavar="TIME", help="begin it at a time, as 7:30, 2027-03-01T07:30")
    add_body_options(change_parser, CHANGES)
    change_parser.add_argument("--reason", default="", help="why, for the record")
    change_parser.set_defaults(talk=change)

    rerun_parser = add("rerun", service, reading)
    rerun_parser.add_argument("run", type=positive, metavar="RUN")
    rerun_parser.add_argument(
        "-p", "--param", action="append", default=[], metavar="NAME=VALUE", help="change one param"
    )
    rerun_parser.add_argument("--params", metavar="FILE", help="changed params as a JSON file")
    rerun_parser.add_argument("--reason", default="", help="why, for the record")
    rerun_parser.add_argument("--watch", action="store_true", help="stay and show its progress")
    rerun_parser.set_defaults(talk=rerun)

    step_parser = add("step", service, reading)
    step_parser.add_argument("address", metavar="RUN/STEP", help="1042/harbours[brackwater]/fetch")
    step_parser.add_argument(
        "action", choices=["pause", "resume", "cancel", "retry", "edit", "skip", "supply"]
    )
    step_parser.add_argument(
        "-p",
        "--param",
        action="append",
        default=[],
        metavar="NAME=VALUE",
        help="of edit: one input, as a constant",
    )
    for fields in DECIDED.values():
        add_body_options(step_parser, fields)
    step_parser.add_argument("--reason", default="", help="why, for the record")
    step_parser.set_defaults(talk=step)
