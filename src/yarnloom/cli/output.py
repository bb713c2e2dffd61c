"""What people read: colours and icons of states, times, tables, a run's picture in a terminal."""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from typing import NamedTuple

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.progress_bar import ProgressBar
from rich.table import Table
from rich.text import Text

from yarnloom.cli.terminal import SafeTable, coloured, err, out
from yarnloom.cli.text_streams import say, visible, write, write_bytes
from yarnloom.drawing import DYES, OutlineLine
from yarnloom.drawing.part_words import (
    counts_text,
    follow_ups,
    percent,
    progress_words,
    run_progress_words,
)
from yarnloom.units import seconds_text, whole_millis
from yarnloom.values import JsonObject, JsonValue

__all__ = ["coloured", "err", "out", "say", "seconds_text", "visible", "write", "write_bytes"]

View = JsonObject

WITH_PROGRESS = ("running", "paused", "resting", "cancelled", "failed")
"""States of a step in which it is of interest how far it came."""


def print_json(value: JsonValue) -> None:
    """Print a value for programs: ASCII, so that every terminal and encoding takes it."""
    write(json.dumps(value, indent=2) + "\n")


def print_json_line(value: JsonValue) -> None:
    """One of many values, as it comes."""
    write(json.dumps(value) + "\n")


def state_text(state: str, stop: str | None = None) -> Text:
    """A state with its icon, in its dye."""
    dye, icon = DYES.get(state, ("default", "?"))
    words = state.replace("_", " ") + (f" ({stop} asked)" if stop and state == "running" else "")
    return Text(f"{icon} {words}", style=dye)


def parse_time(text: str | None) -> datetime | None:
    """An RFC 3339 time."""
    return datetime.fromisoformat(text) if text else None


def ago(text: str | None) -> str:
    """How long ago something was: "12 s ago"."""
    moment = parse_time(text)
    if moment is None:
        return "–"
    return f"{seconds_text((datetime.now(UTC) - moment).total_seconds())} ago"


def until(text: str | None) -> str:
    """How long it is until then: "in 12 s"."""
    moment = parse_time(text)
    if moment is None:
        return "–"
    left = (moment - datetime.now(UTC)).total_seconds()
    return f"in {seconds_text(left)}" if left > 0 else "now"


def took(begin: str | None, end: str | None) -> str:
    """How long something took, or has taken until now."""
    if begin is None:
        return "–"
    last = whole_millis(end) if end else time.time_ns() // 1_000_000
    return seconds_text((last - whole_millis(begin)) / 1_000)


def done_text(counts: View) -> str:
    """How many of how many are done: "3 of 5"."""
    return f"{counts['done']:,} of {counts['total']:,}" if counts["total"] else "–"


def table(*columns: str, numbers: tuple[str, ...] = (), cut: str = "") -> Table:
    """An empty table in the house's style; wide cells are cut, never wrapped.

    Args:
        columns: their names; a last one without a name is for remarks.
        numbers: columns that are aligned like numbers.
        cut: the column that is cut first in a narrow terminal; its cells are `Text`.
    """
    # In a terminal remarks get what room is left.
    remarks = columns[-1] == "" and out.is_terminal
    found = SafeTable(
        box=None, pad_edge=False, padding=(0, 3, 0, 0), header_style="dim", expand=remarks
    )
    for column in columns:
        if remarks and column == "":
            found.add_column("", ratio=1, no_wrap=True, overflow="ellipsis")
            continue
        # Rich makes columns that may wrap narrower first.
        found.add_column(
            visible(column),
            justify="right" if column in numbers else "left",
            no_wrap=column != cut,
            overflow="ellipsis",
        )
    return found


class Column(NamedTuple):
    """A column of a list.

    Attributes:
        heading: its name; empty for remarks, as the last.
        cell: makes its cell from a row.
        number: whether it is aligned like numbers.
        cut: whether it is cut first in a narrow terminal.
    """

    heading: str
    cell: Callable[[View], object]
    number: bool = False
    cut: bool = False


def short_value(value: JsonValue, width: int = 60) -> str:
    """A value on one line, cut where it is long."""
    text = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
    text = " ".join(text.split())
    return text if len(text) <= width else text[: width - 1] + "…"


