"""Commands that stay: serve, worker, demo."""

from __future__ import annotations

import argparse
import asyncio
import contextlib
import os
import sys
from collections.abc import Coroutine
from importlib.resources import files
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from yarnloom.cli.text_streams import say
from yarnloom.client import ENDED, Target, calls
from yarnloom.errors import InvalidInput, RunFailed, StartError

if TYPE_CHECKING:
    from yarnloom.client import AsyncClient

T = TypeVar("T")

CONTACTS = "contacts.csv"
DEMO_FOLDER = "yarnloom-demo"


def serve(options: argparse.Namespace) -> int:
    """Run the service until it is told to stop."""
    from yarnloom.process_identity import cores
    from yarnloom.service.listen_address import listen, url_of
    from yarnloom.service.process_memory import loading
    from yarnloom.service.worker_process import EarlyWorker, Helpers

    processes = options.processes or max(1, cores() // options.workers)
    helpers = Helpers(tuple(options.load), options.workers, processes, Path.cwd(), options.reload)
    sock = listen(options.host, options.port)
    url = url_of(options.host, sock)
    early = [EarlyWorker(helpers, name, url, _token(options)) for name in helpers.names]
    try:
        with loading():
            from yarnloom.service import Service  # which takes as long as a worker to begin

        service = Service(_settings(options), helpers, say, sock, early)
        _run_service(service.run())
    finally:
        for one in early:
            one.give_up()
    return 0


def worker(options: argparse.Namespace, target: Target) -> int:
    """Work until told to end."""

    if not options.load:
        raise InvalidInput(
            "give --load MODULE:LOOM to run a worker, or: yarnloom worker drain NAME"
        )
    if options.detach:
        from yarnloom.cli import background_workers

        # The name is the record's, too.
        name = options.name or f"worker-{os.getpid()}"
        arguments = [one for one in sys.argv[1:] if one != "--detach"]
        arguments += [] if options.name else ["--name", name]
        return background_workers.begin(name, ", ".join(options.load), target.url, arguments)
    with contextlib.ExitStack() as stack:
        if options.record:
            from yarnloom.cli.background_workers import hold_record

            stack.enter_context(hold_record(options.record))
        return _work(options, target)


def _work(options: argparse.Namespace, target: Target) -> int:
    from yarnloom.process_identity import cores
    from yarnloom.worker.worker import WorkerOptions, run_worker

    given = {"id": options.id} if options.id else {}
    chosen = WorkerOptions(
        load=tuple(dict.fromkeys(options.load)),
        target=target,
        name=options.name,
        processes=options.processes or cores(),
        io=max(0, options.io),
        drain=options.drain,
        end_with_stdin=options.end_with_stdin,
        has=_has(options.has),
        pools=None if options.pools is None else tuple(_listed([options.pools])),
        until_idle=options.until_idle,
        replace_after=options.replace_after,
        replace_above=options.replace_above,
        reload=options.reload,
        publish=options.publish,
        **given,
    )
    asyncio.run(run_worker(chosen, say))
    return 0


def background(options: argparse.Namespace) -> int:
    """Look at this machine's workers in the background, or end one."""
    from yarnloom.cli import background_workers

    match options.words:
        case ["status"]:
            return background_workers.status(None, options.json)
        case ["status", name]:
            return background_workers.status(name, options.json)
        case ["stop", name]:
            return background_workers.stop(name)
    words = " ".join(options.words)
    raise InvalidInput(f"found `worker {words}`; expected `worker stop NAME` or `worker status`")


def _has(given: list[str]) -> tuple[str, ...]:
    """What a worker says that it has."""
    from yarnloom.plan.step_rules import words

    try:
        return words(_listed(given))
    except ValueError as error:
        raise InvalidInput(f"--has: {error}") from None


def _listed(given: list[str]) -> list[str]:
    """Words from options that hold several, by commas."""
    return [word.strip() for one in given for word in one.split(",") if word.strip()]


def demo(options: argparse.Namespace) -> int:
    """Run the tide almanac."""
    try:
        from yarnloom.demo import mailbox, web_host
        from yarnloom.demo.gauge_office import ADDRESS_VARIABLE, gauge_office
    except ModuleNotFoundError as error:
        raise StartError(
            f"the demo needs {error.name}: install it with `pip install 'yarn-loom[demo]'`"
        ) from error
    from yarnloom.process_identity import cores
    from yarnloom.service import Helpers, Service

    with contextlib.ExitStack() as stack:
        options.data = options.data or DEMO_FOLDER
        os.environ[ADDRESS_VARIABLE] = stack.enter_context(gauge_office())
        os.environ[mailbox.ADDRESS_VARIABLE] = stack.enter_context(mailbox.mailbox())
        os.environ[web_host.ADDRESS_VARIABLE] = stack.enter_context(web_host.web_host())
        say(
            f"stand-ins answer: the gauge office at {os.environ[ADDRESS_VARIABLE]}, "
            f"the mailbox at {os.environ[mailbox.ADDRESS_VARIABLE]}, "
            f"the web host at {os.environ[web_host.ADDRESS_VARIABLE]}"
        )
        helpers = Helpers(("yarnloom.demo.almanac:loom",), 2, max(1, cores() // 2), Path.cwd())
        settings = _settings(options)
        service = Service(settings, helpers, say)
        leave, token = options.exit_when_done, options.token
        return _run_service(_demo(service, leave, token, settings.data))


def _run_service(main: Coroutine[Any, Any, T]) -> T:
    """Run a service's event loop: the fast one, where there is one for this system."""
    try:
        import uvloop
    except ModuleNotFoundError:
        return asyncio.run(main)
    return uvloop.run(main)


async def _demo(service: object, leave: bool, token: str | None, folder: Path) -> int:
    from yarnloom.client import AsyncClient
    from yarnloom.service import Service

    assert isinstance(service, Service)
    codes: list[int] = []

    async def main(url: str) -> None:
        target = Target.find(url, token, "the demo's own")
        async with AsyncClient(target=target, who="demo") as client:
            codes.append(await _show_demo(client, url, folder))
        if not leave:
            say("the service stays up; Ctrl-C ends it")
            await asyncio.Event().wait()

    await service.run(main)
    return codes[0] if codes else 0


async def _show_demo(client: AsyncClient, url: str, folder: Path) -> int:
    import httpx
    from rich.live import Live
    from rich.text import Text

    from yarnloom.cli import output
    from yarnloom.cli.output import out
    from yarnloom.demo.gauge_office import ADDRESS_VARIABLE
    from yarnloom.demo.tides import SILENT
    from yarnloom.drawing import DYES

    contacts = Path(str(files("yarnloom.demo")))
    draft = await client.upload(contacts / "contacts-draft.csv")
    try:
        await client.start("yearly-almanac", contacts=draft)
    except InvalidInput as error:
        say(f"{error}\n")
    run = await client.start("yearly-almanac", contacts=await client.upload(contacts / CONTACTS))
    say(f"run {run.number}, with the list put right, makes the tide almanac of a whole coast")
    silent = await client.start("harbour-tides", harbour=SILENT)
    say(f"run {silent.number} is to fail: the gauge at {SILENT} is silent\n")
    graph, glance = None, await client.call(calls.glance_call(run.number))
    with Live(console=out, auto_refresh=False) as live:
        async for event in client.events(run.number):
            data = event.get("data") or {}
            run.data, graph = data.get("run", run.data), data.get("graph", graph)
            glance = data.get("glance", glance)
            live.update(output.run_picture(run.data, graph, glance), refresh=True)
            if run.state in ENDED and graph and graph["state"] in (*ENDED, "skipped"):
                break
    try:
        sent = await run.wait()
    except RunFailed as error:
        out.print(Text(f"\n{error.message}", style=DYES["failed"][0]))
        return 1
    almanac, letters = sent["online"], sent["mail"]["letters"]
    name = almanac["file"]["name"]
    out.print(f"\n{almanac['harbours']} harbours are bound in {name}, and {letters} letters say so")
    out.print(f"read it at {almanac['url']}, or keep it: yarnloom download {name}")
    for name in almanac["missing"]:
        out.print(
            f"{name} is missing, as is allowed: yarnloom show '{run.number}/harbours[{name}]'"
        )
    await _show_orders(client, folder)
    with contextlib.suppress(RunFailed):
        await silent.wait()
    out.print(f"run {silent.number} has {silent.state}, and the duty officer has a notice of it")
    async with httpx.AsyncClient(trust_env=False) as http:
        await http.post(f"{os.environ[ADDRESS_VARIABLE]}/repair")
    out.print(
        f"the gauge at {SILENT} is repaired by now; run again only what it kept from being done: "
        f"yarnloom mend {run.number}, yarnloom mend {silent.number}"
    )
    out.print(
        "tomorrow's waters could be announced each night: yarnloom schedule nightly-waters --resume"
    )
    out.print(f"\nThe console: {url}/runs/{run.number}")
    return 0


async def _show_orders(client: AsyncClient, folder: Path) -> None:
    """Two orders at the desk, of which one is rolled back."""
    from yarnloom.cli.output import out
    from yarnloom.client import Client
    from yarnloom.demo.orders import Desk, NotPaid, outbox
    from yarnloom.outbox import Relay

    desk = Desk(folder / "orders.db")
    key = await asyncio.to_thread(desk.order, "saltmere", 2, paid=True)
    with contextlib.suppress(NotPaid):
        desk.order("brackwater", 3, paid=False)
    with Client(target=client.target, who="demo") as relaying:
        await asyncio.to_thread(Relay(outbox, desk.connect, relaying).deliver)
    (printing,) = await client.runs(key=key)
    out.print(
        f"an order that was paid is printed by run {printing.number}; one that was rolled back is "
        "by none"
    )


def _token(options: argparse.Namespace) -> str:
    return options.token if options.token is not None else os.environ.get("YARNLOOM_TOKEN", "")


def _settings(options: argparse.Namespace):  # type: ignore[no-untyped-def]  # imported lazily
    from yarnloom.service import ServiceSettings, default_data_folder

    token = _token(options)
    extra = {name: getattr(options, name) for name in ("lease", "commit") if hasattr(options, name)}
    if hasattr(options, "keep_files"):
        extra["keep_files"] = options.keep_files
    return ServiceSettings(
        data=(Path(options.data) if options.data else default_data_folder()).absolute(),
        host=options.host,
        port=options.port,
        token=token,
        names=tuple(options.names),
        **extra,
    )
