"""Links to runs: made, and revoked. Whoever has a link may watch its run, and nothing else."""

from __future__ import annotations

from typing import Any

from yarnloom.engine.commands import MakeLink, RevokeLink
from yarnloom.engine.turn import Turn
from yarnloom.engine.views import link_view
from yarnloom.errors import Conflict, NotFound
from yarnloom.store import links
from yarnloom.store import writing as store

REMEMBERED = 30 * 86_400 * 1_000_000
"""Microseconds for which an expired link is still listed."""


def make_link(turn: Turn, command: MakeLink) -> dict[str, Any]:
    """Make a link to a run; return it.

    Raises:
        NotFound: there is no such run.
    """
    run = turn.run(command.run)
    links.forget(turn.unit, turn.now - REMEMBERED)
    expires_at = turn.now + round(command.seconds * 1_000_000)
    number = links.add(turn.unit, run.number, command.details, turn.now, command.who, expires_at)
    store.log_command(
        turn.unit,
        turn.now,
        command.who,
        "link",
        run.number,
        "",
        link=number,
        details=command.details,
    )
    row = links.of_run(turn.unit, run.number, number)
    assert row is not None
    return link_view(row)


def revoke_link(turn: Turn, command: RevokeLink) -> dict[str, Any]:
    """End a link before its time; return it. Whoever watches with it is cut off.

    Raises:
        NotFound: the run has no such link.
        Conflict: it was revoked before.
    """
    run = turn.run(command.run)
    row = links.of_run(turn.unit, run.number, command.link)
    if row is None:
        raise NotFound(
            f"run {run.number} has no link {command.link}; `yarnloom links {run.number}` lists them"
        )
    if row["revoked_at"] is not None:
        raise Conflict(f"link {command.link} was revoked before, by {row['revoked_by']}")
    links.revoke(turn.unit, command.link, turn.now, command.who)
    store.log_command(
        turn.unit,
        turn.now,
        command.who,
        "revoke_link",
        run.number,
        command.reason,
        link=command.link,
    )
    turn.changed.add(run.number)  # so that whoever watches with it is told
    return link_view({**row, "revoked_at": turn.now, "revoked_by": command.who})
