"""Rows of files: reading CSV and JSON Lines, converting by a schema, checking whole. Pure."""

from yarnloom.tabular.check_file import RowCheck, RowProblem
from yarnloom.tabular.read_rows import Dialect, UnreadableFile, dialect_of

__all__ = ["Dialect", "RowCheck", "RowProblem", "UnreadableFile", "dialect_of"]
