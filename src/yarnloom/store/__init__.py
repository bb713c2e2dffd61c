"""The store: SQLite, and every line of SQL in the project."""

from yarnloom.store.audit import audit
from yarnloom.store.database import (
    SCHEMA_VERSION,
    Connection,
    Database,
    create_tables,
    open_reader,
    verify,
)
from yarnloom.store.files.file_folder import FileFolder, Kept
from yarnloom.store.files.file_permissions import make_private, private
from yarnloom.store.integrity import Verdict
from yarnloom.store.logs.log_file import LogFile
from yarnloom.store.logs.log_records import AttemptKey, Printed, Printer
from yarnloom.store.restored_copies import Past
from yarnloom.store.rows import AttemptRow, PartRow, RunRow, StepRow
from yarnloom.store.select import Record, Row
from yarnloom.store.unit_of_work import StoreFailed, Unit

__all__ = [
    "SCHEMA_VERSION",
    "AttemptKey",
    "AttemptRow",
    "Connection",
    "Database",
    "FileFolder",
    "Kept",
    "LogFile",
    "PartRow",
    "Past",
    "Printed",
    "Printer",
    "Record",
    "Row",
    "RunRow",
    "StepRow",
    "StoreFailed",
    "Unit",
    "Verdict",
    "audit",
    "create_tables",
    "make_private",
    "open_reader",
    "private",
    "verify",
]