def readable(rows: list[View]) -> list[View]:
    """Return the rows of a list that can be shown; say of each other one why it cannot be."""
    for one in rows:
        if "unreadable" in one:
            known = ", ".join(
                f"{name} {value}" for name, value in one.items() if name != "unreadable"
            )
            say(f"{known}: {one['unreadable']}")
    return [row for row in rows if "unreadable" not in row]


def list_table(columns: tuple[Column, ...], rows: list[View]) -> Table:
    """A list, a row for each that can be shown."""
    numbers = tuple(column.heading for column in columns if column.number)
    cut = next((column.heading for column in columns if column.cut), "")
    found = table(*(column.heading for column in columns), numbers=numbers, cut=cut)
    for row in readable(rows):
        found.add_row(*(_shown(column.cell(row), cut=column.cut) for column in columns))
    return found


def _shown(cell: object, *, cut: bool) -> Text | str:
    if cell is None:
        return "–"
    if cut:  # cut, not wrapped, though its column may be made narrower
        return Text(visible(str(cell)), no_wrap=True, overflow="ellipsis")
    return cell if isinstance(cell, Text) else str(cell)


def run_table(runs: list[View]) -> Table:
    """A list of runs."""
    return list_table(RUN_COLUMNS, runs)


def _begin_text(run: View) -> str:
    """When a run was started, or will be."""
    return until(run["start_at"]) if run["state"] == "scheduled" else ago(run["created_at"])


def _moving_text(run: View) -> str:
    """What moves in a run that goes on, and how long it will."""
    if run["started_at"] is None or run["ended_at"] is not None:
        return ""
    return run_progress_words(run["progress"]).partition(", ")[2]


RUN_COLUMNS = (
    Column("run", lambda run: run["number"], number=True),
    Column("workflow", lambda run: run["workflow"], cut=True),
    Column("state", lambda run: state_text(run["state"])),
    Column("started", _begin_text),
    Column("took", lambda run: took(run["started_at"], run["ended_at"])),
    Column("done", lambda run: percent(run["progress"]["fraction"]) or "–", number=True),
    Column("", lambda run: Text(_moving_text(run), style="dim")),
)
"""The columns of a list of runs."""


def print_started(run: View) -> None:
    """Print the number of a new run, bare for scripts, and say its workflow and state."""
    write(f"{run['number']}\n")
    say(f"run {run['number']} of {run['workflow']} is {run['state']}")


def count(number: int, noun: str) -> str:
    """ "1 task", "2 tasks"."""
    return f"{number} {noun}" + ("" if number == 1 else "s")


def run_head(run: View) -> Text:
    """A run in one line."""
    line = Text.assemble((f"run {run['number']}", "bold"), "  ", run["workflow"], "  ")
    line.append_text(state_text(run["state"]))
    line.append(f"  {run_progress_words(run['progress'])}")
    if run["started_at"]:
        line.append(f"  {took(run['started_at'], run['ended_at'])}", style="dim")
    return line


NARROW = 100
"""Below this width, who ran a step and how often is left out."""


def part_table(graph: View, reasons: Mapping[str, str] | None = None) -> Table:
    """The steps of a run or of an item, and its eaches with the counts of their steps.

    Args:
        graph: the run's, or the item's.
        reasons: by address what a ready step waits for, where it is known.
    """
    who = () if out.width < NARROW else ("attempts", "worker")
    found = table("step", "state", *who, "took", "", numbers=("attempts",))
    above = f"{graph['address']}/" if graph["address"] else ""
    for part in rows_of(graph):
        label = part["address"].removeprefix(above)
        if part["kind"] == "step":
            _add_step(found, part, label, (reasons or {}).get(part["address"]))
        else:
            _add_each(found, part, label)
    return found


def _add_row(
    found: Table, label: Text, state: Text, took: str, note: Text, who: tuple[str, str] = ("", "")
) -> None:
    """A row of a part; who ran it and how often only where there is room."""
    found.add_row(label, state, *(who if len(found.columns) > 4 else ()), took, note)


