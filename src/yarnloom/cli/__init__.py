"""The command `yarnloom`."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Sequence

from yarnloom import errors
from yarnloom.cli import text_streams
from yarnloom.cli.parser import build_parser
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
    parser = build_parser()
    _complete(parser)
    options = parser.parse_args(argv)
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
        sys.stderr.close()  # the reader of a pipe went away; nothing is wrong
        return 0


def entry() -> None:
    """The program's entry point."""
    sys.exit(main())


def _complete(parser: argparse.ArgumentParser) -> None:
    if "_ARGCOMPLETE" in os.environ:  # a shell asks; else it takes a tenth of `--help`
        import argcomplete

        argcomplete.autocomplete(parser)


def _run(options: argparse.Namespace) -> int:
    if options.command in ("serve", "demo"):
        from yarnloom.cli import serve

        return serve.serve(options) if options.command == "serve" else serve.demo(options)
    if options.command == "verify":
        from yarnloom.cli import verify

        return verify.verify_folder(options)
    if options.command == "check":
        from yarnloom.cli import start

        return start.check(options.loom, options.json)
    if options.command == "worker" and options.words[:1] in (["stop"], ["status"]):
        from yarnloom.cli import serve

        return serve.background(options)
    from yarnloom.client import Target

    target = Target.find(options.url, options.token, "from --url")
    if options.command == "worker" and not options.words:
        from yarnloom.cli import serve

        return serve.worker(options, target)
    from yarnloom.cli.dispatch import talk

    return talk(options, target)
