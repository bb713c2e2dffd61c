"""The command `yarnloom`."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Sequence

from yarnloom import errors
from yarnloom.cli import text_streams
from yarnloom.cli.commands import COMMANDS, build_parser
from yarnloom.errors import YarnloomError

# The most special class that an error is an instance of decides.
EXIT_CODES: dict[type[YarnloomError], int] = {
    errors.RunEndedBadly: 1,
    errors.CannotStore: 5,
    errors.Refused: 2,
    errors.LoomError: 2,
    errors.ValueRefused: 2,
    errors.NotAllowed: 4,
    errors.ServiceError: 3,
    errors.StartError: 5,
    YarnloomError: 2,
}


def main(argv: Sequence[str] | None = None) -> int:
    """Run the command.

    Args:
        argv: the arguments, without the program's name.

    Returns:
        The exit code: 0 fine, 1 the run failed or was cancelled, 2 bad usage or input, 3 service
        not reachable, 4 not allowed, 5 could not start or store.
    """
    text_streams.prepare_streams()
    words = sys.argv[1:] if argv is None else argv
    completing = "_ARGCOMPLETE" in os.environ
    typed = next((word for word in words if word in COMMANDS), "")
    parser = build_parser(None if completing else typed)
    if completing:  # a shell asks; else it takes a tenth of `--help`
        import argcomplete

        argcomplete.autocomplete(parser)
    options = parser.parse_args(words)
    # Each kind of error has its exit code; anything else is a mistake of ours, and shows itself.
    try:
        return _run(options)
    except YarnloomError as error:
        text_streams.say(f"yarnloom {options.command}: {error}")
        if options.command in ("worker", "serve") and isinstance(error, errors.LoomError):
            return EXIT_CODES[errors.StartError]
        return next(EXIT_CODES[kind] for kind in type(error).__mro__ if kind in EXIT_CODES)
    except KeyboardInterrupt:
        return 130
    except BrokenPipeError:
        text_streams.discard_output()  # the reader of a pipe went away; nothing is wrong
        return 0


def entry() -> None:
    """The program's entry point."""
    sys.exit(main())


def _run(options: argparse.Namespace) -> int:
    if run := getattr(options, "run_here", None):
        code: int = run(options)
        return code
    from yarnloom.client import Client, Target, default_who

    target = Target.find(options.url, None, "from --url", options.token_file)
    with Client(target=target, who=default_who("cli"), wait_for_service=options.wait) as client:
        return int(options.talk(client, options))
