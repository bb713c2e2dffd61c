"""Commands about settings: what counts here and why, and trust in the file of a project."""

from __future__ import annotations

import argparse

from rich.text import Text

from yarnloom.cli import output
from yarnloom.cli.options import Add, Parser
from yarnloom.cli.output import Column, out
from yarnloom.cli.text_streams import say
from yarnloom.errors import NotFound
from yarnloom.settings.project import FILE, find_project
from yarnloom.values import JsonObject

_COLUMNS = (
    Column("setting", lambda row: row["name"]),
    Column("value", lambda row: Text(_shown(row["value"])), cut=True),
    Column("from", lambda row: row["from"]),
    Column("", lambda row: Text(str(row["says"]), style="dim")),
)


def config(options: argparse.Namespace) -> int:
    """Show every setting, its value here, and where that comes from."""
    from yarnloom.settings.model import Settings, find_settings

    settings = find_settings()
    values = settings.values.model_dump(mode="json")
    rows: list[JsonObject] = [
        {
            "name": name,
            "value": values[name],
            "from": settings.origins[name],
            "says": field.description,
        }
        for name, field in Settings.model_fields.items()
    ]
    file = str(settings.project.file) if settings.project else None
    if options.json:
        output.print_json({"file": file, "settings": rows, "warnings": list(settings.warnings)})
        return 0
    for warning in settings.warnings:
        say(f"warning: {warning}")
    out.print(output.list_table(_COLUMNS, rows))
    where = f"the file is {file}" if file else f"there is no {FILE} here or above"
    out.print(f"{where}; an option counts more than a variable, and that more than the file")
    return 0


def trust(options: argparse.Namespace) -> int:
    """Let the settings of a project's file count that name code, addresses and tokens.

    Raises:
        NotFound: there is no such file here or above.
    """
    project = find_project()
    if project is None:
        raise NotFound(f"there is no {FILE} here or above")
    if options.revoke:
        project.distrust()
        out.print(f"{project.file} is not trusted any more")
        return 0
    said = project.trust()
    for name, value in said.items():
        out.print(f"{name} = {_shown(value)}")
    what = "counts from now on, until it is changed" if said else "says nothing that needs trust"
    out.print(f"{project.file} {what}")
    return 0


def _shown(value: object) -> str:
    if isinstance(value, list | tuple):
        return ", ".join(str(member) for member in value) or "–"
    return "–" if value in (None, "") else str(value)


# What can be typed


def add_parsers(add: Add, service: Parser, reading: Parser) -> None:
    """Add what can be typed."""
    add("config", reading).set_defaults(run_here=config)

    trust_parser = add("trust")
    trust_parser.add_argument("--revoke", action="store_true", help="trust it no more")
    trust_parser.set_defaults(run_here=trust)
