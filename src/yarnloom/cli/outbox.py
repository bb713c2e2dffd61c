"""The command that delivers what transactions left in an outbox."""

from __future__ import annotations

import argparse
import importlib
import signal
import sys
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any

from yarnloom.cli import output
from yarnloom.cli.options import Add, Parser, duration
from yarnloom.cli.output import out, say
from yarnloom.client import Client
from yarnloom.errors import InvalidInput
from yarnloom.outbox import Outbox, Relay, sqlite_file
from yarnloom.outbox_connections import OutboxConnection

Connect = Callable[[], OutboxConnection]
LISTED = 50
AGAIN = (0.25, 1.0)


def relay(client: Client, options: argparse.Namespace) -> int:
    """Deliver until told to end; or once; or say what is there."""
    outbox = Outbox(options.table)
    path, connect = _database(options)
    if options.list:
        return _list(outbox, connect, options.json)
    if options.retry:
        connection = connect()
        outbox.retry(connection)
        connection.commit()
    # Once ends with all that can be delivered now; else it goes on until a signal comes.
    deliverer = Relay(outbox, connect, client)
    if options.once:
        return _deliver_once(deliverer)
    say(f"delivers from {path or options.connect} to {client.target.url}; Ctrl-C ends it")
    news = OutboxNews(path)

    def end(*_: object) -> None:
        news.ended = True
        news.event.set()

    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, end)
    if options.end_with_stdin:
        threading.Thread(target=_read_to_end, args=(end,), daemon=True).start()
    deliverer.run(news.wait, say, options.every)
    return 0


def _deliver_once(deliverer: Relay) -> int:
    """Deliver what can be delivered now; 3 if that was broken off, 1 if something was refused."""
    refused = 0
    while True:
        looked = deliverer.deliver()
        refused += len(looked.refused)
        for refusal in looked.refused:
            say(f"refused: {refusal}")
        if looked.broken or not looked.more:
            break
    if looked.broken or looked.later:
        say(f"not all is delivered: {looked.broken or looked.later}")
    return 3 if looked.broken else 1 if refused else 0


def _read_to_end(then: Callable[[], None]) -> None:
    """Wait until the program that started this one is gone, and with it the standard input."""
    sys.stdin.read()
    then()


class OutboxNews:
    """Tells when a SQLite file, or its log, was written; of other databases nothing is heard.

    Attributes:
        event: set where there is something to look at.
        ended: whether the relay is to end.
    """

    def __init__(self, path: Path | None) -> None:
        self.event = threading.Event()
        self.ended = False
        self._soon: list[float] = []
        if path is not None:
            # What is written while the watch begins is not told.
            self._soon = list(AGAIN)
            threading.Thread(target=self._watch, args=(path,), daemon=True).start()

    def wait(self, seconds: float) -> bool:
        """Wait for news, at most so long; whether to go on."""
        if self._soon:
            seconds = min(seconds, self._soon.pop(0))
        if self.event.wait(seconds):
            # The watch can miss what is written right after something else, so look again.
            self._soon = list(AGAIN)
        self.event.clear()
        return not self.ended

    def _watch(self, path: Path) -> None:
        from watchfiles import watch

        def is_of_it(_: object, changed: str) -> bool:
            return Path(changed).name in (path.name, f"{path.name}-wal", f"{path.name}-journal")

        for _ in watch(
            path.parent,
            watch_filter=is_of_it,
            debounce=50,
            step=5,
            rust_timeout=60_000,
            recursive=False,
            raise_interrupt=False,
        ):
            self.event.set()


def _database(options: argparse.Namespace) -> tuple[Path | None, Connect]:
    """How to reach the caller's database.

    Raises:
        InvalidInput: neither a file nor a function, or it cannot be had.
    """
    if bool(options.database) == bool(options.connect):
        raise InvalidInput("give a SQLite file, or --connect MODULE:FUNCTION for another database")
    if options.database:
        path = Path(options.database).absolute()
        if not path.exists():
            raise InvalidInput(f"there is no database {path}")
        return path, lambda: sqlite_file(path)
    module, colon, name = options.connect.partition(":")
    if not colon:
        raise InvalidInput(f"found --connect {options.connect!r}; expected MODULE:FUNCTION")
    sys.path.insert(0, str(Path.cwd()))
    try:
        connect: Any = getattr(importlib.import_module(module), name)
    except (ImportError, AttributeError) as error:
        raise InvalidInput(f"--connect {options.connect}: {error}") from error
    return None, connect


def _list(outbox: Outbox, connect: Connect, as_json: bool) -> int:
    connection = connect()
    try:
        waiting = outbox.waiting(connection, LISTED)
        refused = outbox.refused(connection, LISTED)
    except Exception as error:
        raise InvalidInput(
            f"the table {outbox.table_name} cannot be read: {error}. Make it with the statement in "
            "`Outbox().schema`"
        ) from error
    if as_json:
        output.print_json(
            {
                "waiting": [{"key": key, "start": body} for key, body in waiting],
                "refused": [{"key": key, "why": why} for key, why in refused],
            }
        )
        return 0
    if not waiting and not refused:
        say("the outbox is empty: everything is delivered")
        return 0
    rows = output.table("start key", "workflow", "")
    for key, body in waiting:
        rows.add_row(key, body.get("target"), "waits for the relay")
    for key, why in refused:
        rows.add_row(key, "", f"refused: {why}")
    out.print(rows)
    return 0


# What can be typed


def add_parsers(add: Add, service: Parser, reading: Parser) -> None:
    """Add what can be typed."""
    relay_parser = add("relay", service, reading)
    relay_parser.add_argument(
        "database", nargs="?", default="", metavar="FILE", help="a SQLite file"
    )
    relay_parser.add_argument(
        "--connect", default="", metavar="MODULE:FUNCTION", help="makes a DB-API connection"
    )
    relay_parser.add_argument("--table", default="yarnloom_outbox", help="default yarnloom_outbox")
    relay_parser.add_argument(
        "--every",
        type=duration,
        default=1.0,
        metavar="TIME",
        help="look at least so often; a SQLite file is watched besides (default 1s)",
    )
    once = relay_parser.add_mutually_exclusive_group()
    once.add_argument("--once", action="store_true", help="deliver what is there, and end")
    once.add_argument("--list", action="store_true", help="only say what waits, or was refused")
    relay_parser.add_argument(
        "--retry", action="store_true", help="first forget that some were refused"
    )
    relay_parser.add_argument("--end-with-stdin", action="store_true", help=argparse.SUPPRESS)
    relay_parser.set_defaults(talk=relay)
