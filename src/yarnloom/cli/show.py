"""Commands that look: runs, filters, show, graph, watch, workflows, tasks, workers."""

from __future__ import annotations

import argparse
import re
import shlex
from collections.abc import Callable, Iterator
from typing import Any

from rich.live import Live
from rich.padding import Padding
from rich.text import Text

from yarnloom import drawing
from yarnloom.cli import output
from yarnloom.cli.output import out
from yarnloom.client import ENDED, Call, Client
from yarnloom.client.calls import (
    RunsWanted,
    drop_filter_call,
    glance_call,
    list_call,
    save_filter_call,
    show_call,
    why_call,
)
from yarnloom.drawing.part_words import counts_text
from yarnloom.errors import InvalidInput
from yarnloom.units import whole_number

View = dict[str, Any]

ITEM_PAGE = 500
IN_FOLLOW_UP = re.compile(r"(^|/)on_(failure|end)/")
EXIT_BY_STATE = {"done": 0, "failed": 1, "cancelled": 1}


def runs(client: Client, options: argparse.Namespace) -> int:
    """List runs."""
    wanted = wanted_of(options)
    if options.save:
        given = {name: value for name, value in wanted.items() if value is not None}
        saved = client.call(save_filter_call(options.save, tuple(options.state), given))
        output.say(f"saved; see it again with: yarnloom runs --saved {shlex.quote(saved['name'])}")
    page = client.call(list_call(tuple(options.state), options.limit, wanted))
    if options.json:
        output.print_json(page)
    elif page["runs"]:
        out.print(output.run_table(page["runs"]))
    elif options.state or any(wanted.values()):
        output.say("no run fits; leave options out, or see all with `yarnloom runs`")
    else:
        output.say("no runs; start one with `yarnloom start WORKFLOW -p name=value`")
    return 0


def wanted_of(options: argparse.Namespace) -> RunsWanted:
    """Which runs are chosen, apart from their states."""
    return {
        "workflow": options.workflow,
        "tag": options.tag,
        "key": options.key,
        "schedule": options.schedule,
        "who": options.who,
        "since": options.since,
        "until": options.until,
        "within": options.within,
        "saved": options.saved,
        "text": options.text,
        "followups_failed": options.followups_failed or None,
        "without_reports": options.without_reports or None,
    }


def filters(client: Client, drop: str, reason: str, as_json: bool) -> int:
    """List the saved filters of the list of runs, or drop one."""
    if drop:
        client.call(drop_filter_call(drop, reason))
        output.say(f"filter {drop} is dropped")
        return 0
    found = client.call(Call("GET", "/filters"))
    if as_json:
        output.print_json(found)
        return 0
    if not found["filters"]:
        output.say("no filter is saved; save one: yarnloom runs --state failed --save NAME")
        return 0
    rows = output.table("filter", "runs that are shown", "saved", "by")
    for one in found["filters"]:
        shown = ", ".join(
            f"{name} {' or '.join(value) if isinstance(value, list) else value}"
            for name, value in one["wanted"].items()
        )
        rows.add_row(one["name"], shown or "all", output.ago(one["saved_at"]), one["saved_by"])
    out.print(rows)
    return 0


def show(client: Client, address: str, states: list[str], limit: int, as_json: bool) -> int:
    """Show a run, an each with its items, an item, or a step."""
    number, label = split_address(address)
    if not label:
        return _show_run(client, number, as_json)
    label = label.partition("#")[0]
    graph = client.call(Call("GET", f"/runs/{number}/graph", query={"address": label}))
    if graph["kind"] == "step":
        return _show_step(client, number, label, as_json)
    if graph["kind"] == "each":
        return _show_items(client, number, label, graph, states, limit, as_json)
    if as_json:
        output.print_json(graph)
        return 0
    head = Text.assemble((f"{number}/{label}", "bold"), "  ")
    out.print(head.append_text(output.state_text(graph["state"])))
    reasons = _reasons(client, number, graph, label)
    out.print(Padding(output.part_table(graph, reasons), (1, 0, 0, 2)))
    return 0


