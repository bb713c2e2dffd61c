"""The body with which a program holds a service that runs beside it."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from yarnloom.protocol.fields import Strict

Text = Annotated[str, Field(max_length=4_000)]


class HoldBody(Strict):
    """Who holds the service, and which code it brings."""

    load: Annotated[list[Text], Field(max_length=50)] = Field(
        default_factory=list, description="Its looms, as `module:loom`."
    )
    folder: Text = Field("", description="Where they are found.")
    path: Annotated[list[Text], Field(max_length=200)] = Field(
        default_factory=list, description="Further places where modules are found."
    )
    workers: Annotated[int, Field(strict=True, ge=1, le=100)] = 1
    processes: Annotated[int, Field(strict=True, ge=1, le=1_000)] = Field(
        1, description="Of each worker."
    )
    release: Annotated[float, Field(ge=0)] = Field(
        0.0, description="Of the code: newer code is published, and its workers take over."
    )
