"""All commands, each with the file that has its parser and does it.

Python imports a file when its command is typed: `yarnloom --help` needs none.
"""

from __future__ import annotations

from importlib import import_module
from typing import Any

from yarnloom.cli.options import Parser, duration, reading_options, service_options
from yarnloom.version import VERSION

COMMANDS = {
    "demo": ("serve", "Run the tide almanac: a service, two workers and a run to look at."),
    "serve": ("serve", "Run the service, and workers beside it if a loom is given."),
    "worker": ("worker", "Run attempts for a service."),
    "verify": (
        "verify",
        "Look for anything wrong in the records of a data folder, whether a service has it or not.",
    ),
    "check": ("looms", "Check a loom without running anything."),
    "publish": ("looms", "Make the workflows of looms current at the service."),
    "start": ("start", "Start a run and print its number."),
    "files": ("files", "List the files that are kept, or show one."),
    "upload": ("files", "Keep a file with the service."),
    "download": ("files", "Fetch a file."),
    "export": ("files", "Take out what a run did with each item, or all of it."),
    "runs": ("runs", "List runs, newest first."),
    "filters": ("runs", "List the saved filters of runs, or drop one."),
    "show": ("show", "Show a run, an item of an each, or a step."),
    "graph": ("show", "Draw a workflow, or a run with its states."),
    "watch": ("runs", "Watch a run until it ends; Ctrl-C stops watching only."),
    "pause": ("run_actions", "Begin nothing more of a run; what runs stops."),
    "resume": ("run_actions", "Let a paused run go on."),
    "cancel": ("run_actions", "Tell a run to stop."),
    "mend": ("run_actions", "Run again what failed or was missed."),
    "change": ("run_actions", "Change a run that has not begun yet."),
    "rerun": ("run_actions", "Start a run's workflow anew, with its params."),
    "step": ("run_actions", "Decide something about one step."),
    "ledger": ("ledger", "List the side effects that a run has on record."),
    "settle": ("ledger", "Say whether an unsure side effect was done."),
    "commands": ("ledger", "List who gave which command, newest first."),
    "published": ("published", "Print what the steps of a run published."),
    "link": ("links", "Make a link with which a run may be watched."),
    "links": ("links", "List the links to a run, or revoke one."),
    "why": ("why", "Say what each unfinished step of a run waits for."),
    "log": ("log", "Print what the steps of a run printed and logged."),
    "workflows": ("workflows", "List the workflows, or show how one went."),
    "tasks": ("workflows", "List the tasks, or show one with its code."),
    "workers": ("workers", "List the workers."),
    "pools": ("pools", "List the pools: what limits how many run at once."),
    "pool": ("pools", "Show a pool, or change it at once."),
    "schedules": ("schedules", "List the schedules: what starts by the clock."),
    "schedule": ("schedules", "Show a schedule, change it, or start it now."),
    "tokens": ("access", "List the tokens of those who come from elsewhere."),
    "token": ("access", "Make a token, or revoke one."),
    "open": ("access", "Print an address that opens the console, signed in."),
    "config": ("settings", "Show every setting, its value here, and where that comes from."),
    "trust": ("settings", "Let a project's file name code to load and a service to talk to."),
    "relay": ("outbox", "Deliver the starts that transactions left in an outbox."),
}
"""By command its file in `cli`, and its line of help."""


def build_parser(typed: str | None = None) -> Parser:
    """Return the parser of the command.

    Args:
        typed: the only command whose options are needed; None for all.
    """
    parser = Parser(
        prog="yarnloom",
        description="Durable background work for Python: write plain functions, compose them into "
        "workflows, and watch, stop and repeat their runs.",
        epilog="Start with `yarnloom demo`. Exit codes: 0 fine, 1 the run failed or was cancelled, "
        "2 bad usage or input, 3 service not reachable, 4 not allowed, 5 could not start.",
    )
    parser.add_argument("--version", action="version", version=f"yarnloom {VERSION}")
    parser.add_argument(
        "--wait",
        type=duration,
        default=0.0,
        metavar="TIME",
        help="before the command: wait so long for a service that comes up",
    )
    commands = parser.add_subparsers(dest="command", metavar="COMMAND", required=True)
    modules = {module for name, (module, _) in COMMANDS.items() if typed in (None, name)}
    service, reading = service_options(), reading_options()

    def add(name: str, *parents: Parser) -> Any:
        what = COMMANDS[name][1]
        return commands.add_parser(name, help=what, description=what, parents=parents)

    added: set[str] = set()
    for name, (module, _) in COMMANDS.items():
        if module not in modules:
            add(name)
        elif module not in added:
            added.add(module)
            import_module(f"yarnloom.cli.{module}").add_parsers(add, service, reading)
    return parser
