"""Links with which a run may be watched."""

from __future__ import annotations

import argparse

from yarnloom.cli import output
from yarnloom.cli.options import Add, Parser, positive
from yarnloom.cli.output import out
from yarnloom.client import Client
from yarnloom.client.http_requests import link_request, links_request, revoke_link_request
from yarnloom.errors import InvalidInput
from yarnloom.units import duration_text, seconds
from yarnloom.values import JsonObject


def link(client: Client, options: argparse.Namespace) -> int:
    """Make a link with which a run may be watched."""
    try:
        lasts = seconds(options.lasts)
    except ValueError as error:
        raise InvalidInput(f"--for: {error}") from error
    found = client.call(link_request(options.run, lasts, options.details))
    if options.json:
        output.print_json(found)
        return 0
    output.write(found["address"] + "\n")
    output.say(f"it shows run {options.run}, and nothing else, for {duration_text(lasts)}")
    return 0


def links(client: Client, options: argparse.Namespace) -> int:
    """List the links to a run, or revoke one."""
    if options.revoke:
        found = client.call(revoke_link_request(options.run, options.revoke, options.reason))
        if options.json:
            output.print_json(found)
        else:
            out.print(f"link {found['id']} to run {found['run']} is revoked")
        return 0
    listed = client.call(links_request(options.run))["links"]
    if options.json:
        output.print_json({"links": listed})
        return 0
    rows = output.table("link", "made", "by", "shows", "", numbers=("link",))
    for one in listed:
        shows = "details" if one["details"] else "state"
        rows.add_row(
            str(one["id"]), output.ago(one["made_at"]), one["made_by"], shows, _standing_of(one)
        )
    out.print(rows)
    return 0


def _standing_of(link: JsonObject) -> str:
    if link["revoked_at"]:
        return f"revoked {output.ago(link['revoked_at'])} by {link['revoked_by']}"
    left = output.until(link["expires_at"])
    return "expired" if left == "now" else f"expires {left}"


# What can be typed


def add_parsers(add: Add, service: Parser, reading: Parser) -> None:
    """Add what can be typed."""
    link_parser = add("link", service, reading)
    link_parser.add_argument("run", type=positive, metavar="RUN")
    link_parser.add_argument(
        "--for", dest="lasts", default="1h", metavar="TIME", help="how long (default 1h)"
    )
    link_parser.add_argument(
        "--details",
        action="store_true",
        help="it also shows output and errors as they are, and what steps are called",
    )
    link_parser.set_defaults(talk=link)

    links_parser = add("links", service, reading)
    links_parser.add_argument("run", type=positive, metavar="RUN")
    links_parser.add_argument("--revoke", type=positive, metavar="LINK", help="end this one now")
    links_parser.add_argument("--reason", default="", help="of revoke: why, for the record")
    links_parser.set_defaults(talk=links)
