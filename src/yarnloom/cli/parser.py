"""The grammar of the command `yarnloom`: what can be typed, and nothing of what it does."""

from __future__ import annotations

import argparse
import contextlib
from datetime import UTC, datetime, timedelta
from typing import Any, NoReturn

from yarnloom.units import seconds, size
from yarnloom.version import VERSION


class Parser(argparse.ArgumentParser):
    """A parser that offers the nearest name for a misspelled command."""

    def error(self, message: str) -> NoReturn:
        """Say what is wrong and where help is; exit code 2."""
        if "invalid choice:" in message:
            import difflib  # for mistakes only

            given = message.split("invalid choice: ")[1].split(" ", 1)[0].strip("'")
            choices = next(
                (list(a.choices) for a in self._actions if a.choices and given not in a.choices), []
            )
            close = difflib.get_close_matches(given, choices, n=1)
            hint = f"did you mean {close[0]!r}?" if close else f"there is: {', '.join(choices)}"
            option = message.partition(":")[0].removeprefix("argument ")
            what = f"{option}: no" if option.startswith("-") else "no command"
            message = f"{what} {given!r}; {hint}"
        self.exit(2, f"{self.prog}: {message}\n`{self.prog} --help` shows what is possible.\n")


def positive(text: str) -> int:
    """An integer from 1 on."""
    number = int(text)
    if number < 1:
        raise argparse.ArgumentTypeError(f"found {text}; expected 1 or more")
    return number


def memory(text: str) -> int:
    """A size in bytes."""
    try:
        return size(text)
    except ValueError as error:
        raise argparse.ArgumentTypeError(str(error)) from None


def past_time(text: str) -> datetime:
    """A time that has passed: so long ago, as `2h`, or as it is, as `2027-03-01T07:30`."""
    with contextlib.suppress(ValueError):
        return datetime.fromisoformat(text).astimezone()
    with contextlib.suppress(ValueError):
        return datetime.now(UTC) - timedelta(seconds=seconds(text))
    expected = "so long ago as 30m, 2h or 7d, or a time as 2027-03-01 or 2027-03-01T07:30"
    raise argparse.ArgumentTypeError(f"found {text!r}; expected {expected}")


def duration(text: str) -> float:
    """A time in seconds."""
    try:
        return seconds(text)
    except ValueError as error:
        raise argparse.ArgumentTypeError(str(error)) from None


DELIMITERS = {"comma": ",", "semicolon": ";", "tab": "\t", "bar": "|"}


def delimiter(text: str) -> str:
    """What stands between the cells of a CSV file, by name or as it is."""
    mark = DELIMITERS.get(text, text)
    if mark not in DELIMITERS.values():
        raise argparse.ArgumentTypeError(f"found {text!r}; expected {', '.join(DELIMITERS)}")
    return mark


