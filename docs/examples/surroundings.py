import sqlite3
from collections.abc import Iterator
from yarnloom import Loom, RunEnded, StepContext, step

loom = Loom("surroundings")

@loom.around_process
def database() -> Iterator[sqlite3.Connection]:
    connection = sqlite3.connect(":memory:", check_same_thread=False)
    connection.execute("CREATE TABLE levels (harbour TEXT, level REAL)")
    yield connection  # ctx.kept, for every attempt of this process
    connection.close()

@loom.around_attempt
def session(ctx: StepContext) -> Iterator[sqlite3.Cursor]:
    with ctx.kept:  # commits, or rolls back where the task raises
        yield ctx.kept.cursor()  # ctx.opened, for this attempt

@loom.task
def note_level(ctx: StepContext, harbour: str, level: float) -> int:
    ctx.opened.execute("INSERT INTO levels VALUES (?, ?)", (harbour, level))
    return ctx.opened.execute("SELECT count(*) FROM levels").fetchone()[0]

@loom.on_run_end(states=["failed"])
def tell(ended: RunEnded) -> str:
    return f"run {ended.number} of {ended.workflow} has failed: {ended.error['message']}"

loom.workflow("note", plan=step("note", note_level, harbour="saltmere", level=3.2))
