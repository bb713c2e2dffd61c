"""Parts of a graph view in words: what a part is, what it reads, how it stands."""

from __future__ import annotations

import json
from collections.abc import Iterator

from yarnloom.units import duration_text, size_text
from yarnloom.values import JsonObject

View = JsonObject
_COUNTED = ("failed", "running", "backing_off", "ready", "paused", "cancelled", "skipped")


def inner(view: View) -> list[View]:
    """The parts in a part; of an each the one that it repeats."""
    return [view["do"]] if view["kind"] == "each" else view.get("parts", [])


def is_instead(view: View, inside: View) -> bool:
    """Whether a part in another runs in the place of its first."""
    return view["kind"] == "fallback" and inside is view["parts"][1]


def caption_of(view: View, inside: View) -> str:
    """What is written at a branch of a choose, or at what runs instead of a part."""
    name = "instead" if is_instead(view, inside) else f"{view['label']}: {inside['label']}"
    return " · ".join(filter(None, [name, standing(inside)]))


def follow_ups(view: View) -> Iterator[tuple[str, View]]:
    """Its follow-ups with what they follow; in a run that has ended only those that began."""
    for name, follow_up in view.get("follow_ups", {}).items():
        if not (follow_up.get("begun") is False and view.get("ended_at")):
            yield name.replace("_", " "), follow_up


_AROUND = {"all": " and ", "any": " or "}
_COMPARES = {"==": "is", "!=": "is not", "in": "is one of"}


def source(raw: View) -> str:
    """A reference or condition in a few words."""
    match raw:
        case {"fields": fields, **rest}:
            return f"{source(rest)}'s {'.'.join(map(str, fields))}"
        case {"compare": [left, operator, right]}:
            return f"{source(left)} {_COMPARES.get(operator, operator)} {source(right)}"
        case {"is_null": of}:
            return f"{source(of)} is null"
        case {"not": of}:
            return f"not ({source(of)})"
        case {"all": _} | {"any": _}:
            return _combined(raw)
        case {"text": template}:
            return json.dumps(template, ensure_ascii=False)
        case {"list": parts}:
            return f"[{', '.join(map(source, parts))}]"
        case {"object": parts}:
            return "{" + ", ".join(f"{name}: {source(one)}" for name, one in parts.items()) + "}"
    return _reference(raw)


def _combined(raw: View) -> str:
    ((how, parts),) = raw.items()
    # Inside of one the other needs brackets.
    words = (f"({source(one)})" if {"all", "any"} & one.keys() else source(one) for one in parts)
    return _AROUND[how].join(words)


def _reference(raw: View) -> str:
    match raw:
        case {"param": path}:
            return f"param {path}"
        case {"output": address, "only": _}:
            return f"{address}, done ones"
        case {"output": address}:
            return str(address)
        case {"item": True}:
            return "the item"
        case {"item": path}:
            return f"item's {path}"
        case {"failures": address}:
            return f"failures of {address}"
        case {"failure": _}:
            return "the failure"
        case {"bad_rows": path}:
            return f"bad rows of {path}"
        case {"planned_at": _}:
            return "the planned time"
    text = json.dumps(raw.get("constant"), ensure_ascii=False)
    return text if len(text) <= 30 else text[:29] + "…"


def facts(view: View) -> list[str]:
    """What a part is, beside its label."""
    found = []
    if view["kind"] == "step":
        found += [view["task"].partition("/")[2], *_pool(view)]
    if view["kind"] == "parallel":
        found.append("side by side")
    if view["kind"] == "choose":
        found.append(f"by {source(view['by'])}")
    if view["kind"] == "each":
        found.append(f"for each of {source(view['over'])}")
        found += [f"{view['at_once']} at once"] if view["at_once"] else []
        found += [f"in batches of {view['batch']}"] if view["batch"] else []
        found += [f"{view['may_fail']} may fail"] if view["may_fail"] else []
    if view.get("waits_for"):
        found.append(f"after {', '.join(view['waits_for'])}")
    if "only_if" in view:
        found.append(f"only if {source(view['only_if'])}")
    if view.get("if_one_fails", "stop") != "stop":
        found.append(f"if one fails: {view['if_one_fails']}")
    return found


