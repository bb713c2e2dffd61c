"""Finds out who sends a request, and ends what a caller holds open once it may not any more.

Decision: `docs/decisions/17-who-gets-in.md`.
"""

from __future__ import annotations

import asyncio
import hmac
import logging
import secrets
import time
from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from hashlib import sha256
from http.cookies import CookieError, SimpleCookie
from typing import Any

from starlette.datastructures import Headers

from yarnloom.engine.commands import (
    AddToken,
    BeginSession,
    Command,
    EndSession,
    RevokeToken,
    UseSession,
)
from yarnloom.engine.records.access import SessionRecord, TokenRecord
from yarnloom.engine.use_cases.access import REMEMBERED, token_record
from yarnloom.errors import NotAllowed, TokenNeeded
from yarnloom.secrets import Vault
from yarnloom.service.access.callers import OWN_USER, Caller
from yarnloom.service.access.one_time_codes import OneTimeCodes, digest_of
from yarnloom.store import Database
from yarnloom.store.workers import access_records

OpenTask = asyncio.Task[Any]

log = logging.getLogger("yarnloom.service")

PREFIX = "yarn_"
"""Begins every token, so that one is known when it is found where it should not be."""

SIGN_IN_SECONDS = 15 * 60.0
DOWNLOAD_SECONDS = 30.0
SESSION_SECONDS = 30 * 86_400.0
IDLE_SECONDS = 12 * 3_600.0
NOTED_AFTER = 600.0
"""Seconds after which it is noted again that a session is used."""

LOGGED_EVERY = 60.0
SESSION_HEADER = "yarnloom-session"
WORKER_HEADER = "yarnloom-worker"

HOW = (
    "The service's own user needs none on its machine: run the command there as that user. From "
    "elsewhere, also from a systemd unit of another user, a container or cron, make a token with "
    "`yarnloom token add NAME --may ROLE`, and give it in a file, with --token-file or "
    "YARNLOOM_TOKEN_FILE. For the console `yarnloom open` prints an address"
)


@dataclass(frozen=True, slots=True)
class NewSession:
    """A browser's two secrets, of which only this answer holds any."""

    record: SessionRecord
    caller: Caller
    cookie: str
    header: str


