"""How a file of rows is read, in the params of a run, beside the file."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Literal, get_args

from yarnloom.errors import Problem

Encoding = Literal["utf-8", "cp1252", "latin-1", "utf-16"]
BadRowsText = Literal["refuse", "collect"]
ENCODINGS: tuple[Encoding, ...] = get_args(Encoding)
DELIMITERS = (",", ";", "\t", "|")
DECIMALS = (".", ",")
THOUSANDS = ("", ".", ",", " ", "'", "\xa0", "\u202f")
OPTIONS = ("delimiter", "encoding", "decimal", "thousands", "bad", "at_most_bad")
_PERCENT = re.compile(r"(\d{1,3}(?:\.\d{1,2})?)%\Z")


@dataclass(frozen=True, slots=True)
class BadLimit:
    """How many rows of a file may be bad: a count, or percent of all."""

    most: float
    percent: bool = False

    def allows(self, bad: int, total: int) -> bool:
        """Whether so many of so many may be bad."""
        if self.percent:
            # In hundredths of a percent, since floats make 29% of 100 a little less than 29.
            return bad * 10_000 <= round(self.most * 100) * total
        return bad <= self.most


def bad_limit(value: str | int) -> BadLimit:
    """Read a count, or a share as "5%".

    Raises:
        ValueError: it is neither.
    """
    if type(value) is int and value >= 0:
        return BadLimit(value)
    match = _PERCENT.match(value) if isinstance(value, str) else None
    if match and float(match[1]) <= 100:
        return BadLimit(float(match[1]), percent=True)
    if isinstance(value, str) and value.isdecimal():
        return BadLimit(int(value))
    raise ValueError(f'found {value!r:.60}; expected a count, or a share as "5%"')


def option_problems(source: Mapping[str, Any]) -> list[Problem]:
    """Find options that contradict each other; single values are the schema's business."""
    problems = []
    decimal, thousands = source.get("decimal", "."), source.get("thousands", "")
    if decimal == thousands:
        text = f"found {thousands!r} for the decimal mark, too; expected different marks"
        problems.append(Problem("/thousands", text))
    if source.get("at_most_bad") is not None:
        try:
            bad_limit(source["at_most_bad"])
        except ValueError as error:
            problems.append(Problem("/at_most_bad", str(error)))
        if source.get("bad") != "collect":
            text = 'it limits the rows that are set aside; give bad="collect" too'
            problems.append(Problem("/at_most_bad", text))
    return problems
