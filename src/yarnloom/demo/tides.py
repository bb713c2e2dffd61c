"""Tides as a sum of harmonic constituents: synthesis, least-squares fit, high and low waters.

Levels are metres above the harbour's datum, times hours since `EPOCH`, speeds degrees an hour,
phases degrees. There are no nodal corrections: the coast is made up, and so is its ocean.
"""

from __future__ import annotations

import os
import zlib
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

# Each process of a worker is to use one core; threads that wait for each other would use more.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
import numpy.typing as npt

EPOCH = datetime(2020, 1, 1, tzinfo=UTC)

# Speeds of the largest constituents of the astronomical tide.
SPEEDS = {
    "M2": 28.9841042,
    "S2": 30.0,
    "N2": 28.4397295,
    "K1": 15.0410686,
    "O1": 13.9430356,
    "M4": 57.9682084,
}

WEEK = 24 * 7

Floats = npt.NDArray[np.float64]
Hours = npt.NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class Tide:
    """One harbour's tide.

    Attributes:
        mean: mean level, metres.
        amplitudes: metres, by constituent.
        phases: degrees from 0 to 360, by constituent.
    """

    mean: float
    amplitudes: dict[str, float]
    phases: dict[str, float]


HARBOURS = {
    "brackwater": Tide(
        3.12,
        {"M2": 1.842, "S2": 0.611, "N2": 0.358, "K1": 0.142, "O1": 0.118, "M4": 0.094},
        {"M2": 121.0, "S2": 164.5, "N2": 98.2, "K1": 15.7, "O1": 342.1, "M4": 210.3},
    ),
    "saltmere": Tide(
        2.47,
        {"M2": 1.236, "S2": 0.402, "N2": 0.241, "K1": 0.187, "O1": 0.151, "M4": 0.112},
        {"M2": 88.4, "S2": 131.9, "N2": 63.0, "K1": 40.2, "O1": 8.8, "M4": 155.6},
    ),
    "gullhaven": Tide(
        1.95,
        {"M2": 0.874, "S2": 0.296, "N2": 0.175, "K1": 0.223, "O1": 0.196, "M4": 0.087},
        {"M2": 203.3, "S2": 251.0, "N2": 180.7, "K1": 71.5, "O1": 35.9, "M4": 301.2},
    ),
    "old-weir": Tide(
        2.81,
        {"M2": 1.511, "S2": 0.488, "N2": 0.302, "K1": 0.131, "O1": 0.109, "M4": 0.203},
        {"M2": 145.2, "S2": 190.1, "N2": 122.9, "K1": 22.4, "O1": 350.6, "M4": 254.8},
    ),
    "tern-sands": Tide(
        3.44,
        {"M2": 2.037, "S2": 0.702, "N2": 0.399, "K1": 0.155, "O1": 0.127, "M4": 0.061},
        {"M2": 110.7, "S2": 153.3, "N2": 87.5, "K1": 12.1, "O1": 338.4, "M4": 188.9},
    ),
}

SILENT = "fogwick"
"""A harbour in the office's list whose gauge has not answered for years, until it is repaired."""

_SILENT_TIDE = Tide(
    2.21,
    {"M2": 1.02, "S2": 0.343, "N2": 0.2, "K1": 0.161, "O1": 0.133, "M4": 0.071},
    {"M2": 154.2, "S2": 197.3, "N2": 131.5, "K1": 52.8, "O1": 19.4, "M4": 248.9},
)

HANDBOOK = Tide(2.6, {"M2": 1.4, "S2": 0.46}, {"M2": 134.0, "S2": 178.0})
"""What an old handbook has for the whole coast."""

HANDBOOK_RESIDUAL = 0.4
"""How far waters are from the handbook, metres."""


def hours_since_epoch(moment: datetime) -> float:
    """Hours from `EPOCH` to a moment."""
    return (moment - EPOCH) / timedelta(hours=1)


def levels(tide: Tide, hours: Floats) -> Floats:
    """The water level at each time."""
    total = np.full_like(hours, tide.mean)
    for name, amplitude in tide.amplitudes.items():
        total += amplitude * np.cos(np.radians(SPEEDS[name] * hours - tide.phases[name]))
    return total


