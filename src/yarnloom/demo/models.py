"""What the tide almanac's tasks take and give."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import BaseModel, Field

from yarnloom import File


class Harbour(BaseModel):
    """A harbour in the office's list."""

    code: str


class Readings(BaseModel):
    """Hourly levels in metres; a gap is null."""

    start: datetime
    levels: list[float | None]


class Fit(BaseModel):
    """A fitted tide: mean, amplitudes and their uncertainties in metres, phases in degrees."""

    mean: float
    amplitudes: dict[str, float]
    phases: dict[str, float]
    residual: float
    uncertainties: dict[str, float]


class Water(BaseModel):
    """A high or low water."""

    at: datetime
    kind: str
    level: float


class Table(BaseModel):
    """The table that was written."""

    harbour: str
    file: File
    rows: int
    first_lines: list[str]


class Extremes(BaseModel):
    """The highest and the lowest water of a year."""

    highest: Water
    lowest: Water


class Page(BaseModel):
    """What the almanac says of a harbour."""

    table: Table
    plot: File | None
    extremes: Extremes


class Almanac(BaseModel):
    """The almanac that was bound."""

    file: File
    harbours: int
    missing: list[str]


class Site(Almanac):
    """The almanac, and where it can be read."""

    url: str


class Contact(BaseModel):
    """Who gets a letter: a row of the office's list."""

    harbour: str = Field(min_length=1)
    desk: Literal["harbour master", "pilots", "ferry desk", "lifeboat"]
    address: str = Field(pattern=r"^[^@ ]+@[^@ ]+$")
    copies: int = Field(1, ge=1, le=9)
    note: str = ""


class Mailed(BaseModel):
    """How many contacts have a letter, and for how many there was nothing to write."""

    letters: int
    passed_over: int
