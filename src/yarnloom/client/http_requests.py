"""What the sync and the async client share: addresses, calls, and reading answers. No I/O."""

from __future__ import annotations

import getpass
import json
import os
import socket
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import TYPE_CHECKING, Any
from urllib.parse import quote, urlencode

from pydantic_core import to_json

from yarnloom import errors
from yarnloom.client.runs_filter import RunsFilter
from yarnloom.client.start_request import Start, many, moment_text, wait_seconds
from yarnloom.client.target import Target
from yarnloom.errors import BadAnswer, Problem, YarnloomError, nearest
from yarnloom.plain_values import plain_values
from yarnloom.run_filters import RUN_FILTERS
from yarnloom.sdk.interrupts import attempt_now
from yarnloom.start_keys import generated_key
from yarnloom.units import Duration, seconds
from yarnloom.values import JsonObject, JsonValue, decode, encode

if TYPE_CHECKING:
    from yarnloom.sdk.calls import Call

API = "/api/v1"
ENDED = frozenset({"done", "failed", "cancelled"})

KEEP: Any = object()
"""A setting that is not to be changed; None may mean that there is no limit."""


@dataclass(frozen=True, slots=True)
class Request:
    """One request.

    Attributes:
        again: whether it may simply be sent again when the connection broke.
    """

    method: str
    path: str
    body: Any = None
    query: JsonObject = field(default_factory=dict)
    again: bool = True

    @property
    def content(self) -> bytes | None:
        """The body as JSON."""
        return None if self.body is None else to_json(self.body)


def default_who(kind: str) -> str:
    """Who gives commands, unless told: the kind of program, the user and the machine."""
    try:
        user = getpass.getuser()
    except (OSError, KeyError):  # a container's user id without a name
        user = str(os.getuid())
    return f"{kind}:{user}@{socket.gethostname()}"


def read_answer(target: Target, status: int, body: bytes) -> Any:
    """What an answer holds.

    Raises:
        Refused: the service said no; the class says how.
        BadAnswer: this is not how a Yarn Loom service answers.
    """
    if status == 204:
        return None
    try:
        data = decode(body)
    except YarnloomError as error:
        raise BadAnswer(
            f"{target.url} ({target.setting}) answers {status}, but not with JSON. "
            "Is it a Yarn Loom service?"
        ) from error
    if status < 400:
        return data
    raise _error(target, status, data)


def _error(target: Target, status: int, data: Any) -> YarnloomError:
    kind = str(data.get("type", "")) if isinstance(data, dict) else ""
    if not kind.startswith("urn:yarnloom:"):
        return BadAnswer(f"{target.url} answers {status}. Is it a Yarn Loom service?")
    found = errors.subclasses().get(kind.removeprefix("urn:yarnloom:"), errors.Refused)
    problems = [
        Problem(
            one.get("pointer", ""), one.get("detail", ""), one.get("line", 0), one.get("column", "")
        )
        for one in data.get("problems", ())
    ]
    known = {"type", "title", "status", "detail", "problems", "hint"}
    facts = {key: value for key, value in data.items() if key not in known}
    hint = data.get("hint", "")
    return found(data.get("detail", kind), problems=problems, hint=hint, **facts)


def start_request(start: Start) -> Request:
    """Start a workflow or a single task; sending it twice is safe, since it has a key.

    Raises:
        ValueRefused: the params are not JSON.
    """
    return Request("POST", "/runs", start.to_json())


def start_many_request(starts: Iterable[Start | Call[Any]]) -> Request:
    """Start many; raises as `start_request`."""
    return Request("POST", "/runs/many", {"starts": many(starts)})


def schedule_request(name: str, **settings: Any) -> Request:
    """Change a schedule; what is `KEEP` stays as it is."""
    body = {key: value for key, value in settings.items() if value is not KEEP}
    return Request("PATCH", f"/schedules/{quote(name, safe='')}", body)


OnCheck = Callable[[list[JsonObject]], None]
"""Told how far the rows of files are checked: `rows`, `read` of `size` bytes, and the `file`."""

CHECK_SECONDS = 0.5


def watched(call: Request, on_check: OnCheck | None) -> Request:
    """A start that tells now and then how far the check of its rows is."""
    query = {"wait": CHECK_SECONDS} if on_check else {}
    return replace(call, query={**call.query, **query})


def files_request(limit: int) -> Request:
    """The newest files."""
    return Request("GET", "/files", query={"limit": limit})