class Gate:
    """Knows the tokens and sessions of a service.

    Args:
        database: where they are kept.
        submit: gives a command to the engine.
        lease: seconds for which a worker with a revoked token may report what it runs.
    """

    def __init__(
        self, database: Database, submit: Callable[[Command], Awaitable[Any]], lease: float
    ) -> None:
        self._submit = submit
        self._lease = lease
        now = round(time.time() * 1_000_000)
        rows = access_records.tokens(database.writer, now - REMEMBERED)
        self._tokens = {row["id"]: token_record(row) for row in rows}
        self._by_digest = {token.digest: token.id for token in self._tokens.values()}
        self._sessions = {
            row["digest"]: SessionRecord(**row)
            for row in access_records.sessions(database.writer, now)
        }
        self._used: dict[str, float] = {}
        self._noted: dict[str, float] = {}
        self._open: dict[int | str, set[OpenTask]] = {}
        self._failures, self._logged_at = 0, -LOGGED_EVERY
        self._worker_key = Vault(database.folder).key_for("workers")
        self._worker_tokens: dict[str, str] = {}
        self._noting: set[asyncio.Task[None]] = set()
        self.cookie_name = f"yarnloom_{database.id[:8]}"
        self.sign_ins: OneTimeCodes[str] = OneTimeCodes(SIGN_IN_SECONDS, time.monotonic)
        self.downloads: OneTimeCodes[tuple[str, Caller]] = OneTimeCodes(
            DOWNLOAD_SECONDS, time.monotonic
        )

    # Who asks

    def caller(self, headers: Headers, *, is_own_user: bool, reports: bool) -> Caller:
        """Return who sends a request.

        Args:
            headers: of the request.
            is_own_user: whether it came over the Unix socket.
            reports: whether it reports what a worker's attempts did: a token that was revoked may
                do so for as long as a lease lasts.

        Raises:
            TokenNeeded: it has neither a token nor a session, or one that ended.
        """
        kind, _, given = headers.get("authorization", "").partition(" ")
        if kind.lower() == "bearer":
            return self._of_token(given.strip(), reports)
        if is_own_user:
            return OWN_USER
        if session := self._session(headers):
            return session
        raise TokenNeeded("this service needs a token or a session.", hint=HOW)

    def _of_token(self, given: str, reports: bool) -> Caller:
        token = self._tokens.get(self._by_digest.get(digest_of(given), -1))
        if token is None:
            raise TokenNeeded("that is no token of this service.", hint=HOW)
        now = time.time() * 1_000_000
        ended_at = token.ends_at if token.revoked_at is None else token.revoked_at
        if ended_at <= now - (self._lease * 1_000_000 if reports else 0):
            was = "has ended" if token.revoked_at is None else "was revoked"
            raise TokenNeeded(f"the token {token.name!r} {was}.", hint=HOW)
        return caller_of(token)

    def _session(self, headers: Headers) -> Caller | None:
        header = headers.get(SESSION_HEADER)
        if not header:
            return None
        try:
            morsel = SimpleCookie(headers.get("cookie", "")).get(self.cookie_name)
        except CookieError:
            return None
        digest = digest_of(f"{morsel.value if morsel else ''} {header}")
        session = self._sessions.get(digest)
        if session is None:
            return None
        now = time.time()
        used = self._used.get(digest, session.used_at / 1_000_000)
        if session.ends_at <= now * 1_000_000 or used <= now - IDLE_SECONDS:
            del self._sessions[digest]
            return None
        caller = self._caller_of_session(session)
        if caller is not None:
            self._note_used(digest, now)
        return caller

    def _caller_of_session(self, session: SessionRecord) -> Caller | None:
        if session.token is None:
            return Caller(session.name, OWN_USER.may, session=session.digest)
        token = self._tokens.get(session.token)
        ended = token is None or token.revoked_at or token.ends_at <= time.time() * 1_000_000
        return None if token is None or ended else caller_of(token, session.digest)

    def _note_used(self, digest: str, now: float) -> None:
        self._used[digest] = now
        if now - self._noted.get(digest, 0.0) > NOTED_AFTER:
            self._noted[digest] = now
            noting = asyncio.ensure_future(self._submit(UseSession(digest)))
            self._noting.add(noting)
            noting.add_done_callback(self._noted_use)

    def _noted_use(self, noting: asyncio.Task[None]) -> None:
        self._noting.discard(noting)
        if not noting.cancelled() and (error := noting.exception()):
            log.warning("that a session is used could not be noted: %s", error)

    def is_let_in(self, caller: Caller) -> bool:
        """Whether a caller from a moment ago is still let in."""
        if caller.session:
            session = self._sessions.get(caller.session)
            return session is not None and self._caller_of_session(session) is not None
        token = self._tokens.get(caller.token or -1)
        is_live = token is not None and token.revoked_at is None
        return caller is OWN_USER or is_live

    def note_failure(self, client: str) -> None:
        """Count a request that was not let in; they are logged once a minute."""
        self._failures += 1
        now = time.monotonic()
        if now - self._logged_at >= LOGGED_EVERY:
            log.warning(
                "%d request(s) had no valid token or session; the last came from %s",
                self._failures,
                client or "an unknown address",
            )
            self._failures, self._logged_at = 0, now

    # Tokens

    def tokens(self) -> list[TokenRecord]:
        """Return the tokens, newest first, those that ended lately too."""
        return sorted(self._tokens.values(), key=lambda token: -token.id)

    async def add_token(
        self, name: str, may: tuple[str, ...], workflows: tuple[str, ...], seconds: float, who: str
    ) -> tuple[TokenRecord, str]:
        """Make a token; its record, and the token, which is shown this once."""
        token = PREFIX + secrets.token_urlsafe(32)
        command = AddToken(name, digest_of(token), may, workflows, seconds, who)
        record: TokenRecord = await self._submit(command)
        self._tokens[record.id] = record
        self._by_digest[record.digest] = record.id
        return record, token

    async def revoke_token(self, name: str, who: str, reason: str) -> TokenRecord:
        """End a token, with its sessions and everything that it holds open."""
        record: TokenRecord = await self._submit(RevokeToken(name, who, reason))
        self._tokens[record.id] = record
        for digest, session in list(self._sessions.items()):
            if session.token == record.id:
                del self._sessions[digest]
        self._cut_off(record.id)
        return record

    # Sessions

    async def sign_in(self, *, code: str = "", token: str = "") -> NewSession:
        """Begin a session with a one-time code or a token.

        Raises:
            TokenNeeded: neither is known.
        """
        if code:
            name = self.sign_ins.take(code)
            if name is None:
                raise TokenNeeded(
                    "this address was used before, or is older than 15 minutes.",
                    hint="`yarnloom open` prints another",
                )
            token_id = None
        else:
            caller = self._of_token(token, reports=False)
            name, token_id = caller.name, caller.token
        cookie, header = secrets.token_urlsafe(32), secrets.token_urlsafe(32)
        command = BeginSession(digest_of(f"{cookie} {header}"), token_id, name, SESSION_SECONDS)
        record: SessionRecord = await self._submit(command)
        self._sessions[record.digest] = record
        asks = self._caller_of_session(record)
        if asks is None:
            raise TokenNeeded("the token has just ended.", hint=HOW)
        return NewSession(record, asks, cookie, header)

    async def sign_out(self, digest: str) -> None:
        """End a session."""
        await self._submit(EndSession(digest))
        self._sessions.pop(digest, None)
        self._cut_off(digest)

    # What is held open

    def note_open(self, caller: Caller, task: OpenTask) -> Callable[[], None]:
        """Remember a request that can take long, to end it with its token.

        Returns:
            What forgets it.
        """
        keys = [key for key in (caller.token, caller.session) if key]
        for key in keys:
            self._open.setdefault(key, set()).add(task)

        def forget() -> None:
            for key in keys:
                tasks = self._open.get(key, set())
                tasks.discard(task)
                if not tasks:
                    self._open.pop(key, None)

        return forget

    def _cut_off(self, key: int | str) -> None:
        for task in self._open.pop(key, set()):
            task.cancel(CUT_OFF)

    # Workers

    def worker_secret(self, worker: str) -> str:
        """Return what only the worker that registered under an id can show."""
        return hmac.new(self._worker_key, worker.encode(), sha256).hexdigest()

    def check_worker(self, caller: Caller, worker: str, shown: str) -> None:
        """Let a caller act for a worker only with the worker's own secret.

        Raises:
            NotAllowed: it has not.
        """
        if not caller.is_admin and not hmac.compare_digest(
            shown.encode(), self.worker_secret(worker).encode()
        ):
            raise NotAllowed(f"worker {worker!r:.110} has a secret of its own, which this is not")

    def note_worker(self, caller: Caller, worker: str) -> None:
        """Remember with which token a worker registered."""
        self._worker_tokens[worker] = caller.name

    def owns_worker(self, caller: Caller, worker: str) -> bool:
        """Whether a worker registered with the same token as a caller has."""
        return caller.is_admin or self._worker_tokens.get(worker) == caller.name


CUT_OFF = "the token was revoked"
"""The message with which requests of a revoked token are cancelled."""


def caller_of(token: TokenRecord, session: str = "") -> Caller:
    """Return who has a token."""
    return Caller(token.name, frozenset(token.may), token.workflows, token.id, session)
