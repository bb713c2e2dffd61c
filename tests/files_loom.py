"""The loom for files and rows: letters to a list of contacts, and numbers by the thousand."""

from __future__ import annotations

from pathlib import Path

from pydantic import BaseModel, Field

from tests.long_loom import nap
from yarnloom import (
    AsyncStepContext,
    File,
    Loom,
    Rows,
    StepContext,
    bad_rows,
    each,
    failures,
    item,
    output,
    parallel,
    param,
    previous,
    sequence,
    step,
)

loom = Loom("files")

PAD = "." * 300
"""So long that a thousand letters are no value any more."""


class Contact(BaseModel):
    """Who gets a letter; nobody can write nine copies."""

    harbour: str = Field(min_length=1)
    address: str = Field(pattern=r"^[^@ ]+@[^@ ]+$")
    copies: int = Field(1, ge=1, le=9)


class Letters(BaseModel):
    """A list, and what stands above each letter."""

    contacts: Rows[Contact]
    head: File | None = None


@loom.task
def write(contact: Contact) -> str:
    """A letter."""
    if contact.copies == 9:
        raise ValueError("nine are too many")
    return f"to {contact.harbour}{PAD}"


@loom.task
def count_contacts(contacts: list[Contact]) -> int:
    """How many are in a batch."""
    return len(contacts)


@loom.task
def bind(ctx: StepContext, letters: Rows[str], head: File | None) -> File:
    """All letters in one file, one in memory at a time."""
    lines = [head.read_text() if head else "no head"]
    lines += [letter.rstrip(".") for letter in ctx.track(letters)]
    return ctx.save_file("\n".join(lines).encode(), "letters.txt")


@loom.task
def weigh(letters: list[str | None], bad: list[dict[str, object]]) -> list[int]:
    """The same as plain lists."""
    return [len(letters), letters.count(None), len(bad)]


@loom.task
async def read_back(letters: File, contacts: Rows[Contact]) -> list[int]:
    """Files in an async task: they are there when it begins."""
    return [letters.size, len(letters.read_bytes()), sum(1 for _ in contacts), len(contacts)]


loom.workflow(
    "letters",
    params=Letters,
    plan=sequence(
        each(
            "write",
            over=param("contacts"),
            name=item("harbour"),
            may_fail="5%",
            do=step("one", write, contact=item()),
        ),
        parallel(
            "then",
            step("bind", bind, letters=output("write", only="done"), head=param("head")),
            step("weigh", weigh, letters=output("write"), bad=failures("write")),
            each(
                "batches",
                over=param("contacts"),
                batch=300,
                do=step("count", count_contacts, contacts=item()),
            ),
            step("read", read_back, letters=output("bind"), contacts=param("contacts")),
        ),
    ),
)


# Lists that a step makes


class Count(BaseModel):
    """How many numbers."""

    count: int
    repeat: bool = False


@loom.task
def make_numbers(ctx: StepContext, count: int, repeat: bool) -> Rows[int]:
    """So many, one after the other; with `repeat` the last twice."""
    return ctx.save_rows([*range(count), *([count - 1] if repeat else [])])


@loom.task
def double(number: int) -> int:
    """Twice as much."""
    return 2 * number


@loom.task
def add_up(numbers: Rows[int]) -> int:
    """Their sum."""
    return sum(numbers)


loom.workflow(
    "numbers",
    params=Count,
    plan=sequence(
        step("make", make_numbers, count=param("count"), repeat=param("repeat")),
        each("all", over=previous, name=item(), do=step("double", double, number=item())),
        step("sum", add_up, numbers=previous),
    ),
)


class Pair(BaseModel):
    """Two files, and a folder for marks."""

    one: File
    folder: str = ""


@loom.task
def copy_file(ctx: StepContext, one: File) -> File:
    """The same bytes under another name, from a path."""
    return ctx.save_file(one.path(), f"copy of {one.name}", one.media_type)


@loom.task
async def copy_later(ctx: AsyncStepContext, one: File) -> File:
    """The same in an async task."""
    return await ctx.save_file(one.read_bytes(), f"later {one.name}", one.media_type)


@loom.task
def invent() -> File:
    """A file that nobody keeps."""
    return File(sha256="ab" * 32, name="nowhere.txt", size=3)


@loom.task
def walk_rows(ctx: StepContext, rows: Rows[int], folder: str) -> list[int]:
    """Every row, with a mark for each that was begun; slowly, so that it can be stopped."""
    loop = ctx.track(rows, carry={"seen": []})
    for number in loop:
        loop.carry["seen"].append(number)
        with (Path(folder) / "rows").open("a", encoding="utf-8") as file:
            file.write(f"{number}\n")
        nap(0.01)
    return list(loop.carry["seen"])


class Walk(BaseModel):
    """Numbers to walk over."""

    rows: Rows[int]
    folder: str


loom.workflow("copies", params=Pair, plan=step("copy", copy_file, one=param("one")))
loom.workflow("later", params=Pair, plan=step("copy", copy_later, one=param("one")))
loom.workflow("invents", plan=step("invent", invent))
loom.workflow(
    "walks", params=Walk, plan=step("walk", walk_rows, rows=param("rows"), folder=param("folder"))
)


class Level(BaseModel):
    """One row of an office's file."""

    Hafen: str
    Pegel: float
    Kopien: int = 1


class Levels(BaseModel):
    """A file with decimal commas."""

    levels: Rows[Level]


@loom.task
def sum_up(levels: Rows[Level], bad: File | None) -> dict[str, int | str | None]:
    """How many rows there are, and what the file of the others is called."""
    return {"rows": sum(1 for _ in levels), "bad": bad and bad.name}


loom.workflow(
    "levels",
    params=Levels,
    plan=step("sum", sum_up, levels=param("levels"), bad=bad_rows("levels")),
)


@loom.task
def keep_level(level: Level) -> float:
    """Its level."""
    return level.Pegel


loom.workflow(
    "each-level",
    params=Levels,
    plan=each("few", over=param("levels"), do=step("keep", keep_level, level=item())),
)
