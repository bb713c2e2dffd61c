"""Statements about the ledger of side effects, and about what people decided of steps.

Every function takes the unit of the transaction that it is part of.
"""

from __future__ import annotations

import json
from dataclasses import dataclass

from yarnloom.store.select import Record
from yarnloom.store.unit_of_work import Unit


@dataclass(frozen=True, slots=True)
class EffectEntry:
    """A side effect of a run: as of the table `ledger`."""

    run: int
    scope: str
    what: str
    state: str
    attempt: int
    call: int
    token: str
    value: str | None
    begun_at: int
    done_at: int | None
    by: str | None
    is_used: int = 1
    used_at: int | None = None
    position: str = ""


def find_entry(unit: Unit, run: int, scope: str, what: str) -> EffectEntry | None:
    """The entry of a side effect, or None if it was never begun."""
    unit.flush()
    found = unit.execute(
        "SELECT * FROM ledger WHERE run = ? AND scope = ? AND what = ?", (run, scope, what)
    )
    return EffectEntry(*found[0]) if found else None


def keep_entry(unit: Unit, entry: EffectEntry) -> None:
    """Keep an entry as it is now."""
    unit.flush()  # the attempt that it names must be there
    unit.change(
        "INSERT OR REPLACE INTO ledger VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (
            *(entry.run, entry.scope, entry.what, entry.state, entry.attempt, entry.call),
            *(entry.token, entry.value, entry.begun_at, entry.done_at, entry.by),
            *(entry.is_used, entry.used_at, entry.position),
        ),
    )


def drop_entry(unit: Unit, run: int, scope: str, what: str) -> None:
    """Forget a side effect: it did not happen."""
    unit.change("DELETE FROM ledger WHERE run = ? AND scope = ? AND what = ?", (run, scope, what))


def hand_of(unit: Unit, run: int, address: str) -> Record:
    """What people decided about a step; empty if nothing."""
    found = unit.execute(
        "SELECT facts FROM step_actions WHERE run = ? AND address = ?", (run, address)
    )
    facts: Record = json.loads(found[0][0]) if found else {}
    return facts


def edited_steps(unit: Unit, run: int) -> dict[int, bytes]:
    """Return the done steps of a run whose inputs were edited since, by id with their ranks."""
    rows = unit.execute(
        "SELECT s.id, s.rank FROM step_actions a JOIN steps s ON s.id = a.facts ->> 'edited_step'"
        " WHERE a.run = ? AND s.state = 'done'",
        (run,),
    )
    return dict(rows)


def edited_nodes(unit: Unit, run: int) -> set[int]:
    """The nodes of these steps."""
    rows = unit.execute(
        "SELECT s.node FROM step_actions a JOIN steps s ON s.id = a.facts ->> 'edited_step'"
        " WHERE a.run = ? AND s.state = 'done'",
        (run,),
    )
    return {node for (node,) in rows}


def forget_edited_steps(unit: Unit, run: int) -> None:
    """Forget which done steps were edited: a mend runs them again."""
    unit.change(
        "UPDATE step_actions SET facts = json_remove(facts, '$.edited_step') WHERE run = ?", (run,)
    )


def keep_hand(unit: Unit, run: int, address: str, facts: Record) -> None:
    """Keep what people decided about a step."""
    unit.flush()
    unit.change(
        "INSERT OR REPLACE INTO step_actions VALUES (?, ?, ?)", (run, address, json.dumps(facts))
    )
