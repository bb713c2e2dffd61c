"""The store: SQLite, and every line of SQL in the project."""

from yarnloom.store.audit import audit
from yarnloom.store.database import Database, migrate, migrations, open_reader, verify
from yarnloom.store.files import FileFolder, Kept
from yarnloom.store.logs import AttemptKey, LogFile, Printed, Printer
from yarnloom.store.past import Past
from yarnloom.store.privacy import make_private, private
from yarnloom.store.rows import AttemptRow, PartRow, RunRow, StepRow
from yarnloom.store.soundness import Verdict
from yarnloom.store.unit import StoreFailed, Unit

__all__ = [
    "AttemptKey",
    "AttemptRow",
    "Database",
    "FileFolder",
    "Kept",
    "LogFile",
    "PartRow",
    "Past",
    "Printed",
    "Printer",
    "RunRow",
    "StepRow",
    "StoreFailed",
    "Unit",
    "Verdict",
    "audit",
    "make_private",
    "migrate",
    "migrations",
    "open_reader",
    "private",
    "verify",
]
