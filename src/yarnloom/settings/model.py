"""The settings: their types, and where each value comes from."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, ValidationError, ValidationInfo, field_validator
from pydantic_settings import (
    BaseSettings,
    InitSettingsSource,
    NoDecode,
    PydanticBaseSettingsSource,
    SettingsConfigDict,
)

from yarnloom.data_folder import own_data_folder
from yarnloom.errors import InvalidInput, nearest
from yarnloom.settings.project import FILE, NEED_TRUST, PATHS, Project, find_project
from yarnloom.units import seconds
from yarnloom.values import JsonObject

PREFIX = "YARNLOOM_"
NOT_SETTINGS = {"TOKEN", "SECRET_KEY"}
"""Variables that are secrets: they are no settings, and are never shown."""

OWN_PREFIXES = ("BENCH", "DEMO", "TRACE", "THOROUGH", "TEST")
"""Of variables by which our own programs tell each other something."""


def _several(value: object) -> object:
    """A list, of which a variable holds its members with commas between."""
    if isinstance(value, str):
        return [word.strip() for word in value.split(",") if word.strip()]
    return value


def _span(value: object) -> object:
    return seconds(value) if isinstance(value, str) else value


Given = Mapping[str, Any]
Several = Annotated[tuple[str, ...], NoDecode, BeforeValidator(_several)]
Span = Annotated[float, BeforeValidator(_span)]


class Settings(BaseSettings):
    """All settings. Times are numbers of seconds, or text as `30s` and `2h`."""

    model_config = SettingsConfigDict(
        env_prefix=PREFIX, extra="forbid", frozen=True, env_ignore_empty=True
    )

    data: Path = Field(
        default_factory=own_data_folder,
        description="The folder in which a service keeps everything. Of a project `.yarnloom` "
        f"beside its {FILE}.",
    )
    host: str = Field("127.0.0.1", description="The address at which a service listens.")
    port: int = Field(
        8471,
        ge=0,
        le=65_535,
        description="Its port; 0 is any free one. Of a project too, if it "
        "is not set and another program has it.",
    )
    names: Several = Field((), description="Host names by which the service is reached, too.")
    public_url: str = Field(
        "", description="The address by which people reach it, if it is another: for links."
    )
    load: Several = Field((), description="The looms to publish and work for, as `module:loom`.")
    workers: int = Field(1, ge=1, description="Workers that `serve` starts.")
    processes: int | None = Field(
        None, ge=1, description="Processes of each worker; without it the cores are shared."
    )
    reload: bool = Field(False, description="Publish again, and replace workers, on new code.")
    lease: Span = Field(30.0, gt=0, description="How long a silent worker is thought to live.")
    commit: Literal["auto", "loop", "thread"] = Field(
        "auto", description="Where commits run; `auto` decides by how fast the disk is."
    )
    keep_files: Span = Field(
        86_400.0, ge=0, description="How long a file is kept that no run uses."
    )
    embed: Several = Field(
        (),
        description="Sites that may show the page of a link inside theirs, as "
        "`https://shop.example`.",
    )
    relay: str = Field(
        "",
        description="The outbox that `serve` delivers from beside it: a SQLite file, or "
        "`module:function` that makes a connection.",
    )
    url: str = Field(
        "",
        description="The service that commands and clients talk to, if it is not the one of "
        "the data folder.",
    )
    token_file: Path | None = Field(
        None, description="A file with the token for the service at `url`."
    )
    task_token: Path | None = Field(
        None, description="A file with the token that tasks use, where they talk to the service."
    )

    @field_validator("names", "load", "embed", mode="after")
    @classmethod
    def _each_once(cls, value: tuple[str, ...], _: ValidationInfo) -> tuple[str, ...]:
        return tuple(dict.fromkeys(value))

    @classmethod
    def settings_customise_sources(
        cls,
        settings_cls: type[BaseSettings],
        init_settings: PydanticBaseSettingsSource,
        env_settings: PydanticBaseSettingsSource,
        dotenv_settings: PydanticBaseSettingsSource,
        file_secret_settings: PydanticBaseSettingsSource,
    ) -> tuple[PydanticBaseSettingsSource, ...]:
        """Options first, then variables, then the file of the project."""
        assert isinstance(init_settings, InitSettingsSource)
        given = dict(init_settings.init_kwargs)
        project = given.pop(_FROM_FILE, {})
        return (
            InitSettingsSource(settings_cls, init_kwargs=given),
            env_settings,
            InitSettingsSource(settings_cls, init_kwargs=project),
        )


_FROM_FILE = "from_file"


@dataclass(frozen=True, slots=True)
class FoundSettings:
    """Settings with where they come from.

    Attributes:
        values: the settings.
        origins: by name where the value comes from.
        project: the one whose file counts; None for none.
        warnings: what the user should hear.
    """

    values: Settings
    origins: Mapping[str, str]
    project: Project | None
    warnings: tuple[str, ...] = field(default=())


def find_settings(
    options: Given | None = None, project: Callable[[], Project | None] = find_project
) -> FoundSettings:
    """Find the settings that count here.

    Args:
        options: what was typed, by the name of the setting; None is as if it was not.
        project: finds the project.

    Raises:
        InvalidInput: something is not right; it says where, and what would be.
    """
    typed = {name: value for name, value in (options or {}).items() if value not in (None, (), [])}
    here, warnings = project(), _warnings()
    if os.environ.get(f"{PREFIX}PORT", "").startswith("tcp:"):
        del os.environ[f"{PREFIX}PORT"]
    counted: JsonObject = {}
    if here is not None:
        _refuse_unknown(here)
        counted = _from_its_folder(here)
        if not here.is_trusted:
            left_out = ", ".join(name for name in NEED_TRUST if name in here.given)
            warnings.append(
                f"{here.file} sets {left_out}, which does not count until you say `yarnloom trust`"
            )
    try:
        given: Any = typed | ({_FROM_FILE: counted} if counted else {})
        values = Settings(**given)
    except ValidationError as error:
        raise _as_ours(error, typed, counted, here) from None
    origins = {name: _origin(name, typed, counted, here) for name in Settings.model_fields}
    return FoundSettings(values, origins, here, tuple(warnings))


def _from_its_folder(project: Project) -> JsonObject:
    """What counts of a project's file; its paths begin at the file's folder."""
    counted = {**project.counted, "data": project.data}
    return counted | {name: project.text(name) for name in PATHS if name in project.counted}


def _refuse_unknown(project: Project) -> None:
    for name in project.given:
        if name not in Settings.model_fields:
            raise InvalidInput(
                f"{project.file}: there is no setting {name!r}"
                f"{nearest(name, list(Settings.model_fields))}",
                hint="`yarnloom config` lists them",
            )


def _warnings() -> list[str]:
    """What is odd about the variables; a port that an orchestrator sets is left out."""
    warnings = []
    known = {f"{PREFIX}{name.upper()}": name for name in Settings.model_fields}
    for variable, value in os.environ.items():
        name = variable.removeprefix(PREFIX)
        if not variable.startswith(PREFIX) or name in NOT_SETTINGS or name.startswith(OWN_PREFIXES):
            continue
        if variable == f"{PREFIX}PORT" and value.startswith("tcp:"):
            warnings.append(f"{variable}={value} is left out: an orchestrator set it, not you")
        elif variable not in known:
            warnings.append(
                f"the variable {variable} is no setting{nearest(variable, list(known))}"
            )
    return warnings


def _origin(name: str, typed: Given, counted: Given, project: Project | None) -> str:
    if name in typed:
        return f"--{name.replace('_', '-')}"
    if f"{PREFIX}{name.upper()}" in os.environ:
        return f"{PREFIX}{name.upper()}"
    if name in counted:
        assert project is not None
        return str(project.file) if name in project.given else f"beside {project.file}"
    return "default"


def _as_ours(
    error: ValidationError, typed: Given, counted: Given, project: Project | None
) -> InvalidInput:
    first = error.errors()[0]
    name = str(first["loc"][0]) if first["loc"] else ""
    where = _origin(name, typed, counted, project)
    message = first["msg"].removeprefix("Value error, ")
    return InvalidInput(f"{where}: found {name} = {first.get('input')!r:.100}; {message}")
