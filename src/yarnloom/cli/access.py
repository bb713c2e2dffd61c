"""Tokens for those who come from elsewhere, and the address that opens the console."""

from __future__ import annotations

import argparse
import sys

from rich.text import Text

from yarnloom.cli import output
from yarnloom.cli.options import Add, Parser, duration, positive
from yarnloom.cli.output import Column, out
from yarnloom.cli.text_streams import say
from yarnloom.client import Client, Request
from yarnloom.client.http_requests import add_token_request, revoke_token_request, sign_in_request
from yarnloom.errors import InvalidInput, nearest
from yarnloom.protocol.fields import ROLES
from yarnloom.values import JsonObject


def _end_of(token: JsonObject) -> str:
    if token["revoked_at"]:
        return f"revoked {output.ago(token['revoked_at'])} by {token['revoked_by']}"
    left = output.until(token["ends_at"])
    return "has ended" if left == "now" else f"ends {left}"


_COLUMNS = (
    Column("token", lambda token: Text(token["name"]), cut=True),
    Column("may", lambda token: ", ".join(token["may"])),
    Column("workflows", lambda token: ", ".join(token["workflows"]) or "all"),
    Column("made", lambda token: f"{output.ago(token['made_at'])} by {token['made_by']}"),
    Column("", _end_of),
)


def tokens(client: Client, options: argparse.Namespace) -> int:
    """List the tokens."""
    answer = client.call(Request("GET", "/tokens"))["tokens"]
    if options.json:
        output.print_json({"tokens": answer})
    elif answer:
        out.print(output.list_table(_COLUMNS, answer))
    else:
        say("there are no tokens; make one with `yarnloom token add NAME --may ROLE`")
    return 0


def token(client: Client, options: argparse.Namespace) -> int:
    """Make a token, or revoke one."""
    if options.action == "revoke":
        answer = client.call(revoke_token_request(options.name, options.reason))
        if options.json:
            output.print_json(answer)
        else:
            out.print(f"token {answer['name']} is revoked: what it held open has ended")
        return 0
    may = [role for given in options.may for role in given.split(",")]
    for role in may:
        if role not in ROLES:
            raise InvalidInput(f"--may {role}: there is no such role{nearest(role, ROLES)}")
    if not may:
        raise InvalidInput(f"say what the token may do, as --may view; there is {', '.join(ROLES)}")
    answer = client.call(add_token_request(options.name, may, options.workflow, options.lasts))
    if options.json:
        output.print_json(answer)
        return 0
    # The token alone goes to standard output, so that it can be put into a file.
    output.write(answer["token"] + "\n")
    where = "" if sys.stdout.isatty() else " It is in your file now: let nobody else read that."
    say(
        f"token {answer['name']} may {', '.join(answer['may'])} and ends "
        f"{output.until(answer['ends_at'])}. It is shown this once.{where} Give it with "
        "--token-file or YARNLOOM_TOKEN_FILE."
    )
    return 0


def open_console(client: Client, options: argparse.Namespace) -> int:
    """Print an address that opens the console once."""
    answer = client.call(sign_in_request(f"/runs/{options.run}" if options.run else "/"))
    if options.json:
        output.print_json(answer)
        return 0
    output.write(answer["address"] + "\n")
    say("it signs one browser in, once, within 15 minutes, as you")
    return 0


# What can be typed


def add_parsers(add: Add, service: Parser, reading: Parser) -> None:
    """Add what can be typed."""
    add("tokens", service, reading).set_defaults(talk=tokens)

    token_parser = add("token", service, reading)
    token_parser.add_argument("action", choices=["add", "revoke"])
    token_parser.add_argument("name", metavar="NAME", help="its owner, for the record")
    token_parser.add_argument(
        "--may",
        action="append",
        default=[],
        metavar="ROLE",
        help=f"of add: what it may do, of {', '.join(ROLES)}; give it again for another",
    )
    token_parser.add_argument(
        "--workflow",
        action="append",
        default=[],
        metavar="PATTERN",
        help="of add: it may operate only these, as 'shop/*'; give it again for others",
    )
    token_parser.add_argument(
        "--for",
        dest="lasts",
        type=duration,
        default=90 * 86_400.0,
        metavar="TIME",
        help="of add: how long it can be used (default 90d)",
    )
    token_parser.add_argument("--reason", default="", help="of revoke: why, for the record")
    token_parser.set_defaults(talk=token)

    open_parser = add("open", service, reading)
    open_parser.add_argument("run", type=positive, nargs="?", metavar="RUN")
    open_parser.set_defaults(talk=open_console)
