"""Sets the clock of the process that has this folder on its PYTHONPATH.

Python imports a module of this name as it starts. The file named by CHAOS_CLOCK has the seconds
that are added to the clock that tells the date; clocks that only count stay as they are.
"""

from __future__ import annotations

import mmap
import os
import time
from pathlib import Path

_date = time.time_ns
with Path(os.environ["CHAOS_CLOCK"]).open("rb") as file:
    _set = mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ)


def _time_ns() -> int:
    return _date() + int(_set[:]) * 1_000_000_000


time.time_ns = _time_ns
time.time = lambda: _time_ns() / 1_000_000_000
