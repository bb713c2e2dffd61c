"""Run every measurement, or those that are named: throughput, latency, idle, wide, limits, …"""

from __future__ import annotations

import sys
from collections.abc import Iterable
from statistics import median

from bench import (
    console,
    control,
    files,
    growth,
    handlers,
    idle,
    latency,
    limits,
    loaded,
    notices,
    reading,
    rows,
    starts,
    startup,
    stops,
    throughput,
    watchers,
    wide,
)

GOALS = {"each": 3.0, "ready": 2.0, "kilobytes": 2.0, "pool": 0.8, "retries": 1.5, "chain": 1.5}


def show_throughput(kinds: Iterable[str] = ("each", "chain")) -> None:
    """No-op steps a second."""
    for kind in kinds:
        rounds = throughput.measure(kind)
        for one in rounds:
            parts = ", ".join(f"{role} {spent:.0f}" for role, spent in one.processor.items())
            print(
                f"  {one.steps:8,.0f} steps/s, pool {one.calls:8,.0f} calls/s, ratio "
                f"{one.ratio:.2f}; {sum(one.processor.values()):.0f} us a step: {parts}"
            )
        ratio = median(one.ratio for one in rounds)
        print(f"{kind}: {ratio:.2f} times a process pool (goal {GOALS[kind]})")


def show_loaded() -> None:
    """An each beside processes that spin."""
    costs = loaded.measure()
    print(f"  {costs.quiet:.0f} us a step quiet, {costs.loaded:.0f} beside {loaded.SPINNING}")
    print(f"  items with rows: {', '.join(map(str, costs.rows))}")
    print(
        f"loaded: {costs.loaded / costs.quiet:.2f} times the processor time a step (goal 1.5), "
        f"{median(costs.rows):.0f} of {loaded.ITEMS:,} items with rows (goal 100)"
    )


def show_kinds() -> None:
    """The same for what real tasks have."""
    show_throughput(("ready", "kilobytes", "pool", "retries"))


def show_latency() -> None:
    """Start to result."""
    results, trips, begins = latency.measure()
    print(f"  start to result {latency.summary(results)}")
    print(f"  bare round trip {latency.summary(trips)}")
    print(f"  start to begin  {latency.summary(begins)}")
    print(f"latency: {median(results) / median(trips):.2f} bare round trips (goal 4)")
    steps, trips = latency.measure_chain()
    print(f"chain: {median(steps) / median(trips):.2f} bare round trips a step (goal 2)")


def show_growth() -> None:
    """Very many items."""
    found = growth.measure()
    print(f"  {found.few:.0f} us a step of {growth.FEW:,}, {found.many:.0f} of {growth.MANY:,}")
    print(f"growth: {found.many / found.few:.2f} times the cost of a step of few (goal 1.2)")
    print(f"disk: {found.disk:.0f} bytes a finished step (goal 100)")
    print(f"memory: the service had at most {found.memory / 1e6:.0f} MB (goal 150)")


def show_idle() -> None:
    """Processor time while nothing happens."""
    share = idle.measure() * 100
    print(f"idle: {share:.2f}% of one core, with {idle.WORKERS} workers (goal under 0.5%)")