def build_parser() -> Parser:
    """The whole grammar."""
    parser = Parser(
        prog="yarnloom",
        description="Durable background work for Python: write plain functions, compose them into "
        "workflows, and watch, stop and repeat their runs.",
        epilog="Start with `yarnloom demo`. Exit codes: 0 fine, 1 the run failed or was cancelled, "
        "2 bad usage or input, 3 service not reachable, 4 not allowed, 5 could not start.",
    )
    parser.add_argument("--version", action="version", version=f"yarnloom {VERSION}")
    commands = parser.add_subparsers(dest="command", metavar="COMMAND", required=True)
    service = _service_options()
    reading = _reading_options()

    def add(name: str, what: str, *parents: Any) -> argparse.ArgumentParser:
        return commands.add_parser(name, help=what, description=what, parents=parents)

    demo = add("demo", "Run the tide almanac: a service, two workers and a run to look at.")
    _listen_options(demo)
    demo.add_argument(
        "--exit-when-done", action="store_true", help="end with the run instead of staying up"
    )

    serve = add("serve", "Run the service, and workers beside it if a loom is given.")
    _listen_options(serve)
    serve.add_argument(
        "--load",
        action="append",
        default=[],
        metavar="MODULE:LOOM",
        help="publish this loom and work for it; give it again for another",
    )
    serve.add_argument("--workers", type=positive, default=1, help="workers to start (default 1)")
    serve.add_argument(
        "--processes", type=positive, help="processes of each worker (default: the cores, shared)"
    )
    serve.add_argument(
        "--reload",
        action="store_true",
        help="publish again, and replace the workers' processes, when code changes",
    )
    serve.add_argument(
        "--lease",
        type=float,
        default=30.0,
        metavar="SECONDS",
        help="how long a silent worker is thought to live (default 30)",
    )
    serve.add_argument(
        "--commit",
        choices=["auto", "loop", "thread"],
        default="auto",
        help="where commits run; auto decides by how fast the disk is",
    )
    serve.add_argument(
        "--keep-files",
        type=duration,
        default=86_400.0,
        metavar="TIME",
        help="how long a file is kept that no run uses (default 1d)",
    )

    worker = add("worker", "Run attempts for a service.", service)
    worker.add_argument(
        "words",
        nargs="*",
        metavar="drain|stop|status NAME",
        help="instead of running one: let one take nothing new, and end (drain); end one in the "
        "background of this machine (stop), or list those (status)",
    )
    worker.add_argument(
        "--detach", action="store_true", help="stay in the background when this command has ended"
    )
    worker.add_argument(
        "--reload", action="store_true", help="replace its processes when code changes"
    )
    worker.add_argument(
        "--load",
        action="append",
        default=[],
        metavar="MODULE:LOOM",
        help="the loom to work for; give it again for another",
    )
    worker.add_argument(
        "--publish", action="store_true", help="first make the loom's workflows current"
    )
    worker.add_argument("--processes", type=positive, help="attempts at once (default: the cores)")
    worker.add_argument(
        "--io",
        type=int,
        default=20,
        metavar="N",
        help="attempts of async and io tasks at once, in one more process (default 20)",
    )
    worker.add_argument(
        "--has",
        action="append",
        default=[],
        metavar="WORD",
        help="what it has that steps ask for with only_on, as gpu; several by commas",
    )
    worker.add_argument(
        "--pools", metavar="A,B", help="take only steps of these pools (default: all steps)"
    )
    worker.add_argument(
        "--until-idle", action="store_true", help="end when nothing is left that it could do"
    )
    worker.add_argument(
        "--replace-after",
        type=positive,
        metavar="N",
        help="replace a process after so many attempts",
    )
    worker.add_argument(
        "--replace-above",
        type=memory,
        metavar="SIZE",
        help="replace a process that has more memory after an attempt, as 500MB",
    )
    worker.add_argument("--name", default="", help="the worker's name, for people")
    worker.add_argument("--id", default="", help=argparse.SUPPRESS)
    worker.add_argument("--end-with-stdin", action="store_true", help=argparse.SUPPRESS)
    worker.add_argument("--record", default="", help=argparse.SUPPRESS)
    worker.add_argument("--reason", default="", help="of drain: why, for the record")
    worker.add_argument("--json", action="store_true", help="of drain and status: print JSON")
    worker.add_argument(
        "--drain",
        type=float,
        default=10.0,
        metavar="SECONDS",
        help="time that running attempts get when the worker ends (default 10)",
    )

    verify = add(
        "verify",
        "Look for anything wrong in the records of a data folder, whether a service has it or not.",
        reading,
    )
    verify.add_argument("--data", metavar="FOLDER", help="data folder (else YARNLOOM_DATA)")

    check = add("check", "Check a loom without running anything.", reading)
    check.add_argument("loom", metavar="MODULE:LOOM")

    publish = add(
        "publish", "Make the workflows of looms current at the service.", service, reading
    )
    publish.add_argument("looms", nargs="+", metavar="MODULE:LOOM")

    start = add("start", "Start a run and print its number.", service, reading)
    start.add_argument("workflow", metavar="WORKFLOW", help="a workflow, or with --task a task")
    start.add_argument("--task", action="store_true", help="start a single task; -p is its inputs")
    start.add_argument(
        "-p",
        "--param",
        action="append",
        default=[],
        metavar="NAME=VALUE",
        help="one param; NAME=@FILE and NAME=- read it, NAME=@@TEXT begins with @; secrets that "
        "are missing are asked for",
    )
    start.add_argument("--params", metavar="FILE", help="params as a JSON file; - reads the input")
    start.add_argument(
        "--file",
        action="append",
        default=[],
        metavar="NAME=PATH",
        help="one param that is a file, or rows of one (CSV, JSON Lines)",
    )
    start.add_argument(
        "--delimiter",
        type=delimiter,
        metavar="MARK",
        help="what stands between the cells of a CSV file: comma (default), semicolon, tab, bar",
    )
    start.add_argument("--key", help="start key: starting twice with one makes one run")
    start.add_argument("--priority", type=int, default=0, help="higher runs first (default 0)")
    start.add_argument("--share", default="", help="whom fair turns are counted for")
    start.add_argument("--tag", action="append", default=[], help="a word to find the run by")
    when = start.add_mutually_exclusive_group()
    when.add_argument(
        "--in", dest="start_in", type=duration, metavar="TIME", help="start after a time, as 10m"
    )
    when.add_argument("--at", metavar="TIME", help="start at a time, as 7:30, 2027-03-01T07:30")
    start.add_argument(
        "--start-by",
        metavar="TIME",
        help="do not begin it after that time: it ends cancelled as expired",
    )
    start.add_argument(
        "--many",
        metavar="FILE",
        help="one run for each line of a JSON Lines file of params, all or none; - the input",
    )
    start.add_argument("--watch", action="store_true", help="stay and show its progress")

    _file_commands(add, service, reading)

    runs = add("runs", "List runs, newest first.", service, reading)
    _filter_options(runs, "only")
    runs.add_argument("--save", metavar="NAME", help="keep these options by name, for everybody")
    runs.add_argument("--limit", type=positive, default=20, help="how many (default 20)")

    filters = add("filters", "List the saved filters of runs, or drop one.", service, reading)
    filters.add_argument("--drop", default="", metavar="NAME", help="forget this one")
    filters.add_argument("--reason", default="", help="of drop: why, for the record")

    show = add("show", "Show a run, an item of an each, or a step.", service, reading)
    show.add_argument(
        "address", metavar="RUN[/PART]", help="1042, 1042/harbours, 1042/harbours[brackwater]/fetch"
    )
    show.add_argument(
        "--state", action="append", default=[], help="of an each: items in this state"
    )
    show.add_argument("--limit", type=positive, default=50, help="of an each: items (default 50)")

    graph = add("graph", "Draw a workflow, or a run with its states.", service, reading)
    graph.add_argument("what", metavar="WORKFLOW|RUN[/PART]", help="harbour-tides, or 1042")
    graph.add_argument(
        "--as",
        dest="form",
        choices=["text", "dot", "mermaid", "svg", "json"],
        default="text",
        help="what to draw (default text); --json is --as json",
    )

    watch = add("watch", "Watch a run until it ends; Ctrl-C stops watching only.", service)
    watch.add_argument("run", type=positive, metavar="RUN")

    choosing = _choosing_options()
    add("pause", "Begin nothing more of a run; what runs stops.", service, reading, choosing)
    add("resume", "Let a paused run go on.", service, reading, choosing)
    cancel = add("cancel", "Tell a run to stop.", service, reading, choosing)
    cancel.add_argument("--now", action="store_true", help="give what runs no grace")
    mend = add("mend", "Run again what failed or was missed.", service, reading, choosing)
    mend.add_argument(
        "--paused", action="store_true", help="only meet what was decided by hand; resume begins"
    )
    mend.add_argument(
        "--only", metavar="ADDRESS", help="run only this step again, in all items where it failed"
    )
    mend.add_argument("--error", metavar="TYPE", help="with --only: only these errors")
    change = add("change", "Change a run that has not begun yet.", service, reading)
    change.add_argument("run", type=positive, metavar="RUN")
    when = change.add_mutually_exclusive_group()
    when.add_argument("--now", action="store_true", help="begin it now")
    when.add_argument(
        "--in", dest="start_in", type=duration, metavar="TIME", help="begin it after a time, as 10m"
    )
    when.add_argument("--at", metavar="TIME", help="begin it at a time, as 7:30, 2027-03-01T07:30")
    change.add_argument("--priority", type=int, help="higher runs first")
    change.add_argument("--tag", action="append", help="its tags from now on")
    change.add_argument("--reason", default="", help="why, for the record")
    _control_commands(add, service, reading)

    why = add("why", "Say what each unfinished step of a run waits for.", service, reading)
    why.add_argument("address", metavar="RUN[/PART]", help="1042, 1042/harbours[brackwater]/fetch")

    log = add("log", "Print what the steps of a run printed and logged.", service, reading)
    log.add_argument(
        "address", metavar="RUN[/PART[#ATTEMPT]]", help="1042, 1042/fetch, 1042/fetch#2"
    )
    log.add_argument(
        "--follow", action="store_true", help="also print new lines, until that has ended"
    )
    log.add_argument("--text", default="", help="only lines with this in them")
    log.add_argument("--last", type=positive, metavar="N", help="only the newest N lines")

    workflows = add("workflows", "List the workflows, or show how one went.", service, reading)
    workflows.add_argument("workflow", nargs="?", default="", metavar="NAME", help="show this one")
    workflows.add_argument(
        "--days", type=positive, default=7, help="with NAME: over so many days (default 7)"
    )
    tasks = add("tasks", "List the tasks, or show one with its code.", service, reading)
    tasks.add_argument("task", nargs="?", default="", metavar="TASK", help="show this one")
    tasks.add_argument("--code", default="", metavar="HASH", help="with the code of an attempt")
    add("workers", "List the workers.", service, reading)

    add("pools", "List the pools: what limits how many run at once.", service, reading)
    pool = add("pool", "Show a pool, or change it at once.", service, reading)
    pool.add_argument("name", metavar="NAME", help="the pool")
    pool.add_argument("--limit", metavar="N", help="attempts at once; 0 halts, none is no limit")
    pool.add_argument(
        "--rate", metavar="N/TIME", help="attempts that may begin in a time, as 10/1s; or none"
    )
    pool.add_argument("--note", help="what the limit is for")
    _hand_options(pool, "begin")
    pool.add_argument("--make", action="store_true", help="make it; it must not be there yet")
    pool.add_argument("--remove", action="store_true", help="remove it; no step may name it")
    pool.add_argument("--reason", default="", help="why, for the record")
    _schedule_commands(add, service, reading)

    relay = add(
        "relay", "Deliver the starts that transactions left in an outbox.", service, reading
    )
    relay.add_argument("database", nargs="?", default="", metavar="FILE", help="a SQLite file")
    relay.add_argument(
        "--connect", default="", metavar="MODULE:FUNCTION", help="makes a DB-API connection"
    )
    relay.add_argument("--table", default="yarnloom_outbox", help="default yarnloom_outbox")
    relay.add_argument(
        "--every",
        type=duration,
        default=1.0,
        metavar="TIME",
        help="look at least so often; a SQLite file is watched besides (default 1s)",
    )
    once = relay.add_mutually_exclusive_group()
    once.add_argument("--once", action="store_true", help="deliver what is there, and end")
    once.add_argument("--list", action="store_true", help="only say what waits, or was refused")
    relay.add_argument("--retry", action="store_true", help="first forget that some were refused")
    return parser


