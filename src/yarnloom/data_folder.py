"""Where a service keeps everything, unless it is told another folder."""

from __future__ import annotations

import os
from pathlib import Path


def default_data_folder() -> Path:
    """Return the data folder unless another is given: `YARNLOOM_DATA`, or the user's own."""
    if given := os.environ.get("YARNLOOM_DATA"):
        return Path(given)
    from platformdirs import user_data_path

    return user_data_path("yarnloom", appauthor=False)