def _reasons(client: Client, number: int, graph: View, label: str = "") -> dict[str, str]:
    """For steps that could run: what they wait for, by address."""
    if not any(part.get("state") == "ready" for part in output.rows_of(graph)):
        return {}
    found = client.call(why_call(number, label))
    return {one["address"]: one["reasons"][0]["text"] for one in found["waits"]}


def _show_run(client: Client, number: int, as_json: bool) -> int:
    run = client.call(show_call(number))
    graph = client.call(Call("GET", f"/runs/{number}/graph"))
    if as_json:
        output.print_json({**run, "graph": graph})
        return 0
    glance = client.call(glance_call(number))
    out.print(output.run_picture(run, graph, glance, _reasons(client, number, graph)))
    out.print()
    if any(piece["what"] == "failed" for piece in glance["pieces"]):
        failures = client.call(Call("GET", f"/runs/{number}/failures"))
        output.print_failures({**failures, "run": number})
    for name, text in (*_origins(run), *_beside(run, graph)):
        out.print(Text.assemble((f"{name:<8}", "dim"), text))
    params = Text("params  ", style="dim")
    out.print(params, output.short_value(run["params"], 200), sep="")
    output.print_end(run)
    return 0


def _beside(run: View, graph: View) -> Iterator[tuple[str, str]]:
    """Follow-ups that failed, and how one is tried again."""
    if not run["followups_failed"]:
        return
    number, failed = run["number"], output.count(run["followups_failed"], "follow-up")
    steps = [one for one in output.rows_of(graph) if one["kind"] == "step"]
    for step in steps:
        if step["state"] == "failed" and IN_FOLLOW_UP.search(step["address"]):
            address = shlex.quote(f"{number}/{step['address']}")
            yield "beside", f"{failed} failed; try again: yarnloom step {address} retry"
            return
    yield "beside", f"{failed} failed, in an item; look for it: yarnloom export {number}"


def _origins(run: View) -> Iterator[tuple[str, str]]:
    """Why there is a run, and when it may begin, where there is more to say than who started it."""
    if run["schedule"]:
        yield "by", f"schedule {run['schedule']}, planned for {run['planned_at']}"
    if run["after"]:
        yield "tells of", f"the end of run {run['after']}"
    if run["state"] == "scheduled":
        yield "starts", f"{output.until(run['start_at'])}, at {run['start_at']}"
    if run["start_by"] and not run["started_at"]:
        yield "by then", f"{run['start_by']}, or it ends as expired"


def _show_items(
    client: Client,
    number: int,
    label: str,
    graph: View,
    states: list[str],
    limit: int,
    as_json: bool,
) -> int:
    query = {"address": label, "state": states, "limit": min(limit, ITEM_PAGE)}
    page = client.call(Call("GET", f"/runs/{number}/items", query=query))
    if as_json:
        output.print_json({**graph, **page})
        return 0
    head = Text.assemble((f"{number}/{label}", "bold"), "  ")
    head.append_text(output.state_text(graph["state"]))
    if "counts" in graph:
        head.append(f"  {counts_text(graph['counts'])}")
    out.print(head)
    if page["items"]:
        out.print(Padding(output.item_table(page["items"]), (1, 0, 0, 2)))
        first = page["items"][0]["address"]
        out.print(Text(f"\nlook into one: yarnloom show '{number}/{first}'", style="dim"))
    if page["next"]:
        output.say("there are more; --limit N shows more of them, --state failed only some")
    return 0


def graph(client: Client, what: str, form: str) -> int:
    """Draw a workflow, a run, or a part of a run."""
    if what[:1].isdigit():
        number, label = split_address(what)
        run = client.call(show_call(number))
        view = client.call(Call("GET", f"/runs/{number}/graph", query={"address": label}))
        title = f"run {what} of {run['workflow']} at version {run['version']}"
    else:
        found = client.call(Call("GET", "/workflows", query={"name": what}))
        view, title = found["plan"], f"{found['name']} at version {found['version']}"
    match form:
        case "json":
            output.print_json(view)
        case "dot":
            output.write(drawing.dot(view))
        case "mermaid":
            output.write(drawing.mermaid(view))
        case "svg":
            output.write(drawing.svg(view, title))
        case _:
            out.print(Text(title, style="bold"))
            out.print(output.outline_text(drawing.outline(view)), end="", soft_wrap=True)
    return 0


