"""Commands that look: runs, filters, show, graph, watch, workflows, tasks, workers."""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterator

from rich.padding import Padding
from rich.text import Text

from yarnloom import drawing
from yarnloom.cli import output
from yarnloom.cli.options import Add, Parser, positive
from yarnloom.cli.output import out
from yarnloom.cli.part_address import split_address
from yarnloom.client import Client, Request
from yarnloom.client.http_requests import glance_request, show_request, why_request
from yarnloom.drawing.part_words import counts_text
from yarnloom.values import JsonObject

View = JsonObject

ITEM_PAGE = 500
IN_FOLLOW_UP = re.compile(r"(^|/)on_(failure|end)/")
EXIT_BY_STATE = {"done": 0, "failed": 1, "cancelled": 1}


def show(client: Client, address: str, states: list[str], limit: int, as_json: bool) -> int:
    """Show a run, an each with its items, an item, or a step."""
    number, label = split_address(address)
    if not label:
        return _show_run(client, number, as_json)
    label = label.partition("#")[0]
    graph = client.call(Request("GET", f"/runs/{number}/graph", query={"address": label}))
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
    out.print(Padding(output.part_table(graph, reasons), (1, 0, 0, 2), expand=False))
    return 0


def _reasons(client: Client, number: int, graph: View, label: str = "") -> dict[str, str]:
    """For steps that could run: what they wait for, by address."""
    if not any(part.get("state") == "ready" for part in output.rows_of(graph)):
        return {}
    found = client.call(why_request(number, label))
    return {wait["address"]: wait["reasons"][0]["text"] for wait in found["waits"]}


def _show_run(client: Client, number: int, as_json: bool) -> int:
    run = client.call(show_request(number))
    graph = client.call(Request("GET", f"/runs/{number}/graph"))
    if as_json:
        output.print_json({**run, "graph": graph})
        return 0
    glance = client.call(glance_request(number))
    out.print(output.run_picture(run, graph, glance, _reasons(client, number, graph)))
    out.print()
    if any(piece["what"] == "failed" for piece in glance["pieces"]):
        failures = client.call(Request("GET", f"/runs/{number}/failures"))
        output.print_failures({**failures, "run": number})
    for name, text in (*_origins(run), *_beside(run, graph)):
        out.print(Text.assemble(_name(name), text))
    out.print(_name("params"), output.short_value(run["params"], 200), sep="")
    output.print_end(run)
    return 0


def _name(name: str) -> Text:
    """Name a line below the picture of a run, as wide as the longest of them and a space."""
    return Text(f"{name:<9}", style="dim")


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
    page = client.call(Request("GET", f"/runs/{number}/items", query=query))
    if as_json:
        output.print_json({**graph, **page})
        return 0
    head = Text.assemble((f"{number}/{label}", "bold"), "  ")
    head.append_text(output.state_text(graph["state"]))
    if "counts" in graph:
        head.append(f"  {counts_text(graph['counts'])}")
    out.print(head)
    if page["items"]:
        out.print(Padding(output.item_table(page["items"]), (1, 0, 0, 2), expand=False))
        first = page["items"][0]["address"]
        out.print(Text(f"\nlook into one: yarnloom show '{number}/{first}'", style="dim"))
    if page["next"]:
        output.say("there are more; --limit N shows more of them, --state failed only some")
    return 0


def graph(client: Client, what: str, form: str) -> int:
    """Draw a workflow, a run, or a part of a run."""
    if what[:1].isdigit():
        number, label = split_address(what)
        run = client.call(show_request(number))
        view = client.call(Request("GET", f"/runs/{number}/graph", query={"address": label}))
        title = f"run {what} of {run['workflow']} at version {run['version']}"
    else:
        found = client.call(Request("GET", "/workflows", query={"name": what}))
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
        Request("GET", f"/runs/{number}/steps", query={"address": label.partition("#")[0]})
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
    # Attempts that were only called again say nothing new, and would hide the last one.
    if step["attempts"]:
        out.print()
        if folded := step["folded"]:
            out.print(Text(f"{folded} attempts before, each called again", style="dim"))
        out.print(attempts)
    for one in step["attempts"]:
        if one["error"]:
            out.print(Text(f"\n#{one['number']} {one['error']['type']}: ", style="bold"), end="")
            out.print(
                Text(one["error"].get("traceback") or one["error"]["message"]), soft_wrap=True
            )
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


# What can be typed


def add_parsers(add: Add, service: Parser, reading: Parser) -> None:
    """Add what can be typed."""
    show_parser = add("show", service, reading)
    show_parser.add_argument(
        "address", metavar="RUN[/PART]", help="1042, 1042/harbours, 1042/harbours[brackwater]/fetch"
    )
    show_parser.add_argument(
        "--state", action="append", default=[], help="of an each: items in this state"
    )
    show_parser.add_argument(
        "--limit", type=positive, default=50, help="of an each: items (default 50)"
    )
    show_parser.set_defaults(
        talk=lambda client, o: show(client, o.address, o.state, o.limit, o.json)
    )

    graph_parser = add("graph", service, reading)
    graph_parser.add_argument("what", metavar="WORKFLOW|RUN[/PART]", help="harbour-tides, or 1042")
    graph_parser.add_argument(
        "--as",
        dest="form",
        choices=["text", "dot", "mermaid", "svg", "json"],
        default="text",
        help="what to draw (default text); --json is --as json",
    )
    graph_parser.set_defaults(
        talk=lambda client, o: graph(client, o.what, "json" if o.json else o.form)
    )
