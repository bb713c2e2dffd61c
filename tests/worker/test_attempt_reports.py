"""What the service hears of attempts: never a secret, and all that was saved."""

from __future__ import annotations

from tests.worker.fakes import Rooms, with_rooms, work

SECRET = "the-harbour-master"


def test_secrets_of_an_attempt_are_masked() -> None:
    """In lines, records and errors; an output that holds one is refused."""

    def do(rooms: Rooms) -> None:
        process = rooms.process
        rooms.take(work(1, secrets=[SECRET]))
        process.tell(kind="line", attempt=1, stream="stdout", text=f"sent by {SECRET}")
        process.tell(kind="saved", attempt=1, saved={"note": SECRET})
        end = {"kind": "ended", "attempt": 1, "outcome": "done", "output": [SECRET]}
        process.tell(**end, at=(1.0, 2.0), cpu=None, memory=None)

        rooms.take(work(2, secrets=[SECRET]))
        error = {"type": "OSError", "message": f"{SECRET} is away"}
        process.tell(kind="ended", attempt=2, outcome="failed", error=error, at=(1.0, 2.0))

    reports = with_rooms(do).reports
    assert [item["outcome"] for item in reports.items] == ["failed", "failed"]
    assert SECRET not in str(reports.items) + str(reports.lines) + str(reports.records)


def test_the_end_of_an_attempt_carries_what_it_saved() -> None:
    """Also where its process has died."""

    def do(rooms: Rooms) -> None:
        process = rooms.process
        rooms.take(work(1, saved={"place": 1}))
        process.tell(kind="saved", attempt=1, saved={"place": 2})
        process.die(1)

    (item,) = with_rooms(do).reports.items
    assert item["saved"] == {"place": 2}


def test_a_line_of_no_attempt_is_said_to_the_user() -> None:
    """What a process prints between attempts is nobody's."""

    def do(rooms: Rooms) -> None:
        rooms.process.tell(kind="line", attempt=None, stream="stdout", text="hello")

    assert with_rooms(do).said == ["a process between attempts: hello"]
