"""What people read: colours and icons of states, times, tables, a run's picture in a terminal."""

from __future__ import annotations

import contextlib
import json
import sys
from datetime import UTC, datetime
from typing import Any

from rich.console import Console, Group, RenderableType
from rich.padding import Padding
from rich.progress_bar import ProgressBar
from rich.table import Table
from rich.text import Text

View = dict[str, Any]

# One dye, one icon and one word a state; the console uses the same.
DYES = {
    "waiting": ("#a39a8a", "○"),
    "scheduled": ("#a39a8a", "◷"),
    "ready": ("#c9a24b", "◔"),
    "queued": ("#c9a24b", "◔"),
    "running": ("#4a6fd0", "●"),
    "pausing": ("#9b7fc4", "◫"),
    "paused": ("#9b7fc4", "‖"),
    "backing_off": ("#d6b22c", "↻"),
    "resting": ("#8fa6b8", "☾"),
    "cancelling": ("#96694a", "◌"),
    "done": ("#2f8f8a", "✓"),
    "failed": ("#c2413b", "✗"),
    "cancelled": ("#96694a", "⊘"),
    "skipped": ("#8a8a86", "»"),
}

out = Console(highlight=False, soft_wrap=False)


def say(text: str) -> None:
    """One line for the user, on standard error, so that output can be piped."""
    with contextlib.suppress(OSError):  # whoever read it may be gone; that must not end a worker
        print(text, file=sys.stderr, flush=True)


def print_json(value: Any) -> None:
    """A value for programs."""
    print(json.dumps(value, indent=2, ensure_ascii=False))


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


def took(begin: str | None, end: str | None) -> str:
    """How long something took, or has taken until now."""
    first = parse_time(begin)
    if first is None:
        return "–"
    last = parse_time(end) or datetime.now(UTC)
    return seconds_text((last - first).total_seconds())


def seconds_text(seconds: float) -> str:
    """A duration with the one or two units that matter."""
    seconds = max(0.0, seconds)
    if seconds < 0.001:
        return "<1 ms"
    if seconds < 1:
        return f"{seconds * 1000:.0f} ms"
    if seconds < 10:
        return f"{seconds:.1f} s"
    if seconds < 60:
        return f"{seconds:.0f} s"
    minutes, rest = divmod(round(seconds), 60)
    if minutes < 60:
        return f"{minutes} min {rest} s"
    hours, minutes = divmod(minutes, 60)
    return f"{hours} h {minutes} min" if hours < 48 else f"{hours // 24} days"


def progress_text(progress: View) -> str:
    """How far something is: "3 of 5"."""
    return f"{progress['done']} of {progress['total']}"


def table(*columns: str, numbers: tuple[str, ...] = ()) -> Table:
    """An empty table in the house's style; wide cells are cut, never wrapped."""
    found = Table(box=None, pad_edge=False, padding=(0, 3, 0, 0), header_style="dim")
    for column in columns:
        justify = "right" if column in numbers else "left"
        found.add_column(column, justify=justify, no_wrap=True, overflow="ellipsis")  # type: ignore[arg-type]
    return found


def short_value(value: Any, width: int = 60) -> str:
    """A value on one line, cut where it is long."""
    text = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
    text = " ".join(text.split())
    return text if len(text) <= width else text[: width - 1] + "…"


def run_table(runs: list[View]) -> Table:
    """A list of runs."""
    found = table("run", "workflow", "state", "steps", "started", "took", numbers=("run",))
    for run in runs:
        found.add_row(
            str(run["number"]),
            run["workflow"],
            state_text(run["state"]),
            progress_text(run["progress"]),
            ago(run["created_at"]),
            took(run["started_at"], run["ended_at"]),
        )
    return found


def count(number: int, noun: str) -> str:
    """ "1 task", "2 tasks"."""
    return f"{number} {noun}" + ("" if number == 1 else "s")


def run_head(run: View) -> Text:
    """A run in one line."""
    line = Text.assemble((f"run {run['number']}", "bold"), "  ", run["workflow"], "  ")
    line.append_text(state_text(run["state"]))
    line.append(f"  {progress_text(run['progress'])} steps")
    if run["started_at"]:
        line.append(f"  {took(run['started_at'], run['ended_at'])}", style="dim")
    return line


def step_table(steps: list[View]) -> Table:
    """The steps of a run."""
    found = table("step", "state", "attempts", "worker", "took", "", numbers=("attempts",))
    for step in steps:
        error = step.get("error") or {}
        note = short_value(f"{error['type']}: {error['message']}") if error.get("type") else ""
        if step.get("skip_reason"):
            note = step["skip_reason"].replace("_", " ")
        state = state_text(step["state"], step.get("stop_asked"))
        if step["state"] == "ready" and step.get("worker"):
            state.append(f" (with worker {step['worker']})", style="dim")
        elif step["state"] == "ready":
            note = "waits for a worker with a free place"
        found.add_row(
            step["address"],
            state,
            str(step.get("attempts") or ""),
            step.get("worker") or "",
            took(step.get("started_at"), step.get("ended_at")) if step.get("started_at") else "",
            Text(note, style="dim"),
        )
    return found


def run_picture(run: View, graph: View | None) -> RenderableType:
    """A run with its progress bar and its steps, for watching."""
    progress = run["progress"]
    bar = ProgressBar(
        total=max(1, progress["total"]),
        completed=progress["done"] + progress["failed"] + progress["skipped"],
        width=40,
        complete_style=DYES["running"][0],
        finished_style=DYES.get(run["state"], DYES["done"])[0],
    )
    rows: list[RenderableType] = [run_head(run), bar]
    if graph:
        rows.append(Padding(step_table(steps_of(graph)), (1, 0, 0, 2)))
    return Group(*rows)


def steps_of(graph: View) -> list[View]:
    """The steps of a graph, in plan order."""
    if graph["kind"] == "step":
        return [graph]
    return [step for part in graph["parts"] for step in steps_of(part)]


def print_end(run: View) -> None:
    """How a run ended: its output, or what went wrong and what to look at."""
    if run["state"] == "done":
        out.print(Text("output  ", style="dim"), short_value(run["output"], 400), sep="")
        return
    error = run["error"] or {}
    if error.get("step"):
        out.print(
            Text(f"failed at {error['step']} (task {error['task']})", style=DYES["failed"][0])
        )
        out.print(Text(f"  {error['type']}: {error['message']}"))
        out.print(Text(f"  look at: yarnloom show {error['step']}", style="dim"))
    elif error.get("message"):
        out.print(Text(error["message"], style=DYES["cancelled"][0]))
