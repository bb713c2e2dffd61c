"""Looms: check one without running anything, and publish."""

from __future__ import annotations

from yarnloom.cli import output
from yarnloom.cli.options import Add, Parser
from yarnloom.cli.output import out
from yarnloom.client import Client, Request


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
        published += client.call(Request("POST", "/workflows", publication))["workflows"]
    if as_json:
        output.print_json({"workflows": published})
        return 0
    for one in published:
        note = "published" if one["current_since_now"] else "unchanged"
        out.print(f"{note} {one['workflow']} at version {one['version']}")
    return 0


# What can be typed


def add_parsers(add: Add, service: Parser, reading: Parser) -> None:
    """Add what can be typed."""
    check_parser = add("check", reading)
    check_parser.add_argument("loom", metavar="MODULE:LOOM")
    check_parser.set_defaults(run_here=lambda o: check(o.loom, o.json))

    publish_parser = add("publish", service, reading)
    publish_parser.add_argument("looms", nargs="+", metavar="MODULE:LOOM")
    publish_parser.set_defaults(talk=lambda client, o: publish(client, o.looms, o.json))
