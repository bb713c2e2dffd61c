"""Options that many commands share, and the values that can be typed for them."""

from __future__ import annotations

import argparse
import contextlib
from collections.abc import Callable, Iterable, Mapping
from datetime import UTC, datetime, timedelta
from types import MappingProxyType
from typing import Any, NamedTuple, NoReturn

from yarnloom.run_filters import RUN_FILTERS
from yarnloom.units import seconds, size
from yarnloom.values import JsonObject


class Parser(argparse.ArgumentParser):
    """A parser that offers the nearest name for a misspelled command."""

    def error(self, message: str) -> NoReturn:
        """Say what is wrong and where help is; exit code 2."""
        if "invalid choice:" in message:
            import difflib  # for mistakes only

            given = message.split("invalid choice: ")[1].split(" ", 1)[0].strip("'")
            option = message.partition(":")[0].removeprefix("argument ")
            name = option if option.startswith("-") else ""
            choices = next(
                (
                    list(action.choices)
                    for action in self._actions
                    if action.choices and "/".join(action.option_strings) == name
                ),
                [],
            )
            close = difflib.get_close_matches(given, choices, n=1)
            hint = f"did you mean {close[0]!r}?" if close else f"there is: {', '.join(choices)}"
            what = f"{option}: no" if option.startswith("-") else "no command"
            message = f"{what} {given!r}; {hint}"
        self.exit(2, f"{self.prog}: {message}\n`{self.prog} --help` shows what is possible.\n")


class RefusedToken(argparse.Action):
    """Refuses a token on a command line, where every user of the machine can read it."""

    def __call__(self, parser: argparse.ArgumentParser, *_: object) -> None:
        """Say how a token is given."""
        parser.error(
            "a token in an option could be read by every user of this machine; give it in a file, "
            "with --token-file or YARNLOOM_TOKEN_FILE"
        )


class BodyOption(NamedTuple):
    """An option of a command that is a field of a request's body.

    Attributes:
        name: the option, with `_` for `-`.
        help: what the help of the command says of it.
        field: its name in the body, where that is another.
        more: what else argparse is to know.
    """

    name: str
    help: str
    field: str = ""
    more: Mapping[str, Any] = MappingProxyType({})


def add_body_options(parser: Parser, options: Iterable[BodyOption]) -> None:
    """Add options that are fields of a body."""
    for option in options:
        name = option.name.replace("_", "-")
        # An option that is not typed is not there, so that null can be typed.
        parser.add_argument(f"--{name}", default=argparse.SUPPRESS, help=option.help, **option.more)


def body_of(options: Iterable[BodyOption], typed: argparse.Namespace) -> JsonObject:
    """Return the fields of a body for the options that were typed."""
    given = vars(typed)
    return {
        option.field or option.name: given[option.name]
        for option in options
        if option.name in given
    }


Add = Callable[..., Parser]
"""Adds a command by name, with the options that it shares with others."""


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


DECIMAL_NAMES = {"point": ".", "comma": ","}
DELIMITERS = {"comma": ",", "semicolon": ";", "tab": "\t", "bar": "|"}


def delimiter(text: str) -> str:
    """What stands between the cells of a CSV file, by name or as it is."""
    mark = DELIMITERS.get(text, text)
    if mark not in DELIMITERS.values():
        raise argparse.ArgumentTypeError(f"found {text!r}; expected {', '.join(DELIMITERS)}")
    return mark


def decimal(text: str) -> str:
    """The decimal mark of a CSV file, by name or as it is."""
    mark = DECIMAL_NAMES.get(text, text)
    if mark not in DECIMAL_NAMES.values():
        raise argparse.ArgumentTypeError(f"found {text!r}; expected {' or '.join(DECIMAL_NAMES)}")
    return mark


def hand_options(parser: argparse.ArgumentParser, verb: str) -> None:
    """What is done by hand with something that looms declare."""
    flow = parser.add_mutually_exclusive_group()
    what = f"{verb} nothing more"
    flow.add_argument("--pause", dest="flow", action="store_const", const="pause", help=what)
    what = "go on after a pause"
    flow.add_argument("--resume", dest="flow", action="store_const", const="resume", help=what)
    parser.add_argument(
        "--as-declared", action="store_true", help="first forget what was set by hand before"
    )


def choosing_options() -> Parser:
    """Return the options of commands that act on one run, or on many."""
    options = Parser(add_help=False)
    options.add_argument("run", type=positive, nargs="?", metavar="RUN")
    options.add_argument("--reason", default="", help="why, for the record")
    filter_options(options.add_argument_group("instead of a number, all runs"), "all")
    options.add_argument("--yes", action="store_true", help="do not ask how many they are")
    return options


def filter_options(parser: argparse._ActionsContainer, which: str) -> None:
    """Which runs a list shows, or a command is for."""
    add = parser.add_argument
    add("--state", action="append", default=[], help=f"{which} runs in this state")
    for field in RUN_FILTERS:
        text = f"{which} runs {field.says}"
        if field.kind == "flag":
            add(field.option, action="store_true", help=text)
        else:
            kind: Callable[[str], Any] = str
            if field.kind in ("time", "number"):
                kind = past_time if field.kind == "time" else int
            add(field.option, type=kind, metavar=field.metavar, help=text)
    add("--saved", metavar="NAME", help="as this saved filter says; other options count more")


def service_options() -> Parser:
    """Return the options of commands that talk to a service."""
    options = Parser(add_help=False)
    options.add_argument("--url", help="the service's address (else YARNLOOM_URL)")
    options.add_argument(
        "--token-file",
        metavar="FILE",
        help="a file with a token (else YARNLOOM_TOKEN_FILE); needed only from elsewhere",
    )
    options.add_argument("--token", action=RefusedToken, help=argparse.SUPPRESS)
    return options


def reading_options() -> Parser:
    """Return the options of commands that print something."""
    options = Parser(add_help=False)
    options.add_argument("--json", action="store_true", help="print JSON, for programs")
    return options


def notice_options(parser: argparse.ArgumentParser, noun: str) -> None:
    """Add the options of commands that stay and say what happens."""
    parser.add_argument("--quiet", action="store_true", help=f"say nothing of {noun}")
    parser.add_argument(
        "--show-prints", action="store_true", help="also show what tasks print, as it comes"
    )


def listen_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of commands that run a service."""
    parser.add_argument("--host", help="address to listen at (default 127.0.0.1)")
    parser.add_argument("--port", type=int, help="port (default 8471; 0 is any)")
    parser.add_argument("--data", metavar="FOLDER", help="data folder (else YARNLOOM_DATA)")
    parser.add_argument(
        "--public-url", metavar="URL", help="the address by which people reach it, for links"
    )
    parser.add_argument("--token", action=RefusedToken, help=argparse.SUPPRESS)
    parser.add_argument(
        "--name",
        dest="names",
        action="append",
        default=[],
        metavar="HOST",
        help="a host name by which the service is reached",
    )
