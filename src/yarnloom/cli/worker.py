"""A worker of this machine: run it, here or in the background."""

from __future__ import annotations

import argparse
import asyncio
import contextlib
import os
import sys

from yarnloom.cli.options import Add, Parser, memory, notice_options, positive
from yarnloom.cli.text_streams import say
from yarnloom.client import Target
from yarnloom.errors import InvalidInput
from yarnloom.masking import TASK_TOKEN_VARIABLE
from yarnloom.settings.project import find_project


def worker(options: argparse.Namespace, target: Target) -> int:
    """Work until told to end."""

    if not options.load:
        raise InvalidInput(
            "give --load MODULE:LOOM to run a worker, or: yarnloom worker drain NAME"
        )
    if options.detach:
        from yarnloom.cli import background_workers

        # The name is the record's, too.
        name = options.name or f"worker-{os.getpid()}"
        arguments = [one for one in sys.argv[1:] if one != "--detach"]
        arguments += [] if options.name else ["--name", name]
        return background_workers.begin(name, ", ".join(options.load), target.url, arguments)
    project = find_project()
    if project is not None and (file := project.text("task_token")):
        os.environ.setdefault(TASK_TOKEN_VARIABLE, file)
    with contextlib.ExitStack() as stack:
        if options.record:
            from yarnloom.cli.background_workers import hold_record

            stack.enter_context(hold_record(options.record))
        return _work(options, target)


def _work(options: argparse.Namespace, target: Target) -> int:
    from yarnloom.process_identity import cores
    from yarnloom.worker.worker import WorkerOptions, run_worker

    given = {"id": options.id} if options.id else {}
    chosen = WorkerOptions(
        load=tuple(dict.fromkeys(options.load)),
        target=target,
        name=options.name,
        processes=options.processes or cores(),
        io=max(0, options.io),
        drain=options.drain,
        end_with_stdin=options.end_with_stdin,
        has=_has(options.has),
        pools=None if options.pools is None else tuple(_listed([options.pools])),
        until_idle=options.until_idle,
        replace_after=options.replace_after,
        replace_above=options.replace_above,
        reload=options.reload,
        publish=options.publish,
        quiet=options.quiet,
        show_prints=options.show_prints,
        **given,
    )
    asyncio.run(run_worker(chosen, say))
    return 0


def background(options: argparse.Namespace) -> int:
    """Look at this machine's workers in the background, or end one."""
    from yarnloom.cli import background_workers

    match options.words:
        case ["status"]:
            return background_workers.status(None, options.json)
        case ["status", name]:
            return background_workers.status(name, options.json)
        case ["stop", name]:
            return background_workers.stop(name)
    words = " ".join(options.words)
    raise InvalidInput(f"found `worker {words}`; expected `worker stop NAME` or `worker status`")


def _has(given: list[str]) -> tuple[str, ...]:
    """What a worker says that it has."""
    from yarnloom.plan.step_rules import words

    try:
        return words(_listed(given))
    except ValueError as error:
        raise InvalidInput(f"--has: {error}") from None


def _listed(given: list[str]) -> list[str]:
    """Words from options that hold several, by commas."""
    return [word.strip() for one in given for word in one.split(",") if word.strip()]


def _run_or_background(options: argparse.Namespace) -> int:
    if options.words[:1] in (["stop"], ["status"]):
        return background(options)
    target = Target.find(options.url, None, "from --url", options.token_file)
    if not options.words:
        return worker(options, target)
    from yarnloom.cli.drain import drain, drained
    from yarnloom.client import Client, default_who

    with Client(target=target, who=default_who("cli")) as client:
        return drain(client, drained(options.words), options.reason, options.json)


# What can be typed


def add_parsers(add: Add, service: Parser, reading: Parser) -> None:
    """Add what can be typed."""
    worker_parser = add("worker", service)
    worker_parser.add_argument(
        "words",
        nargs="*",
        metavar="drain|stop|status NAME",
        help="instead of running one: let one take nothing new, and end (drain); end one in the "
        "background of this machine (stop), or list those (status)",
    )
    worker_parser.add_argument(
        "--detach", action="store_true", help="stay in the background when this command has ended"
    )
    worker_parser.add_argument(
        "--reload", action="store_true", help="replace its processes when code changes"
    )
    worker_parser.add_argument(
        "--load",
        action="append",
        default=[],
        metavar="MODULE:LOOM",
        help="the loom to work for; give it again for another",
    )
    worker_parser.add_argument(
        "--publish", action="store_true", help="first make the loom's workflows current"
    )
    worker_parser.add_argument(
        "--processes", type=positive, help="attempts at once (default: the cores)"
    )
    worker_parser.add_argument(
        "--io",
        type=int,
        default=20,
        metavar="N",
        help="attempts of async and io tasks at once, in one more process (default 20)",
    )
    worker_parser.add_argument(
        "--has",
        action="append",
        default=[],
        metavar="WORD",
        help="what it has that steps ask for with only_on, as gpu; several by commas",
    )
    worker_parser.add_argument(
        "--pools", metavar="A,B", help="take only steps of these pools (default: all steps)"
    )
    worker_parser.add_argument(
        "--until-idle", action="store_true", help="end when nothing is left that it could do"
    )
    worker_parser.add_argument(
        "--replace-after",
        type=positive,
        metavar="N",
        help="replace a process after so many attempts",
    )
    worker_parser.add_argument(
        "--replace-above",
        type=memory,
        metavar="SIZE",
        help="replace a process that has more memory after an attempt, as 500MB",
    )
    notice_options(worker_parser, "attempts")
    worker_parser.add_argument("--name", default="", help="the worker's name, for people")
    worker_parser.add_argument("--id", default="", help=argparse.SUPPRESS)
    worker_parser.add_argument("--end-with-stdin", action="store_true", help=argparse.SUPPRESS)
    worker_parser.add_argument("--record", default="", help=argparse.SUPPRESS)
    worker_parser.add_argument("--reason", default="", help="of drain: why, for the record")
    worker_parser.add_argument(
        "--json", action="store_true", help="of drain and status: print JSON"
    )
    worker_parser.add_argument(
        "--drain",
        type=float,
        default=10.0,
        metavar="SECONDS",
        help="time that running attempts get when the worker ends (default 10)",
    )
    worker_parser.set_defaults(run_here=_run_or_background)