def show_wide() -> None:
    """A long list against a short one."""
    few, many = wide.measure()
    cost = [median(one.seconds / one.steps for one in pieces) * 1e6 for pieces in (few, many)]
    memory = [one.memory / 2**20 for one in many]
    print(f"  {wide.FEW:7,} items {cost[0]:.0f} us a step, {wide.MANY:7,} items {cost[1]:.0f} us")
    first, halfway, last = memory[0], memory[len(memory) // 2], memory[-1]
    print(f"  memory {first:.0f} MB, halfway {halfway:.0f} MB, at the end {last:.0f} MB")
    print(f"wide: {cost[1] / cost[0]:.2f} times the cost a step of a short list (goal 1.2)")


def show_rows() -> None:
    """A million rows through the real service."""
    found = rows.measure()
    few, many = median(found.few) * 1e6, found.many * 1e6
    print(f"  {rows.FEW:9,} rows {few:.0f} us a step, {rows.MANY:9,} rows {many:.0f} us")
    print(f"  the large file was checked in {found.checked:.1f} s")
    paused, cancelled = found.paused * 1e3, found.cancelled * 1e3
    print(f"  in the middle: paused after {paused:.0f} ms, cancelled after {cancelled:.0f} ms")
    if found.page is not None:
        print(f"  the page of the run was usable after {found.page:.2f} s (goal 1)")
    print(f"  peak of the service's address space {found.peak / 1e6:.0f} MB (limit 250)")
    print(f"rows: {many / few:.2f} times the cost a step of a small run (goal 1.2)")


def show_files() -> None:
    """A large file up and down."""
    found = files.measure()
    print(f"  flushed copy {found.copy:.1f} s, up {found.up:.1f} s, down {found.down:.1f} s")
    print(f"  peak of the service's address space {found.peak / 1e6:.0f} MB (limit 300)")
    print(f"files: up {found.up / found.copy:.1f}, down {found.down / found.copy:.1f} copies")


def show_limits() -> None:
    """A pool's limit raised, and its pause."""
    raises, trips, begun_in_pause = limits.measure()
    print(f"  nine more begun {latency.summary(raises)}, longest {max(raises) * 1e3:.1f} ms")
    print(f"  bare round trip {latency.summary(trips)}")
    print(f"  begun in a pause: {begun_in_pause}")
    ratio = median(raises) / median(trips)
    print(f"limits: {ratio:.1f} bare round trips from raising to begun (goal: under 50 ms)")


def show_control() -> None:
    """A cancel, until it is heard."""
    heard, trips = control.measure()
    worst = sorted(heard)[int(0.95 * len(heard))]
    print(f"  cancel heard    {latency.summary(heard)}")
    print(f"  bare round trip {latency.summary(trips)}")
    ratio = worst / median(trips)
    print(
        f"control: 95% of cancels heard within {worst * 1e3:.0f} ms, {ratio:.1f} bare round trips "
        "(goal: 100 ms)"
    )


def show_stops() -> None:
    """A cancel of what cannot hear of it, until the run has ended."""
    waits, trips = stops.measure()
    worst = {name: sorted(them)[int(0.95 * len(them))] for name, them in waits.items()}
    for name, them in waits.items():
        print(f"  {name:14} {latency.summary(them)}, 95% within {worst[name] * 1e3:.0f} ms")
    print(f"  bare round trip {latency.summary(trips)}")
    ratio = max(worst.values()) / median(trips)
    print(
        f"stops: 95% of cancels ended within {max(worst.values()) * 1e3:.0f} ms, {ratio:.0f} bare "
        "round trips (goal: 150 ms)"
    )


def show_watchers() -> None:
    """A thousand watchers of one run."""
    rounds = watchers.measure()
    for alone, watched, saw in rounds:
        print(
            f"  {alone:7,.0f} steps/s alone, {watched:7,.0f} watched; "
            f"{saw:,} of {watchers.WATCHERS:,} saw the end"
        )
    lost = 1 - median(watched / alone for alone, watched, _ in rounds)
    print(f"watchers: {100 * lost:.1f}% of the steps a second are lost (goal under 5%)")


def show_starts() -> None:
    """Ten thousand starts in one request."""
    found = starts.measure()
    many, few = found.many / starts.MANY, found.few / starts.FEW
    spent = f"{found.many:.2f} s, all opened after {found.opened:.1f} s"
    print(f"  {starts.MANY:,} acknowledged in {spent}")
    print(f"  one by one {few * 1e6:.0f} us each, together {many * 1e6:.0f} us each")
    longest = f"longest {max(found.waits):.2f} s"
    print(f"  a bare look meanwhile {latency.summary(found.waits)}, {longest}")
    print(f"  a bare look alone     {latency.summary(found.alone)}")
    print(f"starts: {few / many:.1f} times as fast as one by one")


def show_console() -> None:
    """A bundle of 100,000 items, and a graph of 2,000 steps."""
    found = console.measure()
    few, many = console.medians(found.few), console.medians(found.many)
    for count, opened in ((console.FEW, few), (console.MANY, many)):
        parts = ", ".join(f"{part} {seconds * 1e3:.0f} ms" for part, seconds in opened.items())
        print(f"  {count:7,} items: {parts}")
    for name, times in (("whole", found.whole), ("near", found.near), ("still", found.still)):
        usual, late = median(times) * 1e3, console.late(times) * 1e3
        frames = f"frames of {usual:.0f} ms, 95% within {late:.0f} ms"
        print(f"  {console.STEPS:,} steps, {name:5}: {frames}")
    ratio = sum(many.values()) / sum(few.values())
    print(f"console: {ratio:.2f} times as long for 100,000 items as for ten (goal: under 1 s)")


def show_reading() -> None:
    """Pages of very large runs."""
    found = reading.measure()
    (alone, spent), (beside, more) = found.alone, found.beside
    print(f"  {alone:,.0f} items/s alone, the service {spent:.0f} us an item")
    print(f"  {beside:,.0f} items/s beside a reader, the service {more:.0f} us an item")
    for name, times in found.pages.items():
        print(f"  {name:12} {latency.summary(times)}, longest {max(times) * 1e3:.0f} ms")
    slowest = max(median(times) for times in found.pages.values()) * 1e3
    print(f"reading: at most {slowest:.0f} ms a page of {reading.MANY:,} items (goal 100)")
    print(f"reading: {beside / alone:.2f} times the items a second beside it (goal 1)")
    size = f"{found.size / 1e6:.0f} MB of {reading.RECORDED:,} items"
    print(f"record: {found.record:.1f} s of processor time for {size} (goal 5)")


def show_notices() -> None:
    """Lines about runs on the service's terminal."""
    said, quiet = notices.measure()
    for name, found in (("said", said), ("quiet", quiet)):
        spent = median(found.processor) / notices.RUNS * 1e6
        print(f"  {name:5} {median(found.seconds):.2f} s, {spent:.0f} us of the service a run")
    ratio = median(said.processor) / median(quiet.processor)
    print(f"notices: {ratio:.2f} times the processor time of a quiet service (goal 1.05)")


def show_handlers() -> None:
    """How long one callback holds the event loop."""
    found = handlers.measure()
    for took, what in found.slowest[:5]:
        print(f"  {took:.1f} ms: {what[:120]}")
    print(f"  answers {sorted(found.statuses)}")
    longest = found.slowest[0][0]
    print(
        f"handlers: at most {longest:.0f} ms of the loop's thread (goal 20), "
        f"{longest / found.reference:.2f} times as long as a megabyte of JSON is parsed"
    )


def show_startup() -> None:
    """From nothing to the first step."""
    rounds = startup.measure()
    facts = ("listens", "works", "begun", "processor", "reference", "help")
    found = {name: median(getattr(one, name) for one in rounds) for name in facts}
    print(
        f"  listens after {found['listens']:.2f} s, takes work after {found['works']:.2f} s, first "
        f"step done after {found['begun']:.2f} s (goal 1), {found['processor']:.2f} s of processor"
    )
    print(f"  importing FastAPI takes {found['reference']:.2f} s")
    print(f"  yarnloom --help {found['help'] * 1e3:.0f} ms (goal 80)")
    print(f"startup: {found['begun'] / found['reference']:.1f} times the import of FastAPI")


MEASUREMENTS = {
    "startup": show_startup,
    "throughput": show_throughput,
    "kinds": show_kinds,
    "loaded": show_loaded,
    "latency": show_latency,
    "growth": show_growth,
    "idle": show_idle,
    "wide": show_wide,
    "limits": show_limits,
    "rows": show_rows,
    "files": show_files,
    "control": show_control,
    "stops": show_stops,
    "watchers": show_watchers,
    "starts": show_starts,
    "console": show_console,
    "reading": show_reading,
    "handlers": show_handlers,
    "notices": show_notices,
}

if __name__ == "__main__":
    for name in sys.argv[1:] or MEASUREMENTS:
        MEASUREMENTS[name]()
