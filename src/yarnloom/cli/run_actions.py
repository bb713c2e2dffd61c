"""Commands that control runs and steps: pause, resume, cancel, mend, rerun, step, ledger, link."""

from __future__ import annotations

import argparse
import shlex
import sys
from typing import Any

from rich.padding import Padding
from rich.text import Text

from yarnloom.cli import output, show
from yarnloom.cli.output import out
from yarnloom.cli.schedules import time_of
from yarnloom.cli.show import split_address
from yarnloom.cli.typed_params import json_or_text, named_params, params_from, wanted_types
from yarnloom.client import Call, Client
from yarnloom.client.calls import (
    KEEP,
    act_call,
    bulk_call,
    change_call,
    link_call,
    links_call,
    rerun_call,
    revoke_link_call,
    settle_call,
    show_call,
    step_act_call,
    step_call,
)
from yarnloom.drawing import DYES
from yarnloom.errors import InvalidInput
from yarnloom.units import duration_text, seconds

View = dict[str, Any]
REFUSED_SHOWN = 10


def act(client: Client, action: str, options: argparse.Namespace) -> int:
    """Pause, resume, cancel or mend a run, or every run of a list."""
    chosen = options.state or any(show.wanted_of(options).values())
    if options.run is not None and chosen:
        raise InvalidInput("give a run's number, or what runs are chosen by; not both")
    if options.run is None and not chosen:
        raise InvalidInput(
            f"say which: yarnloom {action} 1042, or all that --state, --workflow, --text, … choose"
        )
    if options.run is None:
        return _act_on_many(client, action, options)
    run = client.call(act_call(options.run, action, options.reason, **_more(action, options)))
    if options.json:
        output.print_json(run)
    else:
        out.print(output.run_head(run))
        _hint(action, run)
    return 0


def change(client: Client, options: argparse.Namespace) -> int:
    """Change a run that has not begun."""
    at = options.at and time_of(options.at, "--at")
    if options.now or options.start_in is not None:
        at = 0 if options.now else options.start_in
    if at is None and options.priority is None and options.tag is None:
        raise InvalidInput("say what to change: --now, --in, --at, --priority or --tag")
    call = change_call(options.run, at, options.priority, options.tag, options.reason)
    run = client.call(call)
    if options.json:
        output.print_json(run)
    else:
        out.print(output.run_head(run))
    return 0


def _more(action: str, options: argparse.Namespace) -> dict[str, Any]:
    """What only one of the commands takes."""
    if action == "mend":
        if options.error is not None and options.only is None:
            raise InvalidInput("--error chooses among the failures of a step; say --only ADDRESS")
        if options.only is None:
            return {"paused": options.paused}
        if options.run is None:
            raise InvalidInput("--only is for one run; give its number")
        only = {"address": options.only, "type": options.error}
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
    wanted = {"states": options.state, **show.wanted_of(options), **_more(action, options)}
    count = client.call(bulk_call(action, None, options.reason, **wanted))["count"]
    if count == 0:
        output.say("no run matches; nothing was done")
        return 0
    if not options.yes and not _confirmed(action, count):
        output.say("nothing was done")
        return 2
    found = client.call(bulk_call(action, count, options.reason, **wanted))
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
    run = client.call(show_call(options.run))
    wants = wanted_types(client, run["task"] or run["workflow"], bool(run["task"]))
    changes = params_from(options.params) | named_params(wants, options.param)
    started = client.call(rerun_call(options.run, changes, options.reason))
    if options.json:
        output.print_json(started)
    elif not options.watch:
        out.print(f"run {started['number']} of {started['workflow']} is {started['state']}")
    return show.watch(client, started["number"]) if options.watch else 0


def step(client: Client, options: argparse.Namespace) -> int:
    """Decide something about a step."""
    number, label = split_address(options.address)
    if not label:
        raise InvalidInput(f"found {options.address!r}; expected a step, as 1042/fetch")
    body: dict[str, Any] = {"reason": options.reason}
    if options.action == "edit":
        body |= _edits(client, number, label, options)
    elif options.param or options.pool is not None or options.priority is not None:
        raise InvalidInput(f"-p, --pool and --priority are for edit, not for {options.action}")
    if options.action == "supply":
        if options.output is None:
            raise InvalidInput("give the output: --output JSON")
        body["output"] = json_or_text(options.output)
    elif options.output is not None:
        raise InvalidInput(f"--output is for supply, not for {options.action}")
    found = client.call(step_act_call(number, label, options.action, **body))
    if options.json:
        output.print_json(found)
        return 0
    head = Text.assemble((found["address"], "bold"), "  ")
    out.print(head.append_text(output.state_text(found["state"], found.get("stop_asked"))))
    return 0


def _edits(client: Client, number: int, label: str, options: argparse.Namespace) -> dict[str, Any]:
    task = client.call(step_call(number, label))["task"]
    inputs = named_params(wanted_types(client, task, task=True), options.param)
    return {
        "inputs": inputs or KEEP,
        "pool": KEEP if options.pool is None else options.pool.removeprefix("none"),
        "priority": KEEP if options.priority is None else options.priority,
    }


def ledger(client: Client, number: int, as_json: bool) -> int:
    """List the side effects of a run."""
    found = client.call(Call("GET", f"/runs/{number}/ledger"))
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
    found = client.call(settle_call(number, label, options.what, **body))
    if options.json:
        output.print_json(found)
    else:
        out.print(f"{found['effect']} is {found['state']}")
    return 0


def commands(client: Client, options: argparse.Namespace) -> int:
    """List who gave which command, when and why."""
    query = {"run": options.run, "who": options.who, "what": options.what, "limit": options.limit}
    given = {name: value for name, value in query.items() if value is not None}
    found = client.call(Call("GET", "/commands", query=given))
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


def link(client: Client, options: argparse.Namespace) -> int:
    """Make a link with which a run may be watched."""
    try:
        lasts = seconds(options.lasts)
    except ValueError as error:
        raise InvalidInput(f"--for: {error}") from error
    found = client.call(link_call(options.run, lasts, options.details))
    if options.json:
        output.print_json(found)
        return 0
    out.print(f"{client.target.url}{found['path']}", soft_wrap=True)
    note = f"for run {options.run} only, for {duration_text(lasts)}; open it with EventSource"
    out.print(Padding(Text(note, style="dim"), (0, 0)))
    return 0


def links(client: Client, options: argparse.Namespace) -> int:
    """List the links to a run, or revoke one."""
    if options.revoke:
        found = client.call(revoke_link_call(options.run, options.revoke, options.reason))
        if options.json:
            output.print_json(found)
        else:
            out.print(f"link {found['id']} to run {found['run']} is revoked")
        return 0
    listed = client.call(links_call(options.run))["links"]
    if options.json:
        output.print_json({"links": listed})
        return 0
    rows = output.table("link", "made", "by", "shows", "", numbers=("link",))
    for one in listed:
        shows = "details" if one["details"] else "state"
        rows.add_row(
            str(one["id"]), output.ago(one["made_at"]), one["made_by"], shows, _standing_of(one)
        )
    out.print(rows)
    return 0


def _standing_of(link: dict[str, Any]) -> str:
    if link["revoked_at"]:
        return f"revoked {output.ago(link['revoked_at'])} by {link['revoked_by']}"
    left = output.until(link["expires_at"])
    return "expired" if left == "now" else f"expires {left}"
