"""A run on one line: progress, running steps, failures, bottleneck, time left.

Made of what the graph, `why` and the failures say, so that none of them can contradict it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Literal, NamedTuple

from yarnloom.engine.records.parts import PartRecord
from yarnloom.engine.records.runs import FailureKind, FailuresRecord, RunRecord
from yarnloom.plan import Kind
from yarnloom.protocol.overview_answers import GlanceAnswer, GlancePiece, Hold
from yarnloom.protocol.run_answers import ReasonAnswer
from yarnloom.service.render.runs import counts_json
from yarnloom.units import took_text
from yarnloom.values import JsonObject

StateCounts = dict[str, int]
What = Literal["progress", "moving", "running", "failed", "held", "left"]

_HOLDS = ("ready", "backing_off", "paused")
SAID = 100
"""How many letters of an error's message are on the line."""

KINDS = 2
"""How many kinds of failures are named, in the order of their counts."""

BOXES = 2
"""How many boxes are named in which something runs."""


class LineFacts(NamedTuple):
    """What the line of a run says beside its graph."""

    why: JsonObject | None
    """What the run waits for; None if it has ended."""
    failures: FailuresRecord
    """Its failures by kind."""


def glance(
    run: RunRecord, graph: PartRecord, why: JsonObject | None, failures: FailuresRecord
) -> GlanceAnswer:
    """Return a run on one line, and its pieces.

    Args:
        run: the run.
        graph: the graph of all of it.
        why: what it waits for, as JSON; None if it has ended.
        failures: its failures by kind.
    """
    held = None if why is None else held_by(graph, why)
    pieces = [
        *_how_far(run),
        *_running(graph, ended=run.ended_at is not None),
        *_failed(run, graph, failures),
        *([_piece("held", held.text, held.address)] if held else []),
        *_left(run),
    ]
    text = " · ".join(piece.text for piece in pieces)
    return GlanceAnswer(text=text, pieces=pieces, held=held)


def _piece(what: What, text: str, address: str = "") -> GlancePiece:
    return GlancePiece(what=what, text=text, address=address)