def rules(view: View) -> list[str]:
    """How a step is run, where it says anything."""
    # In the order in which a reader asks: where it waits, how often, how long, where it may run.
    given = view.get("rules") or {}
    found = _pool(view)
    if retry := given.get("retry"):
        attempts = retry["attempts"]
        found.append("tries without limit" if attempts is None else f"up to {attempts} tries")
    for name in ("timeout", "deadline"):
        if name in given:
            found.append(f"{name} {duration_text(given[name])}")
    if "quiet_for" in given:
        again = ", then tried again" if given.get("if_quiet") == "retry" else ""
        found.append(f"quiet for {duration_text(given['quiet_for'])} at most{again}")
    if "only_on" in given:
        found.append(f"only on {', '.join(given['only_on'])}")
    if "memory" in given:
        found.append(f"at most {size_text(given['memory'])} of memory")
    if "losses" in given:
        found.append(f"bears {given['losses']} losses")
    if "priority" in given:
        found.append(f"priority {given['priority']}")
    return found


def _pool(view: View) -> list[str]:
    given = view.get("rules") or {}
    if "pools" in given:
        return [f"pools {', '.join(map(_used, given['pools']))}"]
    return [f"pool {_used(given)}"] if "pool" in given else []


def _used(use: View) -> str:
    """A pool with its weight, and for which values it has limits."""
    weight = f"{use['weight']} of " if use.get("weight", 1) > 1 else ""
    per = f" per {source(use['per'])}" if "per" in use else ""
    return f"{weight}{use['pool']}{per}"


def standing(view: View) -> str:
    """How a part of a run stands, in words; empty for a plan's."""
    state = view.get("state")
    if state is None:
        return ""
    words = str(state).replace("_", " ")
    if view.get("skip_reason"):
        words += f" ({view['skip_reason'].replace('_', ' ')})"
    if view["kind"] == "each" and "counts" in view:
        words += f", {counts_text(view['counts'])}"
    return words


def counts_text(counts: View) -> str:
    """How many of how many are done, and what became of others: "3 of 12 done, 1 failed"."""
    others = [f"{counts[name]:,} {name.replace('_', ' ')}" for name in _COUNTED if counts[name]]
    return ", ".join([f"{counts['done']:,} of {counts['total']:,} done", *others])


def run_progress_words(progress: View) -> str:
    """How far a run is: "31%, 1,550 of 5,000 sacks, 41 a second, 84 s left"."""
    found = [percent(progress["fraction"]), progress["text"]]
    if progress["per_second"]:
        found.append(f"{_number(progress['per_second'])} a second")
    if progress["seconds_left"] is not None:
        least = "at least " if progress["at_least"] else ""
        found.append(f"{least}{duration_text(round(progress['seconds_left']))} left")
    return ", ".join(filter(None, found))


def percent(fraction: float | None) -> str:
    """A fraction in whole percent; 100% only when it is all, nothing while it is not known."""
    return "" if fraction is None else f"{int(100 * fraction)}%"


def progress_words(step: JsonObject) -> str:
    """How far a step is by its own account: "412 of 1,000, 35 a second, 17 s left: fitting"."""
    progress = step["progress"]
    done, total = progress["done"], progress["total"]
    found = []
    if done is not None:
        stopped = "stopped at " if step["state"] in ("paused", "cancelled", "failed") else ""
        unit = f" {progress['unit']}" if progress.get("unit") else ""
        of = f" of {_number(total)}" if total else ""
        found.append(f"{stopped}{_number(done)}{of}{unit}")
    if step["state"] == "running" and progress["rate"]:
        found.append(f"{_number(progress['rate'])} a second")
    if progress["seconds_left"] is not None:
        found.append(f"{duration_text(round(progress['seconds_left']))} left")
    if progress["added"] or progress["skipped"]:
        found.append(f"{progress['added']:,} added, {progress['skipped']:,} skipped")
    note = f": {progress['note']}" if progress["note"] else ""
    return (", ".join(found) + note).removeprefix(": ")


def _number(value: float) -> str:
    return f"{value:,.0f}" if value >= 10 or value == int(value) else f"{value:,.1f}"