def _hand_options(parser: argparse.ArgumentParser, verb: str) -> None:
    """What is done by hand with something that looms declare."""
    flow = parser.add_mutually_exclusive_group()
    what = f"{verb} nothing more"
    flow.add_argument("--pause", dest="flow", action="store_const", const="pause", help=what)
    what = "go on after a pause"
    flow.add_argument("--resume", dest="flow", action="store_const", const="resume", help=what)
    parser.add_argument(
        "--as-declared", action="store_true", help="first forget what was set by hand before"
    )


def _schedule_commands(add: Any, service: Any, reading: Any) -> None:
    """Commands about what starts by the clock."""
    add("schedules", "List the schedules: what starts by the clock.", service, reading)
    schedule = add("schedule", "Show a schedule, change it, or start it now.", service, reading)
    schedule.add_argument("name", metavar="NAME", help="the schedule")
    schedule.add_argument("--workflow", help="what it starts")
    schedule.add_argument("--cron", metavar="WHEN", help="minute hour day month weekday")
    schedule.add_argument("--zone", help="by whose clock, as Europe/Lisbon (default UTC)")
    schedule.add_argument(
        "-p", "--param", action="append", default=[], metavar="NAME=VALUE", help="one param"
    )
    schedule.add_argument("--params", metavar="FILE", help="params as a JSON file")
    schedule.add_argument(
        "--if-busy",
        choices=["wait", "skip", "replace", "start"],
        help="what becomes of a time that comes while an earlier run is under way (default wait)",
    )
    schedule.add_argument(
        "--missed",
        choices=["one", "all", "none"],
        help="which missed times are caught up with (default one, the newest)",
    )
    schedule.add_argument("--priority", type=int, help="of its runs: higher first")
    schedule.add_argument("--share", help="whom fair turns of its runs are counted for")
    schedule.add_argument("--tag", action="append", help="a word to find its runs by")
    schedule.add_argument("--note", help="what it is for")
    _hand_options(schedule, "start")
    doing = schedule.add_mutually_exclusive_group()
    doing.add_argument("--make", action="store_true", help="make it; it must not be there yet")
    doing.add_argument("--remove", action="store_true", help="remove it; its runs stay")
    doing.add_argument("--start", action="store_true", help="start what it starts, now")
    doing.add_argument(
        "--times", action="store_true", help="only say when it would come, and save nothing"
    )
    schedule.add_argument("--reason", default="", help="why, for the record")