def runs_query(states: Sequence[str], wanted: RunsFilter) -> JsonObject:
    """Return the query of a list of runs.

    Raises:
        TypeError: there is no such filter; without it the list would be another.
    """
    for name in wanted.keys() - RunsFilter.__optional_keys__:
        known = {*RunsFilter.__optional_keys__, "states", "limit"}
        raise TypeError(f"runs() has no filter {name!r}{nearest(name, known)}")
    given = _said(wanted)
    for flag in RUN_FILTERS:
        if flag.kind == "flag" and flag.name in given:
            given[flag.name] = str(bool(given[flag.name])).lower()
    return {"state": list(states), **given}


def _said(wanted: RunsFilter | Mapping[str, JsonValue]) -> JsonObject:
    """The fields of a filter that are given, with times as text."""
    given = {name: value for name, value in wanted.items() if value is not None}
    for known in RUN_FILTERS:
        if isinstance(at := given.get(known.name), datetime):
            given[known.name] = at.astimezone().isoformat()
    return given


def save_filter_request(
    name: str, states: Sequence[str], wanted: RunsFilter | Mapping[str, JsonValue]
) -> Request:
    """Keep a filter of the list of runs by name."""
    body = {"states": list(states), **_said(wanted)}
    return Request("PUT", f"/filters/{quote(name, safe='')}", body)


def drop_filter_request(name: str, reason: str) -> Request:
    """Forget a saved filter."""
    return Request(
        "DELETE", f"/filters/{quote(name, safe='')}", query={"reason": reason}, again=False
    )


def glance_request(number: int) -> Request:
    """A run on one line."""
    return Request("GET", f"/runs/{number}/glance")


def show_request(number: int, wait: float = 0.0) -> Request:
    """A run, possibly after waiting for its end."""
    query: JsonObject = {"wait": f"{wait:.3f}"} if wait else {}
    if wait and (attempt := attempt_now()) is not None:
        query["attempt"] = attempt  # a task waits: `why` tells it where nothing can go on
    return Request("GET", f"/runs/{number}", query=query)


def act_request(number: int, action: str, reason: str = "", **more: Any) -> Request:
    """Pause, resume, cancel or mend a run."""
    # Sent twice, a second cancel would stop the follow-ups too, and a mend be refused.
    again = action in ("pause", "resume")
    body = {"reason": reason, **{name: value for name, value in more.items() if value}}
    return Request("POST", f"/runs/{number}/{action}", body, again=again)


def change_request(
    number: int,
    at: datetime | None,
    after: Duration | None = None,
    priority: int | None = None,
    tags: Sequence[str] | None = None,
    reason: str = "",
) -> Request:
    """Change a run that has not begun."""
    body: JsonObject = {"reason": reason}
    times = {"at": moment_text("at", at), "after": wait_seconds(after)}
    body |= {name: value for name, value in times.items() if value is not None}
    if priority is not None:
        body["priority"] = priority
    if tags is not None:
        body["tags"] = list(tags)
    return Request("PATCH", f"/runs/{number}", body)


def rerun_request(number: int, changes: Mapping[str, JsonValue], reason: str) -> Request:
    """Start a run anew; the key that is made up makes sending twice safe."""
    given = plain_values(dict(changes))
    encode(given, "params")
    body = {"params": given, "reason": reason, "key": generated_key()}
    return Request("POST", f"/runs/{number}/rerun", body)


def step_request(number: int, address: str) -> Request:
    """A step with its values and attempts."""
    return Request("GET", f"/runs/{number}/steps", query={"address": address})


def step_act_request(number: int, address: str, action: str, **body: Any) -> Request:
    """Decide something about a step; what is `KEEP` is not said."""
    said = {name: value for name, value in body.items() if value is not KEEP}
    path = f"/runs/{number}/steps/{action}"
    return Request("POST", path, said, query={"address": address}, again=action == "edit")


def published_request(number: int, after: int) -> Request:
    """A page of what a run published."""
    return Request("GET", f"/runs/{number}/published", query={"after": after})


def live_lines(number: int, address: str, text: str, after: str = "") -> tuple[str, JsonObject]:
    """Path and query of the stream of what a run's steps print, from a mark on."""
    query = {"address": address, "text": text}
    if "#" in address:  # one attempt
        return f"/runs/{number}/log/live", query
    return f"/runs/{number}/lines/live", {**query, "after": after}


def lines_request(number: int, address: str, text: str, **page: Any) -> Request:
    """A page of what a run's steps printed: `after` a mark, `before` one, or the `newest`."""
    query = {"address": address, "text": text, **page}
    return Request("GET", f"/runs/{number}/lines", query=query)


def link_request(number: int, lasts: Duration, details: bool) -> Request:
    """Make a link with which a run may be watched."""
    return Request("POST", f"/runs/{number}/links", {"seconds": seconds(lasts), "details": details})