def _add_step(found: Table, step: View, label: str, reason: str | None) -> None:
    state = state_text(step["state"], step.get("stop_asked"))
    note = _note(step)
    if step["state"] == "ready" and step.get("worker"):
        state.append(f" (with worker {step['worker']})", style="dim")
    elif step["state"] == "ready":
        pool = f"pool {step['pool']} or " if step.get("pool") else ""
        note = reason or f"waits for {pool}a worker"
    elif step["state"] == "backing_off":
        note = f"tries again {until(step['due_at'])} after {note}"
    elif step["state"] == "resting":
        note = f"is called again {until(step['due_at'])}"
    elif step["state"] == "waiting" and step.get("waits_for"):
        note = f"waits for {', '.join(step['waits_for'])}"
    # A step that tells of its progress says more than any note about it.
    shown = Text(note, style="dim")
    if step.get("progress") and step["state"] in WITH_PROGRESS:
        shown = step_progress(step)
    who = (str(step.get("attempts") or ""), step.get("worker") or "")
    _add_row(found, Text(label), state, _took(step), shown, who)


def _add_each(found: Table, each: View, label: str) -> None:
    note = counts_text(each["counts"]) if each.get("counts", {}).get("total") else _note(each)
    _add_row(found, Text(f"{label}[…]"), state_text(each["state"]), _took(each), Text(note))
    _add_inside(found, each["do"], "  ")
    for item in each.get("top", ()):
        key = item["address"].rpartition("[")[2]
        state, remark = state_text(item["state"]), Text(_note(item), style="dim")
        _add_row(found, Text(f"  [{key}"), state, _took(item), remark)


def _add_inside(found: Table, part: View, indent: str) -> None:
    """How much flows through each step that an each repeats."""
    counts, each = part.get("counts"), part["kind"] == "each"
    if counts and counts["total"]:
        spent = seconds_text(part["took"]["median"]) if part.get("took") else ""
        label = f"{indent}{part['label']}{'[…]' if each else ''}"
        _add_row(found, Text(label), band(counts), spent, Text(counts_text(counts)))
        indent += "  "
    for inner in [part["do"]] if each else part.get("parts", ()):
        _add_inside(found, inner, indent)


_BAND = ("done", "failed", "running", "backing_off", "resting", "paused", "ready", "cancelled")


def band(counts: View, width: int = 10) -> Text:
    """Counts as a band of so many cells; each state that occurs has at least one."""
    found, left = Text(), width
    for state in (*_BAND, "skipped"):
        if counts[state] and left:
            cells = min(left, max(1, round(width * counts[state] / counts["total"])))
            found.append("█" * cells, style=DYES[state][0])
            left -= cells
    return found.append("░" * left, style="dim")


def _took(part: View) -> str:
    return took(part.get("started_at"), part.get("ended_at")) if part.get("started_at") else ""


def _note(part: View) -> str:
    """Why something was skipped, or what failed in it."""
    error = part.get("error") or {}
    if part.get("skip_reason"):
        return str(part["skip_reason"]).replace("_", " ")
    where = error.get("step", "").rpartition("]/")[2] if part.get("kind") != "step" else ""
    at = f"{where}: " if where else ""
    return short_value(f"{at}{error['type']}: {error['message']}") if error.get("type") else ""


def step_progress(step: View, width: int = 60) -> Text:
    """How far a step is by its own account, with a bar where that can be told."""
    found, progress = Text(), step["progress"]
    done, total = progress["done"], progress["total"]
    if done is not None and total:
        filled = min(10, round(10 * done / total))
        found.append("━" * filled, style=DYES["running"][0]).append("━" * (10 - filled), "dim")
        found.append(" ")
    return found.append(short_value(progress_words(step), width))


def item_table(items: list[View]) -> Table:
    """Items of an each."""
    found = table("item", "state", "done", "took", "value", "")
    for item in readable(items):
        done = done_text(item["counts"]) if "counts" in item else ""
        found.add_row(
            short_value(item["name"], 40),
            state_text(item["state"]),
            done,
            _took(item),
            Text(short_value(item["value"], 40)),
            Text(_note(item), style="dim"),
        )
    return found


def outline_text(lines: list[OutlineLine]) -> Text:
    """A graph's lines, each with its state in its dye."""
    wide = max((len(line.indent + line.label) for line in lines), default=0)
    found = Text()
    stateless = "· " if any(line.state for line in lines) else ""
    for line in lines:
        icon = f"{DYES[line.state][1]} " if line.state else stateless
        style = DYES[line.state][0] if line.state else ""
        found.append(line.indent, style="dim").append(icon, style=style)
        found.append(line.label, style="bold" if line.facts else "dim")
        found.append(" " * (wide + 2 - len(line.indent + line.label)))
        found.append(line.facts, style="dim")
        if line.standing and line.standing != "waiting":
            found.append(f"  {line.standing}", style=style)
        found.append("\n")
    return found


