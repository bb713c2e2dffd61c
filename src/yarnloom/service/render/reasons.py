"""Reasons of `why` in words: one sentence a kind."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from yarnloom.engine.records.waits import Reason, WaitRecord, WhyRecord
from yarnloom.units import duration_text, iso_time
from yarnloom.values import JsonObject

NAMED = 3


def why_json(why: WhyRecord, last_lines: Mapping[int, int | None] = {}) -> JsonObject:
    """Return what a run waits for.

    Args:
        why: the record.
        last_lines: by attempt when its newest line arrived, where that is asked.
    """
    return {
        "run": why.run,
        "workflow": why.workflow,
        "state": why.state,
        "reasons": [reason_json(reason) for reason in why.reasons],
        "waits": [_wait_json(wait, last_lines) for wait in why.waits],
        "more": why.more,
    }


def _wait_json(wait: WaitRecord, last_lines: Mapping[int, int | None]) -> JsonObject:
    reasons = [reason_json(reason) for reason in wait.reasons]
    shown: JsonObject = {"address": wait.address, "state": wait.state, "reasons": reasons}
    if wait.begun_at is not None:
        shown["begun_at"] = iso_time(wait.begun_at)
    if wait.deadline_at is not None:
        shown["deadline_at"] = iso_time(wait.deadline_at)
    if wait.attempt is not None and wait.attempt in last_lines:
        shown["last_line_at"] = iso_time(last_lines[wait.attempt])
    return shown


def reason_json(reason: Reason) -> JsonObject:
    """Return a reason with its sentence."""
    return {"kind": reason.kind, "text": text_of(reason), **reason.facts}


def text_of(reason: Reason) -> str:
    """Return the sentence of a reason."""
    sentence = SENTENCES.get(reason.kind, _no_worker_fits)
    return sentence({**reason.facts, **reason.words})


def _scheduled(it: JsonObject) -> str:
    if "start_at" not in it:
        return "is one of many that were started, and begins in its turn"
    text = f"starts at {it['start_at']}"
    if it["start_by"] is not None:
        text += f", and ends as expired if it has not begun by {iso_time(it['start_by'])}"
    return text


def _ended(it: JsonObject) -> str:
    text = f"the run has ended: it is {it['state']}"
    if not it["message"]:
        return text
    first = str(it["message"]).partition("\n")[0][:300]
    return f"{text}, since {it['address']} failed: {first}" if it["address"] else f"{text}: {first}"


def _resumed(it: JsonObject) -> str:
    loop = f" {it['loop']!r}" if it["loop"] else ""
    return (
        f"its loop{loop} resumed in a new attempt, where local variables are new; carry={{...}} "
        "keeps what it adds up, and carry=None says that there is nothing"
    )


def _busy(it: JsonObject) -> str:
    value = f" for {it['per']}" if it["per"] else ""
    return (
        f"waits until {run_words(it['runs'])} of {it['workflow']} {has_words(it['runs'])} ended: "
        f"at most {it['at_once']} are under way at once{value}"
    )


def _at_once(it: JsonObject) -> str:
    count, limit = it["items"], it["at_once"]
    items = "1 item has not begun" if count == 1 else f"{count:,} items have not begun"
    return f"{items}: {limit} at once" if limit else f"{items}: those before come first"


def _worker_silent(it: JsonObject) -> str:
    silence = seconds_words(it["seconds"])
    return f"worker {it['worker']} was not heard of for {silence}, and is given up at " + str(
        it["given_up_at"]
    )


def _handed_out(it: JsonObject) -> str:
    if not it["late"]:
        return f"handed to worker {it['worker']}, begins there"
    since = f"since {it['handed_at']}, {duration_text(round(it['seconds']))} ago"
    return f"worker {it['worker']} has it {since}, and has not begun it; it is to give it back"


def _quiet(it: JsonObject) -> str:
    at = "" if it["done"] is None else f", at {it['done']:,}"
    return f"is stuck: no word of progress for {seconds_words(it['seconds'])}{at}"


def _paused(it: JsonObject) -> str:
    text = "is pausing" if it["pausing"] else "is paused"
    if "by" in it:
        text += f" by {it['by']}" + (f": {it['reason']}" if it["reason"] else "")
    return text


def _back_off(it: JsonObject) -> str:
    text = f"tries again in {duration_text(round(it['seconds'], 1))}, after try {it['tries']}"
    return text + (f" failed: {it['type']}: {it['message']}" if it["type"] else "")


def _itself(it: JsonObject) -> str:
    places = "the only place is" if it["places"] == 1 else f"all {it['places']} places are"
    return (
        f"can never begin: {places} held by {run_words(it['runs'])}, in which a task waits for "
        "this run. Give the worker more places, or do not wait in a task: end it, and be told by "
        "`on_run_end`"
    )


def _pool_paused(it: JsonObject) -> str:
    paused = it["paused"]
    reason = f": {paused['reason']}" if paused.get("reason") else ""
    return f"pool {_base(it)} is paused by {paused.get('by')}{reason}"


def _pool_rate(it: JsonObject) -> str:
    left = "" if it["left"] is None else f", the next in {seconds_words(it['left'])}"
    return f"waits for pool {it['pool']} (at most {it['rate']} begin{left})"


def _pool_full(it: JsonObject) -> str:
    needs = f"{it['weight']} of " if it["weight"] > 1 else ""
    kept = "; it is next there, and room is kept for it" if it["reserved"] else ""
    used = f"{it['in_use']} of {it['limit']} in use by {run_words(it['runs'])}"
    return f"waits for {needs}pool {it['pool']} ({used}){kept}"


def _pool_too_heavy(it: JsonObject) -> str:
    limit = it["limit"]
    above = f"the limit, {limit}" if limit is not None and it["weight"] > limit else "the rate"
    return (
        f"can never begin: it needs {it['weight']} of pool {it['pool']}, which is above {above}; "
        "raise that, or lower the weight"
    )


def _pool_reserved(it: JsonObject) -> str:
    kept = [
        f"{one['share']} (priority {one['priority']}), which needs "
        + " and ".join(f"{weight} of {pool}" for pool, weight in one["pools"].items())
        + (f" and waits for {listed(one['waits_for'])}" if one["waits_for"] else "")
        for one in it["before"]
    ]
    more = f", and {len(kept) - 3} more" if len(kept) > 3 else ""
    return f"the rest of pool {it['pool']} is kept for {'; '.join(kept[:3])}{more}"


def _base(it: JsonObject) -> str:
    return str(it["pool"]).partition("[")[0]


def _no_place(it: JsonObject) -> str:
    names, places = listed(it["workers"]), it["places"]
    if not places:
        return f"waits for a place: no process of {names} has loaded the loom yet"
    taken = "the only place" if places == 1 else f"all {places} places"
    verb = "is" if places == 1 else "are"
    return f"waits for a place: {taken} of {names} {verb} taken"


def _no_worker_fits(it: JsonObject) -> str:
    groups = it["groups"]
    if len(groups) == 1 and groups[0][1][0] == "no_task":
        near = f"; near: {it['near']}" if it["near"] else ""
        return f"no worker knows task {it['task']}{near}"
    return "; ".join(
        f"worker {listed(names)} " + " and ".join(_flaw(it, kind, lacks, said) for kind in kinds)
        for (names, kinds, lacks), said in zip(groups, it["troubles"], strict=True)
    )


def _flaw(it: JsonObject, kind: str, lacks: list[str], trouble: str) -> str:
    match kind:
        case "elsewhere":
            where = f"pool {it['pool']}" if it["pool"] else "steps without a pool"
            return f"does not take from {where} (its --pools)"
        case "draining":
            return "is draining"
        case "trouble":
            said = trouble.partition("\n")[0]
            return f"lives, but has no process that can take it: {said}"
        case "lacks":
            return f"has no {' or '.join(lacks)} (only_on)"
        case "other_code":
            return f"has {it['task']} in another version, and its code is pinned"
        case "other_types":
            return f"has {it['task']} in another version, whose types do not fit"
    return f"does not know task {it['task']}"


def _priority(it: JsonObject) -> str:
    steps = "1 step" if it["steps"] == 1 else f"{it['steps']:,} steps"
    return f"{steps} of higher priority than {it['priority']} come first"


SENTENCES: dict[str, Callable[[JsonObject], str]] = {
    "ended": _ended,
    "stopping": lambda it: str(it["message"] or f"told to stop: {it['why']}"),
    "scheduled": _scheduled,
    "busy": _busy,
    "earlier": lambda it: (
        f"waits for {listed(it['parts'])}" if it["parts"] else "begins in a moment"
    ),
    "reading": lambda it: "its list is looked through",
    "gathering": lambda it: f"the outputs of its {it['items']:,} items are put together in a file",
    "at_once": _at_once,
    "held": lambda it: "its run is paused",
    "running": lambda it: (
        f"has run on worker {it['worker']} for {duration_text(round(it['seconds'], 1))}"
    ),
    "waits_for_run": lambda it: f"waits for run {it['runs'][0]}",
    "stop_asked": lambda it: f"told to stop: {it['why']}",
    "worker_silent": _worker_silent,
    "handed_out": _handed_out,
    "quiet": _quiet,
    "resumed": _resumed,
    "taken_back": lambda it: (
        f"was taken back {it['times']} times, since it did not begin; the last time: {it['last']}"
    ),
    "paused": _paused,
    "rest": lambda it: f"rests, and is called again in {duration_text(round(it['seconds'], 1))}",
    "back_off": _back_off,
    "moment": lambda it: "a worker has a place for it and takes it in a moment",
    "itself": _itself,
    "pool_paused": _pool_paused,
    "pool_halted": lambda it: f"pool {_base(it)} has the limit 0",
    "pool_full": _pool_full,
    "pool_rate": _pool_rate,
    "pool_too_heavy": _pool_too_heavy,
    "pool_reserved": _pool_reserved,
    "no_worker": lambda it: "no worker is connected: `yarnloom worker --load MODULE:LOOM`",
    "no_place": _no_place,
    "priority": _priority,
    "turn": lambda it: (
        f"{listed(it['shares'], is_cut=it['is_cut'])} {has_words(it['shares'])} a turn before"
    ),
}
"""By kind; any other kind says why no worker fits."""


def seconds_words(seconds: float) -> str:
    """Return how long something still takes, in words."""
    return duration_text(max(0.0, round(seconds, 1 if seconds >= 1 else 3)))


def listed(names: list[str], *, is_cut: bool = False) -> str:
    """Some of many names: "a, b and 3 more", or "at least 3 more" where the list is cut."""
    shown = names[:NAMED]
    if len(names) > NAMED:
        return f"{', '.join(shown)} and {'at least ' if is_cut else ''}{len(names) - NAMED} more"
    return " and ".join([", ".join(shown[:-1]), shown[-1]] if len(shown) > 1 else shown)


def has_words(named: list[Any]) -> str:
    """Return "has", or "have" for several."""
    return "has" if len(named) == 1 else "have"


def run_words(numbers: list[int]) -> str:
    """Return runs by number, in words."""
    return ("run " if len(numbers) == 1 else "runs ") + listed([str(number) for number in numbers])