def _how_far(run: RunRecord) -> Iterator[GlancePiece]:
    fraction = run.progress.fraction
    percent = "" if fraction is None else f"{int(100 * fraction)}%"
    if run.ended_at is None:
        progress = run.progress
        if percent or not run.started_at or not progress.address:
            yield _piece("progress", percent if percent and run.started_at else run.state)
        text = re.sub(r", [\d,]+ failed", "", progress.text)
        if progress.address and not re.search(r"\d parts?\b", text):
            rate = progress.per_second
            pace = f", {rate:,.3g} a second" if rate and rate < 1_000 else ""
            pace = f", {rate:,.0f} a second" if rate and rate >= 1_000 else pace
            yield _piece("moving", text + pace, progress.address)
        return
    at = "" if run.state == "done" or not percent else f" at {percent}"
    # From one whole millisecond to another, as a browser reads times.
    spent = (run.ended_at // 1_000 - (run.started_at or run.ended_at) // 1_000) / 1_000
    yield _piece("progress", f"{run.state}{at} in {took_text(spent)}")
    progress = run.progress
    if run.state != "done" and progress.address:
        text = re.sub(r", [\d,]+ failed", "", progress.text)
        yield _piece("moving", f"at {text}", progress.address)


def boxes(part: PartRecord, *, inside: bool = False) -> Iterator[tuple[PartRecord, StateCounts]]:
    """Yield every step that a graph shows, and how many of it are in each state.

    Args:
        part: the graph, or a part of it.
        inside: whether it is what an each repeats.
    """
    if part.node.kind is Kind.STEP:
        if inside:
            yield part, {} if part.counts is None else counts_json(part.counts)
        elif part.state is not None:
            yield part, {part.state: 1}
    if part.do is not None:
        yield from boxes(part.do, inside=True)
    for child in (*part.parts, *part.follow_ups.values()):
        yield from boxes(child, inside=inside)


def _running(graph: PartRecord, *, ended: bool) -> Iterator[GlancePiece]:
    if ended:
        return
    found = [(part, counts.get("running", 0)) for part, counts in boxes(graph)]
    many = [one for one in found if one[1] and one[0].inside is not None]
    for part, number in sorted(many, key=lambda one: -one[1])[:BOXES]:
        yield _piece("running", f"{number:,} running in {part.label}", part.address)
    if len(many) > BOXES:
        yield _piece("running", f"and in {len(many) - BOXES} other steps")
    alone = [part for part, number in found if number and part.inside is None]
    if alone:
        yield _piece("running", _names(alone), alone[0].address)
    if not many and not alone:
        # Steps that are short are seldom seen while they run.
        for each, number in _under_way(graph):
            yield _piece("running", f"{number:,} {each.label} under way", each.address)


def _under_way(part: PartRecord) -> Iterator[tuple[PartRecord, int]]:
    """Yield the outermost eaches of which items have begun and not ended, and how many."""
    if part.node.kind is Kind.EACH:
        if part.counts is not None and part.counts.running:
            yield part, part.counts.running
        return
    for child in (*part.parts, *part.follow_ups.values()):
        yield from _under_way(child)


def _names(steps: list[PartRecord]) -> str:
    """Which steps run."""
    if len(steps) == 1:
        return f"{steps[0].label} runs"
    if len(steps) <= BOXES:
        return f"{' and '.join(step.label for step in steps)} run"
    return f"{steps[0].label} and {len(steps) - 1} other steps run"


def _failed(run: RunRecord, graph: PartRecord, failures: FailuresRecord) -> Iterator[GlancePiece]:
    if not failures.failed:
        return
    kinds = failures.kinds
    number = failures.failed
    if failures.more:  # only so many were looked at
        number = max(number, sum(counts.get("failed", 0) for _, counts in boxes(graph)))
    allowed = ", as allowed" if run.state == "done" and run.failures_allowed else ""
    named = [_kind(kind, counted=len(kinds) > 1) for kind in kinds[:KINDS]]
    if len(kinds) > KINDS:
        others = len(kinds) - KINDS
        named.append("1 other kind" if others == 1 else f"{others} other kinds")
    text = f"{number:,} failed{allowed}: {', '.join(named)}"
    yield _piece("failed", text, kinds[0].first)


def _kind(kind: FailureKind, *, counted: bool) -> str:
    said = kind.said if len(kind.said) <= SAID else kind.said[: SAID - 1] + "…"
    return f"{kind.number:,} {said}" if counted else said


def held_by(graph: PartRecord, why: JsonObject) -> Hold | None:
    """The step with the longest queue, and the reason; None where nothing waits."""
    waiting = {
        part.address: sum(counts.get(state, 0) for state in _HOLDS) for part, counts in boxes(graph)
    }
    known: dict[str, JsonObject] = {}
    for entry in why["waits"]:
        address = without_keys(entry["address"])
        for reason in entry["reasons"]:
            if reason["kind"] not in _NO_HOLD:
                known.setdefault(address, reason)
                break
    for reason in why["reasons"]:
        if reason["kind"] not in _NO_HOLD:
            return _hold("", 0, reason["text"], reason)
    if not known:
        return None
    address = max(known, key=lambda one: waiting.get(one, 0))
    reason, number = known[address], waiting.get(address, 0)
    if not number:  # by now it goes on
        return None
    short = _SHORT.get(reason["kind"])
    text = short(reason) if short else reason["text"]
    return _hold(address, number, text, reason)


def _hold(address: str, waiting: int, text: str, reason: JsonObject) -> Hold:
    shown = ReasonAnswer.model_validate(reason)
    return Hold(address=address, waiting=waiting, text=text, reason=shown)


def without_keys(address: str) -> str:
    """An address of a step without the keys of items."""
    found, depth = "", 0
    for letter in address:
        depth += (letter == "[") - (letter == "]")
        if depth == 0 and letter != "]":
            found += letter
    return found


def _pool(reason: JsonObject) -> str:
    return f"held by pool {reason['pool']}, {reason['in_use']} of {reason['limit']} in use"


def _no_place(reason: JsonObject) -> str:
    return f"held by workers: {str(reason['text']).removeprefix('waits for a place: ')}"


_SHORT = {
    "pool_full": _pool,
    "pool_paused": lambda reason: f"held by pool {reason['pool']}, which is paused",
    "pool_halted": lambda reason: f"held by pool {reason['pool']}, whose limit is 0",
    "pool_too_heavy": lambda reason: (
        f"held by pool {reason['pool']}: its weight is above the limit"
    ),
    "pool_reserved": lambda reason: f"held by pool {reason['pool']}, of which the rest is kept",
    "pool_rate": lambda reason: f"held by the rate of pool {reason['pool']}",
    "no_place": _no_place,
}
"""What is said on one line, where that is shorter than the reason."""

_NO_HOLD = frozenset(
    {
        *("handed_out", "running", "moment", "earlier", "turn", "priority", "ended", "at_once"),
        *("stopping", "reading", "gathering", "scheduled", "rest", "stop_asked"),
    }
)
"""Reasons that say that things go on as they should."""


def _left(run: RunRecord) -> Iterator[GlancePiece]:
    seconds = run.progress.seconds_left
    if seconds is not None and seconds >= 1:
        about = "at least" if run.progress.at_least else "about"
        yield _piece("left", f"{about} {took_text(seconds)} left")
    elif run.state == "running" and seconds is None:
        yield _piece("left", "no estimate yet")