def _decided_text(decided: View) -> str:
    """What people decided about a step."""
    found = []
    if decided["end"]:
        found.append(decided["end"])
    if decided["end"] == "supply":
        found[-1] += f" {output.short_value(decided['output'], 200)}"
    if decided["inputs"]:
        found.append(f"input {output.short_value(decided['inputs'], 300)}")
    if decided["pool"] is not None:
        found.append(f"pool {decided['pool'] or 'none'}")
    if decided["priority"] is not None:
        found.append(f"priority {decided['priority']}")
    return ", ".join(found)


def _show_step(client: Client, number: int, label: str, as_json: bool) -> int:
    step = client.call(
        Call("GET", f"/runs/{number}/steps", query={"address": label.partition("#")[0]})
    )
    if as_json:
        output.print_json(step)
        return 0
    head = Text.assemble((step["address"], "bold"), "  ", step["task"], "  ")
    out.print(head.append_text(output.state_text(step["state"], step.get("stop_asked"))))
    if step["progress"]:
        out.print(Text("progress ", style="dim"), output.step_progress(step, 400), sep="")
    for name in ("input", "output"):
        if step[name] is not None:
            shown = output.short_value(step[name], 400)
            out.print(Text(f"{name:<9}", style="dim"), shown, sep="")
    if step["decided"]:
        out.print(Text(f"{'decided':<9}", style="dim"), _decided_text(step["decided"]), sep="")
    print_rules(step)
    attempts = output.table("attempt", "state", "worker", "began", "took", "cpu", "memory", "code")
    for one in step["attempts"]:
        attempts.add_row(
            f"#{one['number']}" + (f" (round {one['round']})" if one["round"] > 1 else ""),
            one["state"].replace("_", " "),
            one["worker"],
            output.ago(one["begun_at"]),
            output.took(one["begun_at"], one["ended_at"]),
            "–" if one["cpu_seconds"] is None else output.seconds_text(one["cpu_seconds"]),
            "–" if one["memory_bytes"] is None else f"{one['memory_bytes'] / 2**20:.0f} MB",
            one["code_hash"],
        )
    if step["attempts"]:
        out.print()
        if folded := step["folded"]:
            out.print(Text(f"{folded} attempts before, each called again", style="dim"))
        out.print(attempts)
    for one in step["attempts"]:
        if one["error"]:
            out.print(Text(f"\n#{one['number']} {one['error']['type']}: ", style="bold"), end="")
            out.print(Text(one["error"].get("traceback") or one["error"]["message"]))
    return 0


def print_rules(step: View) -> None:
    """How a step is run, and how it stands with that."""
    facts = [("rules", ", ".join(drawing.rules(step)))]
    if step["state"] in ("backing_off", "resting"):
        facts.append(("again", output.until(step["due_at"])))
    if step.get("supplied"):
        facts.append(("note", "its output was given by hand"))
    if step.get("deadline_at"):
        facts.append(("deadline", output.until(step["deadline_at"])))
    for name, text in facts:
        if text:
            out.print(Text(f"{name:<9}", style="dim"), text, sep="")


def watch(client: Client, number: int) -> int:
    """Watch a run until it ends."""
    run = client.call(show_call(number))
    graph = client.call(Call("GET", f"/runs/{number}/graph"))
    with Live(console=out, auto_refresh=False, transient=False) as live:
        glance = client.call(glance_call(number))
        live.update(output.run_picture(run, graph, glance), refresh=True)
        if run["state"] not in ENDED:
            for event in client.events(number):
                data = event.get("data") or {}
                run, graph = data.get("run", run), data.get("graph", graph)
                glance = data.get("glance", glance)
                live.update(output.run_picture(run, graph, glance), refresh=True)
                # The graph comes right behind the run: wait for the last picture.
                if run["state"] in ENDED and graph["state"] in (*ENDED, "skipped"):
                    break
    if not out.is_terminal:
        out.print()  # without a terminal the last picture has no line's end
    output.print_end(run)
    return EXIT_BY_STATE[run["state"]]


