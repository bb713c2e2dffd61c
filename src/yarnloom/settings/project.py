"""The project of a folder: the file `yarnloom.toml` there or above, and whether it is trusted.

A file from a cloned repository can name code to load and a service to talk to. Such settings count
only once the user has said `yarnloom trust`.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import stat
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from yarnloom.data_folder import own_data_folder
from yarnloom.errors import InvalidInput
from yarnloom.values import JsonObject

FILE = "yarnloom.toml"
DATA = ".yarnloom"
NEED_TRUST = ("load", "relay", "url", "token_file", "task_token")
"""Settings of a file that count only where the file is trusted."""

PATHS = ("data", "token_file", "task_token")
"""Settings that are paths; in a file they begin at its folder."""

_SHARED = stat.S_IWGRP | stat.S_IWOTH


@dataclass(frozen=True, slots=True)
class Project:
    """A folder with a file of settings.

    Attributes:
        file: the file.
        given: what it says.
    """

    file: Path
    given: JsonObject

    @property
    def data(self) -> Path:
        """The data folder of the project's service."""
        return Path(self.text("data") or self.file.parent / DATA)

    def text(self, name: str) -> str:
        """Return a setting that is text, and counts; "" for none. A path begins at the file.

        Raises:
            InvalidInput: it is something else.
        """
        value = self.counted.get(name, "")
        if not isinstance(value, str):
            raise InvalidInput(f"{self.file}: found {name} = {value!r:.100}; expected text")
        if value and name in PATHS:
            return str(self.file.parent / Path(value).expanduser())
        return value

    @property
    def is_trusted(self) -> bool:
        """Whether the user trusts what it says of code and addresses; also where it says none."""
        return not self._fingerprinted() or self._fingerprint() in _trusted()

    @property
    def counted(self) -> JsonObject:
        """What counts of the settings."""
        if self.is_trusted:
            return dict(self.given)
        return {name: value for name, value in self.given.items() if name not in NEED_TRUST}

    def trust(self) -> JsonObject:
        """Let all that it says count from now on; return what did not before."""
        settings = self._fingerprinted()
        _keep_trusted({*_trusted(), self._fingerprint()})
        return settings

    def distrust(self) -> None:
        """Let what it says of code and addresses count no more."""
        _keep_trusted(_trusted() - {self._fingerprint()})

    def _fingerprinted(self) -> JsonObject:
        return {name: self.given[name] for name in NEED_TRUST if name in self.given}

    def _fingerprint(self) -> str:
        said = json.dumps([str(self.file), self._fingerprinted()], sort_keys=True, default=str)
        return hashlib.sha256(said.encode()).hexdigest()


def find_project(folder: Path | None = None) -> Project | None:
    """Return the project of a folder, of the working folder unless given; None if there is none.

    It is looked for upwards, up to the root of the repository, the user's home, and any folder that
    is another user's or that others can write to.

    Raises:
        InvalidInput: the file is no TOML.
    """
    for place in _places(folder or Path.cwd()):
        path = place / FILE
        try:
            facts = path.lstat()
        except OSError:
            continue
        if not stat.S_ISREG(facts.st_mode) or not _is_own(facts):
            raise InvalidInput(
                f"{path} is another user's, or others can write to it, so it is not read",
                hint=f"Make it yours alone: chown and chmod go-w {path}",
            )
        import tomllib  # most folders have no such file

        try:
            return Project(path, tomllib.loads(path.read_text(encoding="utf-8")))
        except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
            raise InvalidInput(f"{path} is no TOML: {error}") from error
    return None


def data_folder_here() -> Path:
    """Return the data folder that is meant: of `YARNLOOM_DATA`, of the project, or the user's own.

    Raises:
        InvalidInput: the file of the project is not right.
    """
    if given := os.environ.get("YARNLOOM_DATA"):
        return Path(given)
    project = find_project()
    return project.data if project is not None else own_data_folder()


def _places(folder: Path) -> Iterator[Path]:
    home = Path.home()
    for place in (folder, *folder.parents):
        try:
            facts = place.stat()
        except OSError:
            return
        if not _is_own(facts):
            return
        yield place
        if place == home or (place / ".git").exists():
            return


def _is_own(facts: os.stat_result) -> bool:
    return facts.st_uid == os.getuid() and not facts.st_mode & _SHARED


def _trust_file() -> Path:
    from platformdirs import user_state_path

    return user_state_path("yarnloom", appauthor=False) / "trusted.json"


def _trusted() -> set[str]:
    try:
        known = json.loads(_trust_file().read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return set()
    return set(known) if isinstance(known, list) else set()


def _keep_trusted(trusted: set[str]) -> None:
    path = _trust_file()
    path.parent.mkdir(parents=True, exist_ok=True)
    made = path.with_suffix(".new")
    made.write_text(json.dumps(sorted(trusted)), encoding="utf-8")
    made.replace(path)


def prepare_data_folder(data: Path) -> None:
    """Make the data folder of a project, which version control is to leave out."""
    with contextlib.suppress(OSError):
        data.mkdir(mode=0o700, parents=True, exist_ok=True)
        ignored = data / ".gitignore"
        if not ignored.exists():
            ignored.write_text("*\n", encoding="utf-8")