def links_request(number: int) -> Request:
    """List the links to a run."""
    return Request("GET", f"/runs/{number}/links", query={"limit": 500})


def revoke_link_request(number: int, link: int, reason: str) -> Request:
    """End a link before its time."""
    query = {"reason": reason} if reason else {}
    return Request("DELETE", f"/runs/{number}/links/{link}", query=query, again=False)


def add_token_request(
    name: str, may: Sequence[str], workflows: Sequence[str], lasts: Duration
) -> Request:
    """Make a token; sent twice, the second is refused, since the name is taken."""
    body = {"name": name, "may": list(may), "workflows": list(workflows), "seconds": seconds(lasts)}
    return Request("POST", "/tokens", body, again=False)


def revoke_token_request(name: str, reason: str) -> Request:
    """End a token before its time."""
    query = {"reason": reason} if reason else {}
    return Request("DELETE", f"/tokens/{quote(name, safe='')}", query=query, again=False)


def sign_in_request(path: str) -> Request:
    """Make an address that signs a browser in once, on a page of the console."""
    return Request("POST", "/session/codes", {"path": path})


def settle_request(number: int, address: str, what: str, **body: Any) -> Request:
    """Say whether something unsure was done."""
    return Request("POST", f"/runs/{number}/ledger", {"address": address, "what": what, **body})


def bulk_request(action: str, count: int | None, reason: str, **wanted: JsonValue) -> Request:
    """The same command for every run of a list; without a count only to be told it."""
    said = {name: value for name, value in _said(wanted).items() if value}
    body = {"action": action, "count": count, "reason": reason, **said}
    return Request("POST", "/runs/actions", body, again=count is None)


def why_request(number: int, address: str = "") -> Request:
    """What a run, or a part of it, waits for."""
    return Request("GET", f"/runs/{number}/why", query={"address": address} if address else {})


def pool_request(name: str, **settings: Any) -> Request:
    """Change a pool; what is `KEEP` stays as it is.

    Args:
        name: the pool's.
        settings: `limit`, `rate` (a `Rate`, its JSON, or None), `note`, `paused`, `as_declared`,
            `reason`.
    """
    body = {key: value for key, value in settings.items() if value is not KEEP}
    if hasattr(body.get("rate"), "to_json"):
        body["rate"] = body["rate"].to_json()
    return Request("PATCH", f"/pools/{quote(name, safe='')}", body)


def remove_request(noun: str, name: str, reason: str) -> Request:
    """Remove a pool or a schedule."""
    query = {"reason": reason} if reason else {}
    return Request("DELETE", f"/{noun}/{quote(name, safe='')}", query=query, again=False)


def schedule_body(target: Call[Any] | str, name: str, settings: JsonObject) -> JsonObject:
    """Return the body of a new schedule.

    Raises:
        ValueRefused: a param has no JSON form.
    """
    if isinstance(target, str):
        return {"name": name or target.rpartition("/")[2], "workflow": target, **settings}
    made = {"workflow": target.target.full_name, "params": plain_values(dict(target.inputs))}
    return {"name": name or target.target.name, **made, **settings}


def query_text(values: Mapping[str, JsonValue]) -> str:
    """Return a query: a list as often as it has values, truth as in JSON."""
    texts = {
        name: [
            json.dumps(one) if isinstance(one, bool) else one
            for one in (value if isinstance(value, list | tuple) else [value])
        ]
        for name, value in values.items()
        if value is not None
    }
    return urlencode(texts, doseq=True)


def drain_request(worker: str, reason: str) -> Request:
    """Let a worker end when it has nothing in hand."""
    return Request("POST", f"/workers/{quote(worker, safe='')}/drain", {"reason": reason})


def output_of(run: JsonObject) -> JsonValue:
    """The output of a run that has ended.

    Raises:
        RunFailed: it failed.
        RunCancelled: it was cancelled.
    """
    if run["state"] == "done":
        return run["output"]
    error = run["error"] or {}
    number, message = run["number"], error.get("message", "")
    if run["state"] == "cancelled":
        raise errors.RunCancelled(f"run {number} was {message or 'cancelled'}", run=run)
    where = f" at {error['step']}" if error.get("step") else ""
    what = f"{error.get('type', 'Error')}: {message}"
    raise errors.RunFailed(f"run {number} failed{where}: {what}", run=run)


def still_going(run: JsonObject, timeout: float) -> errors.WaitTimeout:
    """The error when a wait was not long enough."""
    return errors.WaitTimeout(
        f"run {run['number']} is {run['state']} after {timeout:g} s of waiting; it goes on", run=run
    )