def workflows(client: Client, name: str, days: int, as_json: bool) -> int:
    """List workflows, or show what one takes and how it went over some days."""
    if name:
        return _show_workflow(client, name, days, as_json)

    def row(one: View) -> list[Any]:
        required = one["params"].get("required", ())
        params = one["params"].get("properties", {})
        names = [name if name in required else f"[{name}]" for name in params]
        published = output.ago(one["published_at"])
        return [one["name"], one["version"], Text(" ".join(names)), published, one["last_run"]]

    columns = ("workflow", "version", "params", "published", "last run")
    hint = "publish a loom with `yarnloom publish MODULE:LOOM`"
    return _list(client, "workflows", columns, row, hint, as_json)


def _show_workflow(client: Client, name: str, days: int, as_json: bool) -> int:
    found = client.call(Call("GET", "/workflows", query={"name": name}))
    query = {"name": found["name"], "days": days}
    went = client.call(Call("GET", "/workflows/over-time", query=query))
    if as_json:
        output.print_json({**found, "over_time": went})
        return 0
    out.print(Text.assemble((found["name"], "bold"), f"  at version {found['version']}"))
    required = found["params"].get("required", ())
    for param, schema in found["params"].get("properties", {}).items():
        kind = schema.get("type") or schema.get("title") or "value"
        needed = "required" if param in required else f"else {schema.get('default')!r}"
        out.print(Text(f"  {param}: {kind}, {needed}", style="dim"))
    table = output.table("day or step", "ended", "failed", "median", "95%", "waited")
    for row in [*went["days"], *went["steps"]]:
        if row["ended"]:
            table.add_row(*output.went_cells(row))
    if not table.rows:
        output.say(f"nothing of it ended within {output.count(days, 'day')}")
        return 0
    out.print(Padding(table, (1, 0, 0, 0)))
    return 0


def tasks(client: Client, name: str, code: str, as_json: bool) -> int:
    """List tasks, or show one with its types and code."""
    if name:
        return _show_task(client, name, code, as_json)

    def row(one: View) -> list[Any]:
        same = [w["name"] for w in one["workers"] if w["code_hash"] == one["code_hash"]]
        other = [f"{w['name']} (other code)" for w in one["workers"] if w["name"] not in same]
        have = ", ".join(same + other) or "none"
        return [one["name"], one["code_hash"], have, one["summary"]]

    columns = ("task", "code", "workers", "what it does")
    hint = "publish a loom with `yarnloom publish MODULE:LOOM`"
    return _list(client, "tasks", columns, row, hint, as_json)


def _show_task(client: Client, name: str, code: str, as_json: bool) -> int:
    query = {"name": name, **({"code": code} if code else {})}
    found = client.call(Call("GET", "/tasks", query=query))
    if as_json:
        output.print_json(found)
        return 0
    same = found["shown_code"] == found["code_hash"]
    what = "published" if same else f"published is {found['code_hash']}"
    out.print(Text.assemble((found["name"], "bold"), f"  code {found['shown_code']} ({what})"))
    for side in ("input", "output"):
        out.print(Text(f"{side:<8}", style="dim"), output.short_value(found[side], 400), sep="")
    out.print()
    out.print(Text(found["source"].rstrip()), soft_wrap=True)
    return 0


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
    return _list(client, "workers", columns, row, hint, as_json)


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


def _list(
    client: Client,
    noun: str,
    columns: tuple[str, ...],
    row: Callable[[View], list[Any]],
    hint: str,
    as_json: bool,
) -> int:
    """A table of everything of a kind, or how to get the first."""
    found = client.call(Call("GET", f"/{noun}"))
    if as_json:
        output.print_json(found)
        return 0
    if not found[noun]:
        output.say(f"no {noun}; {hint}")
        return 0
    rows = output.table(*columns)
    for one in output.readable(found[noun]):
        cells = ["–" if cell is None else cell for cell in row(one)]
        rows.add_row(*(cell if isinstance(cell, Text) else str(cell) for cell in cells))
    out.print(rows)
    return 0


def split_address(address: str) -> tuple[int, str]:
    """The run's number and what stands behind it.

    Raises:
        InvalidInput: it does not begin with a number.
    """
    number, _, label = address.partition("/")
    run = whole_number(number)
    if not run:
        raise InvalidInput(
            f"found {address!r}; expected a run's number, or one with a step: 1042 or 1042/fetch"
        )
    return run, label