def _file_commands(add: Any, service: Any, reading: Any) -> None:
    """Commands that bring data in and take it out."""
    files = add("files", "List the files that are kept, or show one.", service, reading)
    files.add_argument("file", nargs="?", default="", metavar="FILE", help="its hash, or name")
    files.add_argument("--limit", type=positive, default=20, help="how many (default 20)")

    upload = add("upload", "Keep a file with the service.", service, reading)
    upload.add_argument("path", metavar="PATH", help="the file; - reads the input")
    upload.add_argument("--name", default="", help="what it is called (default: as it is here)")
    upload.add_argument("--type", default="", help="its media type (default: by its name)")

    download = add("download", "Fetch a file.", service)
    download.add_argument("file", metavar="FILE", help="its hash, or the beginning of it")
    download.add_argument("-o", "--output", metavar="PATH", help="where to (default: here)")

    export = add("export", "Take out what a run did with each item, or all of it.", service)
    export.add_argument(
        "address", metavar="RUN[/EACH]", help="1042/letters for its items, 1042 for the whole run"
    )
    export.add_argument(
        "--as",
        dest="form",
        choices=["csv", "json-lines", "json"],
        help="of items csv, of a run json",
    )
    export.add_argument("--state", action="append", default=[], help="only items in this state")
    export.add_argument(
        "--safe", action="store_true", help="of csv: keep spreadsheets from running cells"
    )
    export.add_argument("-o", "--output", metavar="PATH", help="where to (default: the output)")


