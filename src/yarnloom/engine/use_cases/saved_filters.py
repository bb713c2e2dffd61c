"""Saved filters of the list of runs: kept, replaced and dropped by name."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.commands import DropFilter, SaveFilter, handles
from yarnloom.engine.records.settings import FilterRecord
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.errors import Conflict, NotFound, nearest
from yarnloom.store import Row, Unit
from yarnloom.store.runs import link_records
from yarnloom.store.runs import run_records as store
from yarnloom.values import decode, encode

MOST = 200
"""How many filters are kept."""


@dataclass(slots=True)
class SavedFilters:
    """Saves filters of runs."""

    unit: Unit
    time: RunTime

    @handles(SaveFilter)
    def save_filter(self, command: SaveFilter) -> FilterRecord:
        """Keep a filter, in place of one of the same name; return it.

        Raises:
            Conflict: as many as may be are kept.
        """
        kept = link_records.names(self.unit)
        if command.name not in kept and len(kept) >= MOST:
            raise Conflict(f"{MOST} filters are kept, as many as may be; drop one that nobody uses")
        wanted = encode(command.wanted)
        link_records.save(self.unit, command.name, wanted, self.time.now, command.who)
        detail = {"filter": command.name, "wanted": command.wanted}
        store.log_command(self.unit, self.time.now, command.who, "save_filter", None, "", **detail)
        return filter_record(
            {
                "name": command.name,
                "wanted": wanted,
                "saved_at": self.time.now,
                "saved_by": command.who,
            }
        )

    @handles(DropFilter)
    def drop_filter(self, command: DropFilter) -> None:
        """Forget a filter.

        Raises:
            NotFound: there is none of that name.
        """
        kept = link_records.names(self.unit)
        if command.name not in kept:
            raise unknown(command.name, kept)
        link_records.drop(self.unit, command.name)
        store.log_command(
            *(self.unit, self.time.now, command.who, "drop_filter", None, command.reason),
            filter=command.name,
        )


def unknown(name: str, kept: list[str]) -> NotFound:
    """The error where no filter has a name."""
    return NotFound(f"no filter is saved as {name!r}{nearest(name, kept)}")


def filter_record(row: Row) -> FilterRecord:
    """Return a saved filter."""
    return FilterRecord(row["name"], decode(row["wanted"]), row["saved_at"], row["saved_by"])