def run_picture(
    run: View, graph: View | None, glance: View, reasons: Mapping[str, str] | None = None
) -> RenderableType:
    """A run at a glance, its bar and its steps, for watching."""
    bar = ProgressBar(
        total=None if run["progress"]["fraction"] is None else 1.0,
        completed=run["progress"]["fraction"] or 0.0,
        width=40,
        complete_style=DYES["running"][0],
        finished_style=DYES.get(run["state"], DYES["done"])[0],
    )
    head = Text.assemble((f"run {run['number']}", "bold"), "  ", run["workflow"], "  ")
    head.append_text(state_text(run["state"]))
    rows: list[RenderableType] = [head, glance_text(glance), bar]
    if graph:
        rows.append(Padding(part_table(graph, reasons), (1, 0, 0, 2), expand=False))
    return Group(*rows)


def went_cells(row: View) -> list[str]:
    """A row of how a workflow's runs of a day, or the attempts of one of its steps, went."""
    times = [row["median"], row["p95"], row["waited"]]
    rate = f"{100 * row['failure_rate']:.3g}%" if row["failure_rate"] else ""
    name = f"runs on {row['day']}" if "day" in row else row["address"]
    spent = ["" if time is None else seconds_text(time) for time in times]
    return [name, f"{row['ended']:,}", rate, *spent]


_PIECES = {"progress": "bold", "failed": DYES["failed"][0], "held": DYES["ready"][0]}


def glance_text(glance: View) -> Text:
    """A run on one line: progress, running steps, failures, bottleneck, time left."""
    pieces = [
        Text(piece["text"], style=_PIECES.get(piece["what"], "")) for piece in glance["pieces"]
    ]
    return Text(" · ", style="dim").join(pieces)


def print_failures(found: View) -> None:
    """What failed in a run, by kind."""
    for kind in found["kinds"][:KINDS_SHOWN]:
        many = f"{count(kind['number'], 'item')} at " if kind["in_items"] else ""
        others = len(kind["addresses"]) - 1
        where = kind["address"]
        if others:
            many = many or f"{kind['number']:,} at "
            where += f" and {count(others, 'other step')}"
        said = "" if kind["said"] == kind["type"] else f": {kind['said']}"
        out.print(Text(f"{many}{where}: {kind['type']}{said}", style=DYES["failed"][0]))
        out.print(Text(f"  the first: yarnloom show {found['run']}/{kind['first']}", style="dim"))
    if len(found["kinds"]) > KINDS_SHOWN:
        out.print(Text(f"and {len(found['kinds']) - KINDS_SHOWN} other kinds", style="dim"))


KINDS_SHOWN = 5


def rows_of(graph: View) -> list[View]:
    """The steps and eaches of a graph, in plan order; follow-ups where they have begun."""
    behind = [one for _, after in follow_ups(graph) if after.get("begun") for one in rows_of(after)]
    if graph["kind"] in ("step", "each"):
        return [graph, *behind]
    return [one for part in graph["parts"] for one in rows_of(part)] + behind


def print_end(run: View) -> None:
    """How a run ended: its output, or what went wrong and what to look at."""
    if run["state"] == "done":
        text = short_value(run["output"], 400)
        if run["output_left_out"]:
            text = (
                f"too large to be shown whole; look at its items: yarnloom show {run['number']}/…"
            )
        out.print(Text("output  ", style="dim"), text, sep="")
        if run["failures_allowed"]:
            out.print(Text(f"{run['failures_allowed']} failed, as allowed", style="dim"))
        return
    error = run["error"] or {}
    if error.get("step"):
        task = f" (task {error['task']})" if error.get("task") else ""
        out.print(Text(f"failed at {error['step']}{task}", style=DYES["failed"][0]))
        out.print(Text(f"  {error['type']}: {error['message']}"))
        out.print(Text(f"  look at: yarnloom show {error['step']}", style="dim"))
    elif error.get("message"):
        out.print(Text(error["message"], style=DYES["cancelled"][0]))
