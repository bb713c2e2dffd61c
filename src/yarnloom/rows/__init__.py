"""Rows of files: reading CSV and JSON Lines, converting by a schema, checking whole. Pure."""

from yarnloom.rows.checking import RowCheck, RowProblem
from yarnloom.rows.reading import Dialect, UnreadableFile, dialect_of

__all__ = ["Dialect", "RowCheck", "RowProblem", "UnreadableFile", "dialect_of"]
