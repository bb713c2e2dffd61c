"""Records of what people did about runs: links, commands, the ledger."""

from __future__ import annotations

import json

from yarnloom.engine.queries.part_records import loads
from yarnloom.engine.records.runs import CommandRecord, EffectRecord, LinkRecord, RunCommandRecord
from yarnloom.secrets import mask
from yarnloom.store import Row


def link_record(row: Row) -> LinkRecord:
    """Return a link, without what it takes to use it."""
    names = ("id", "run", "made_at", "made_by", "expires_at", "revoked_at", "revoked_by")
    return LinkRecord(details=bool(row["details"]), **{name: row[name] for name in names})


def command_record(row: Row) -> CommandRecord:
    """Return one entry of the command log of a run."""
    detail = mask(json.loads(row["detail"]))
    return CommandRecord(row["at"], row["who"], row["what"], row["reason"], detail)


def run_command_record(row: Row) -> RunCommandRecord:
    """Return one entry of the command log of all runs."""
    detail = mask(json.loads(row["detail"]))
    return RunCommandRecord(row["at"], row["who"], row["what"], row["reason"], detail, row["run"])


def effect_record(row: Row) -> EffectRecord:
    """Return one entry of the ledger."""
    unsure = row["state"] == "begun" and row["outcome"] is not None
    return EffectRecord(
        what=row["what"],
        address=row["scope"],
        state="unsure" if unsure else row["state"].replace("_", " "),
        attempt=row["number"],
        token=row["token"],
        value=mask(loads(row["value"])),
        begun_at=row["begun_at"],
        done_at=row["done_at"],
        by=row["by"],
        is_used=bool(row["is_used"]),
        used_at=row["used_at"],
    )
