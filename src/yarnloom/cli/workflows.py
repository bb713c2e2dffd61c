"""Workflows and tasks: list them, show one, and check and publish looms."""

from __future__ import annotations

import json

from rich.padding import Padding
from rich.text import Text

from yarnloom.cli import output
from yarnloom.cli.lists import print_list
from yarnloom.cli.options import Add, Parser, positive
from yarnloom.cli.output import Column, out
from yarnloom.cli.show import View
from yarnloom.cli.type_words import type_words
from yarnloom.client import Client, Request


def workflows(client: Client, name: str, days: int, as_json: bool) -> int:
    """List workflows, or show what one takes and how it went over some days."""
    if name:
        return _show_workflow(client, name, days, as_json)
    hint = "publish a loom with `yarnloom publish MODULE:LOOM`"
    return print_list(client, "workflows", WORKFLOW_COLUMNS, hint, as_json)


def _params(workflow: View) -> Text:
    """The names of a workflow's params, those with a default in brackets."""
    required = workflow["params"].get("required", ())
    names = workflow["params"].get("properties", {})
    return Text(" ".join(name if name in required else f"[{name}]" for name in names))


WORKFLOW_COLUMNS = (
    Column("workflow", lambda one: one["name"]),
    Column("version", lambda one: one["version"]),
    Column("params", _params, cut=True),
    Column("published", lambda one: output.ago(one["published_at"])),
    Column("last run", lambda one: one["last_run"]),
)


def _show_workflow(client: Client, name: str, days: int, as_json: bool) -> int:
    found = client.call(Request("GET", "/workflows", query={"name": name}))
    query = {"name": found["name"], "days": days}
    went = client.call(Request("GET", "/workflows/over-time", query=query))
    if as_json:
        output.print_json({**found, "over_time": went})
        return 0
    out.print(Text.assemble((found["name"], "bold"), f"  at version {found['version']}"))
    required = found["params"].get("required", ())
    for param, schema in found["params"].get("properties", {}).items():
        kind = type_words(schema, found["params"])
        given = json.dumps(schema.get("default"), ensure_ascii=False)
        needed = "" if param in required else f" = {given}"
        out.print(Text(f"  {param}: {kind}{needed}", style="dim"), soft_wrap=True)
    table = output.table("day or step", "ended", "failed", "median", "95%", "waited")
    for row in [*went["days"], *went["steps"]]:
        if row["ended"]:
            table.add_row(*output.went_cells(row))
    if not table.rows:
        output.say(f"nothing of it ended within {output.count(days, 'day')}")
        return 0
    out.print(Padding(table, (1, 0, 0, 0), expand=False))
    return 0


def tasks(client: Client, name: str, code: str, as_json: bool) -> int:
    """List tasks, or show one with its types and code."""
    if name:
        return _show_task(client, name, code, as_json)
    hint = "publish a loom with `yarnloom publish MODULE:LOOM`"
    return print_list(client, "tasks", TASK_COLUMNS, hint, as_json)


def _workers(task: View) -> str:
    """Which workers have a task, those with its present code first."""
    same = [w["name"] for w in task["workers"] if w["code_hash"] == task["code_hash"]]
    other = [f"{w['name']} (other code)" for w in task["workers"] if w["name"] not in same]
    return ", ".join(same + other) or "none"


TASK_COLUMNS = (
    Column("task", lambda one: one["name"]),
    Column("code", lambda one: one["code_hash"]),
    Column("workers", _workers),
    Column("what it does", lambda one: one["summary"], cut=True),
)


def _show_task(client: Client, name: str, code: str, as_json: bool) -> int:
    query = {"name": name, **({"code": code} if code else {})}
    found = client.call(Request("GET", "/tasks", query=query))
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


# What can be typed


def add_parsers(add: Add, service: Parser, reading: Parser) -> None:
    """Add what can be typed."""
    workflows_parser = add("workflows", service, reading)
    workflows_parser.add_argument(
        "workflow", nargs="?", default="", metavar="NAME", help="show this one"
    )
    workflows_parser.add_argument(
        "--days", type=positive, default=7, help="with NAME: over so many days (default 7)"
    )
    workflows_parser.set_defaults(
        talk=lambda client, o: workflows(client, o.workflow, o.days, o.json)
    )

    tasks_parser = add("tasks", service, reading)
    tasks_parser.add_argument("task", nargs="?", default="", metavar="TASK", help="show this one")
    tasks_parser.add_argument(
        "--code", default="", metavar="HASH", help="with the code of an attempt"
    )
    tasks_parser.set_defaults(talk=lambda client, o: tasks(client, o.task, o.code, o.json))