def _control_commands(add: Any, service: Any, reading: Any) -> None:
    """Commands about what was begun, done and said."""
    rerun = add("rerun", "Start a run's workflow anew, with its params.", service, reading)
    rerun.add_argument("run", type=positive, metavar="RUN")
    rerun.add_argument(
        "-p", "--param", action="append", default=[], metavar="NAME=VALUE", help="change one param"
    )
    rerun.add_argument("--params", metavar="FILE", help="changed params as a JSON file")
    rerun.add_argument("--reason", default="", help="why, for the record")
    rerun.add_argument("--watch", action="store_true", help="stay and show its progress")

    step = add("step", "Decide something about one step.", service, reading)
    step.add_argument("address", metavar="RUN/STEP", help="1042/harbours[brackwater]/fetch")
    step.add_argument(
        "action", choices=["pause", "resume", "cancel", "retry", "edit", "skip", "supply"]
    )
    step.add_argument(
        "-p",
        "--param",
        action="append",
        default=[],
        metavar="NAME=VALUE",
        help="of edit: one input, as a constant",
    )
    step.add_argument("--pool", help="of edit: the pool; none for none")
    step.add_argument("--priority", type=int, help="of edit: higher runs first")
    step.add_argument("--output", metavar="JSON", help="of supply: the output")
    step.add_argument("--reason", default="", help="why, for the record")

    ledger = add("ledger", "List the side effects that a run has on record.", service, reading)
    ledger.add_argument("run", type=positive, metavar="RUN")

    settle = add("settle", "Say whether an unsure side effect was done.", service, reading)
    settle.add_argument("address", metavar="RUN[/STEP]", help="1042/mail, or the run's alone")
    settle.add_argument("what", metavar="WHAT", help="as the ledger names it")
    word = settle.add_mutually_exclusive_group(required=True)
    word.add_argument("--done", dest="done", action="store_const", const=True, help="it was done")
    word.add_argument(
        "--not-done", dest="done", action="store_const", const=False, help="it was not"
    )
    settle.add_argument(
        "--value", metavar="JSON", help="what it gave, where it was done and the step uses that"
    )
    settle.add_argument("--reason", default="", help="how you know, for the record")

    commands = add("commands", "List who gave which command, newest first.", service, reading)
    commands.add_argument("--run", type=positive, metavar="RUN", help="only about this run")
    commands.add_argument("--who", help="only by this one, as cli:ann@office")
    commands.add_argument("--what", help="only this command, as cancel")
    commands.add_argument("--limit", type=positive, default=50, help="how many (default 50)")

    published = add("published", "Print what the steps of a run published.", service, reading)
    published.add_argument("run", type=positive, metavar="RUN")
    published.add_argument("--follow", action="store_true", help="stay, and print what comes")

    link = add("link", "Make a link with which a run may be watched.", service, reading)
    link.add_argument("run", type=positive, metavar="RUN")
    link.add_argument(
        "--for", dest="lasts", default="1h", metavar="TIME", help="how long (default 1h)"
    )
    link.add_argument(
        "--details",
        action="store_true",
        help="it also shows output and errors as they are, and what steps are called",
    )

    links = add("links", "List the links to a run, or revoke one.", service, reading)
    links.add_argument("run", type=positive, metavar="RUN")
    links.add_argument("--revoke", type=positive, metavar="LINK", help="end this one now")
    links.add_argument("--reason", default="", help="of revoke: why, for the record")


