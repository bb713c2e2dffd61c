"""What answers hold about tokens and sessions."""

from __future__ import annotations

from pydantic import Field

from yarnloom.protocol.answer_fields import Answer, Moment
from yarnloom.protocol.fields import Role


class TokenAnswer(Answer):
    """A token, without the token itself."""

    name: str = Field(description="Its owner.")
    may: list[Role] = Field(description="Its roles.")
    workflows: list[str] = Field(description="Patterns of what it may operate; empty for all.")
    made_at: Moment
    made_by: str
    ends_at: Moment = Field(description="When it ends, unless it was revoked before.")
    revoked_at: Moment | None
    revoked_by: str | None


class NewToken(TokenAnswer):
    """A new token: this answer is the only place where it is shown."""

    token: str = Field(description="Keep it in a file that only its owner can read.")


class TokenList(Answer):
    """The tokens, newest first, those that ended within 90 days too."""

    tokens: list[TokenAnswer] = Field(description="Newest first.")


class CallerAnswer(Answer):
    """Who asks, and what that one may do."""

    name: str = Field(description="Of the token; empty for the service's own user.")
    may: list[Role] = Field(description="The roles.")
    workflows: list[str] = Field(description="Patterns of what it may operate; empty for all.")


class SessionAnswer(CallerAnswer):
    """A new session of a browser."""

    session: str = Field(
        description="To be sent in the header `Yarnloom-Session`, beside the cookie."
    )


class SignInCode(Answer):
    """An address that signs a browser in once."""

    address: str = Field(description="Of a page of the console, with a code in its fragment.")
    seconds: float = Field(description="How long it can be used.")


class CodeAnswer(Answer):
    """A code that opens something once."""

    code: str
    seconds: float = Field(description="How long it can be used.")
