"""Bodies of requests about tokens and sessions."""

from __future__ import annotations

import re
from typing import Annotated

from pydantic import AfterValidator, Field, model_validator

from yarnloom.protocol.fields import Role, Strict

TOKEN_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._@-]{0,59}")
LONGEST_SECONDS = 10 * 366 * 86_400
Pattern = Annotated[str, Field(min_length=1, max_length=200)]


def _is_token_name(value: str) -> str:
    if not TOKEN_NAME.fullmatch(value):
        raise ValueError("expected up to 60 letters, digits and '.', '_', '@', '-', without blanks")
    return value


class AddTokenBody(Strict):
    """A token for somebody, or for a program."""

    name: Annotated[str, AfterValidator(_is_token_name)] = Field(
        description="Its owner: the record names it for everything that is done with it."
    )
    may: Annotated[list[Role], Field(min_length=1, max_length=5)] = Field(
        description="`view` reads all; `operate` reads, starts, pauses, cancels and decides; "
        "`publish` publishes workflows; `work` is for workers; `admin` may do everything."
    )
    workflows: Annotated[list[Pattern], Field(max_length=50)] = Field(
        default_factory=list,
        description="Patterns of the full names that it may operate, as `shop/*`; all if empty.",
    )
    seconds: Annotated[float, Field(strict=True, ge=1, le=LONGEST_SECONDS)] = Field(
        90 * 86_400.0, description="How long it can be used."
    )

    @model_validator(mode="after")
    def _patterns_need_operate(self) -> AddTokenBody:
        if self.workflows and "operate" not in self.may:
            raise ValueError("patterns of workflows are for tokens that may `operate`")
        return self


class SignInBody(Strict):
    """What a browser signs in with: the code of a one-time address, or a token."""

    code: Annotated[str, Field(max_length=200)] = Field("", description="Of a one-time address.")
    token: Annotated[str, Field(max_length=1_000)] = Field("", description="A token.")


class SignInCodeBody(Strict):
    """Which page an address that signs in opens."""

    path: Annotated[str, Field(max_length=1_000, pattern=r"^/[^#]*$")] = Field(
        "/", description="Of the console."
    )


class DownloadBody(Strict):
    """What is to be downloaded."""

    path: Annotated[str, Field(max_length=4_000, pattern=r"^/api/v1/")] = Field(
        description="The path of a GET, with its query."
    )
