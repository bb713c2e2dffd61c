"""The command `verify`: look at the records of a data folder, with or without a service on it."""

from __future__ import annotations

import argparse
from pathlib import Path

from yarnloom.cli import output
from yarnloom.cli.options import Add, Parser
from yarnloom.cli.output import out
from yarnloom.settings.project import data_folder_here
from yarnloom.store import verify

DAMAGED = 5


def verify_folder(options: argparse.Namespace) -> int:
    """Say whether anything is wrong in a data folder."""
    folder = Path(options.data) if options.data else data_folder_here()
    verdict = verify(folder)
    if options.json:
        output.print_json(
            {"folder": str(folder), "counts": verdict.counts, "faults": verdict.faults}
        )
        return DAMAGED if verdict.faults else 0
    for fault in verdict.faults:
        output.say(f"{folder}: {fault}")
    if verdict.faults:
        return DAMAGED
    counts = [output.count(number, table[:-1]) for table, number in verdict.counts.items()]
    out.print(f"{folder}: {', '.join(counts)}; nothing is wrong")
    return 0


# What can be typed


def add_parsers(add: Add, service: Parser, reading: Parser) -> None:
    """Add what can be typed."""
    verify_parser = add("verify", reading)
    verify_parser.add_argument("--data", metavar="FOLDER", help="data folder (else YARNLOOM_DATA)")
    verify_parser.set_defaults(run_here=verify_folder)
