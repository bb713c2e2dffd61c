"""Commands that bring something in: check, publish, start."""

from __future__ import annotations

import sys
from typing import Any

from rich.text import Text

from yarnloom.cli import output, show
from yarnloom.cli.files import check_bar, file_params
from yarnloom.cli.output import out
from yarnloom.cli.typed_params import (
    ask_for_secrets,
    lines_from,
    named_params,
    params_from,
    wanted_types,
)
from yarnloom.client import Call, Client, Start
from yarnloom.client.calls import start_call
from yarnloom.errors import InvalidInput, Problem


def check(spec: str, as_json: bool) -> int:
    """Check a loom; every mistake is printed."""
    from yarnloom.sdk.find_loom import load_loom

    loom = load_loom(spec)
    plans, problems = loom.examine()
    remarks = loom.remarks(plans)
    if as_json:
        listed = {
            name: [{"where": one.where, "message": one.message} for one in some]
            for name, some in (("problems", problems), ("remarks", remarks))
        }
        output.print_json({"loom": loom.name, **listed})
        return 2 if problems else 0
    for remark in remarks:
        output.say(f"remark: {remark}")
    if problems:
        output.say(f"loom {loom.name}: {output.count(len(problems), 'mistake')}")
        for problem in problems:
            output.say(f"  {problem}")
        return 2
    steps = sum(len(list(plan.steps())) for plan in plans)
    schedules = len(loom.schedules)
    out.print(
        f"loom {loom.name} is fine: {output.count(len(loom.tasks), 'task')}, "
        f"{output.count(len(plans), 'workflow')}, {output.count(steps, 'step')}"
        + (f", {output.count(len(loom.pools), 'pool')}" if loom.pools else "")
        + (f", {output.count(schedules, 'schedule')}" if schedules else "")
    )
    return 0


def publish(client: Client, specs: list[str], as_json: bool) -> int:
    """Make the workflows of looms current; every loom is loaded before any is published."""
    from yarnloom.sdk.find_loom import load_loom

    publications = [load_loom(spec).publication() for spec in dict.fromkeys(specs)]
    published = []
    for publication in publications:
        published += client.call(Call("POST", "/workflows", publication))["workflows"]
    if as_json:
        output.print_json({"workflows": published})
        return 0
    for one in published:
        note = "published" if one["current_since_now"] else "unchanged"
        out.print(f"{note} {one['workflow']} at version {one['version']}")
    return 0


def start(
    client: Client,
    workflow: str,
    named: list[str],
    params_file: str | None,
    files: list[str],
    *,
    delimiter: str | None,
    many: str | None,
    stay: bool,
    as_json: bool,
    **settings: Any,
) -> int:
    """Start a run, or with `many` one for each line of a file.

    Args:
        settings: those of a `Start`.
    """
    wants = wanted_types(client, workflow, settings["task"]) if named or sys.stdin.isatty() else {}
    params = params_from(params_file) | named_params(wants, named)
    params |= file_params(client, files, delimiter)
    params |= ask_for_secrets(wants, params)
    if many is not None:
        found = lines_from(many)
        starts = [Start(workflow, {**params, **one}, **settings) for one in found.values()]
        return _start_many(client, starts, list(found), as_json)
    call = start_call(Start(workflow, params, **settings))
    with check_bar() as on_check:
        run = client.begin(call, on_check).data
    if as_json:
        output.print_json(run)
    elif not stay:
        out.print(f"run {run['number']} of {run['workflow']} is {run['state']}")
        look = "show" if run["entered"] and run["state"] != "scheduled" else "why"
        if run["state"] == "scheduled":
            out.print(f"it starts {output.until(run['start_at'])}, at {run['start_at'][:19]}Z")
        if run["error"]:
            out.print(Text(run["error"]["message"]))
        else:
            out.print(Text(f"look at it: yarnloom {look} {run['number']}", style="dim"))
    return show.watch(client, run["number"]) if stay else 0


def _by_line(problem: Problem, lines: list[int]) -> Problem:
    """A problem of one of many starts, with the line that it comes from."""
    _, _, place, *rest = problem.where.split("/")  # /starts/17/params/year
    where = "/".join(["", *(one for one in rest if one != "params")])
    return problem._replace(where=f"line {lines[int(place)]}, {where}")


def _start_many(client: Client, starts: list[Start], lines: list[int], as_json: bool) -> int:
    try:
        numbers = client.start_many(starts)
    except InvalidInput as error:
        error.problems = tuple(_by_line(one, lines) for one in error.problems)
        raise
    if as_json:
        output.print_json({"runs": numbers})
    else:
        runs = f"{len(numbers):,} runs" if len(numbers) > 1 else "1 run"
        out.print(f"{runs} of {starts[0].workflow}: {min(numbers)} to {max(numbers)}")
        out.print(Text("look at them: yarnloom runs", style="dim"))
    return 0