def _choosing_options() -> argparse.ArgumentParser:
    options = argparse.ArgumentParser(add_help=False)
    options.add_argument("run", type=positive, nargs="?", metavar="RUN")
    options.add_argument("--reason", default="", help="why, for the record")
    _filter_options(options.add_argument_group("instead of a number, all runs"), "all")
    options.add_argument("--yes", action="store_true", help="do not ask how many they are")
    return options


def _filter_options(parser: argparse._ActionsContainer, which: str) -> None:
    """Which runs a list shows, or a command is for."""
    add = parser.add_argument
    add("--state", action="append", default=[], help=f"{which} runs in this state")
    add("--workflow", metavar="NAME", help=f"{which} runs of this workflow")
    add("--tag", help=f"{which} runs with this tag")
    add("--key", help=f"{which} runs that this start key made")
    add("--schedule", metavar="NAME", help=f"{which} runs of this schedule")
    add("--who", metavar="NAME", help=f"{which} runs that this one started")
    for name, word in (("--since", "started then or later"), ("--until", "started before then")):
        add(name, type=past_time, metavar="TIME", help=f"{word}: 2h ago, or a time")
    add("--within", metavar="TIME", help="started so long ago or later, as 24h")
    add("--text", help=f"{which} runs with this in their params, tags, key, error, …")
    add("--followups-failed", action="store_true", help=f"{which} of which a follow-up failed")
    add(
        "--without-reports",
        action="store_true",
        help="without runs that only tell of another run's end",
    )
    add("--saved", metavar="NAME", help="as this saved filter says; other options count more")


def _service_options() -> argparse.ArgumentParser:
    options = argparse.ArgumentParser(add_help=False)
    options.add_argument("--url", help="the service's address (else YARNLOOM_URL)")
    options.add_argument("--token", help="the service's token (else YARNLOOM_TOKEN)")
    return options


def _reading_options() -> argparse.ArgumentParser:
    options = argparse.ArgumentParser(add_help=False)
    options.add_argument("--json", action="store_true", help="print JSON, for programs")
    return options


def _listen_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--host", default="127.0.0.1", help="address to listen at")
    parser.add_argument("--port", type=int, default=8471, help="port (default 8471; 0 is any)")
    parser.add_argument("--data", metavar="FOLDER", help="data folder (else YARNLOOM_DATA)")
    parser.add_argument("--token", help="token that clients must show (else YARNLOOM_TOKEN)")
    parser.add_argument(
        "--name",
        dest="names",
        action="append",
        default=[],
        metavar="HOST",
        help="a host name by which the service is reached",
    )