def observe(harbour: str, start: datetime, count: int) -> list[float | None]:
    """What the harbour's gauge would have read, hour by hour: noise, gaps, spikes and a surge.

    The same question always has the same answer.
    """
    hours = hours_since_epoch(start) + np.arange(count, dtype=np.float64)
    rng = np.random.default_rng(zlib.crc32(f"{harbour} {start:%Y-%m}".encode()))
    tide = _SILENT_TIDE if harbour == SILENT else HARBOURS[harbour]
    read = levels(tide, hours) + rng.normal(0.0, 0.03, count)
    if start.month in (1, 11):  # a storm surge, about a day and a half long
        centre = rng.integers(100, count - 100)
        read += 0.9 * np.exp(-(((np.arange(count) - centre) / 15.0) ** 2))
    read[rng.integers(0, count, 2)] += 9.0  # the gauge's own mistakes
    found: list[float | None] = [round(float(value), 3) for value in read]
    gap = int(rng.integers(0, count - 12))
    length = int(rng.integers(3, 12))
    found[gap : gap + length] = [None] * length
    return found


def weeks_drawn(hours: int, draw: int) -> Hours:
    """The indices of as many weeks as there are in so many hours, drawn with replacement.

    Args:
        hours: how many hourly levels there are.
        draw: which draw: the same gives the same weeks.
    """
    weeks = max(1, hours // WEEK)
    chosen = np.random.default_rng(draw).integers(0, weeks, weeks)
    found: Hours = (chosen[:, None] * WEEK + np.arange(WEEK)[None, :]).ravel()
    return found[found < hours]


def without_spikes(read: list[float | None], limit: float = 2.5) -> list[float | None]:
    """Readings with those left out that jump away from both neighbours by over `limit` metres."""
    values = np.array([np.nan if value is None else value for value in read])
    before, after = np.roll(values, 1), np.roll(values, -1)
    with np.errstate(invalid="ignore"):
        spike = (np.abs(values - before) > limit) & (np.abs(values - after) > limit)
    kept = np.where(spike, np.nan, values)
    return [None if np.isnan(value) else float(value) for value in kept]


def fit(hours: Floats, read: Floats, rounds: int = 6) -> tuple[Tide, float]:
    """The tide that fits readings best, by least squares with outliers weighted down.

    Args:
        hours: times of the readings.
        read: the readings; none may be missing.
        rounds: how often the weights are renewed (Huber's, at 1.5 times the typical residual).

    Returns:
        The tide, and the root mean square of the residuals in metres.
    """
    angles = np.radians(np.outer(hours, list(SPEEDS.values())))
    design = np.hstack([np.ones((len(hours), 1)), np.cos(angles), np.sin(angles)])
    weights = np.ones_like(read)
    for _ in range(rounds):
        solution, *_ = np.linalg.lstsq(design * weights[:, None], read * weights, rcond=None)
        residual = read - design @ solution
        typical = 1.4826 * float(np.median(np.abs(residual))) + 1e-9
        weights = np.sqrt(np.minimum(1.0, 1.5 * typical / np.maximum(np.abs(residual), 1e-12)))
    count = len(SPEEDS)
    cosines, sines = solution[1 : 1 + count], solution[1 + count :]
    amplitudes = np.hypot(cosines, sines)
    phases = np.degrees(np.arctan2(sines, cosines)) % 360.0
    tide = Tide(
        float(solution[0]),
        dict(zip(SPEEDS, map(float, amplitudes), strict=True)),
        dict(zip(SPEEDS, map(float, phases), strict=True)),
    )
    return tide, float(np.sqrt(np.mean(residual**2)))


def high_and_low_waters(tide: Tide, year: int) -> list[tuple[datetime, str, float]]:
    """Every high and low water of a year, with time (to the minute) and level, in order."""
    start, end = datetime(year, 1, 1, tzinfo=UTC), datetime(year + 1, 1, 1, tzinfo=UTC)
    step = 0.1
    first = hours_since_epoch(start)
    hours = np.arange(first - step, hours_since_epoch(end) + step, step)
    heights = levels(tide, hours)
    rise = np.sign(np.diff(heights))
    turns = np.nonzero(rise[1:] != rise[:-1])[0] + 1
    found = []
    for turn in turns:
        before, here, after = heights[turn - 1 : turn + 2]
        # The vertex of the parabola through three points.
        shift = 0.5 * (before - after) / (before - 2 * here + after)
        hour = hours[turn] + shift * step
        moment = EPOCH + timedelta(minutes=round(float(hour) * 60))
        if start <= moment < end:
            level = float(levels(tide, np.array([hour]))[0])
            found.append((moment, "high" if rise[turn] < 0 else "low", level))
    return found
