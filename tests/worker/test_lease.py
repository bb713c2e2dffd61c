"""The lease of a worker, with a clock that the test moves."""

from __future__ import annotations

from tests.worker.fakes import FakeClock
from yarnloom.worker.clock import SURE, Lease


def test_a_lease_that_nobody_renews_is_over_once() -> None:
    """And again after another whole one."""
    clock, over = FakeClock(), []
    lease = Lease(clock, lambda: over.append(clock.time), lambda until: None)
    lease.set(10.0)
    lease.watch()
    clock.advance(5.0)
    lease.renew(lease.now())
    clock.advance(SURE * 10.0 - 0.1)
    assert over == []
    clock.advance(0.2)

    assert len(over) == 1
    assert not lease.is_over
    clock.advance(1.0)
    assert lease.is_over


def test_a_lease_counts_from_when_a_request_was_sent() -> None:
    """An answer that took long renews it for less."""
    clock, heard = FakeClock(), []
    lease = Lease(clock, lambda: None, heard.append)
    lease.set(10.0)
    sent = lease.now()
    clock.advance(9.0)
    lease.renew(sent)
    clock.advance(1.5)

    assert lease.is_over
    assert len(heard) == 2
