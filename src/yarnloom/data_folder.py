"""Where a service keeps everything, unless it is told another folder."""

from __future__ import annotations

from pathlib import Path


def own_data_folder() -> Path:
    """Return the user's own data folder, where no project or setting names another."""
    from platformdirs import user_data_path

    return user_data_path("yarnloom", appauthor=False)
