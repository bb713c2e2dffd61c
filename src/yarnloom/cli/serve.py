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

from yarnloom.cli.options import Add, Parser, duration, listen_options, notice_options, positive
from yarnloom.cli.text_streams import say
from yarnloom.client import ENDED, Target, default_who, http_requests
from yarnloom.errors import InvalidInput, RunFailed, StartError

if TYPE_CHECKING:
    from yarnloom.client import AsyncClient
    from yarnloom.service import ServiceSettings
    from yarnloom.settings.model import FoundSettings, Settings

T = TypeVar("T")

CONTACTS = "contacts.csv"
DEMO_FOLDER = "yarnloom-demo"


def serve(options: argparse.Namespace) -> int:
    """Run the service until it is told to stop; or in the background; or look at, or end, that."""
    if options.words or options.detach:
        from yarnloom.cli import background_service

        return background_service.do(options)
    from yarnloom.process_identity import cores
    from yarnloom.service.http.listen_address import open_door
    from yarnloom.service.processes.process_memory import loading
    from yarnloom.service.processes.worker_process import EarlyWorker, Helpers
    from yarnloom.settings.project import prepare_data_folder

    settings_here = _found_settings(options)
    values, project = settings_here.values, settings_here.project
    processes = values.processes or max(1, cores() // values.workers)
    folder = Path.cwd()
    if project is not None:
        say(f"settings of {project.file}")
        if settings_here.origins["load"] == str(project.file):
            folder = project.file.parent
        if settings_here.origins["data"] == f"beside {project.file}":
            prepare_data_folder(values.data)
    helpers = Helpers(
        values.load,
        values.workers,
        processes,
        folder,
        values.reload,
        str(values.task_token.absolute()) if values.task_token else "",
        values.relay,
        drain=options.drain,
    )
    # Of several projects each has its own service: only one can have the usual port.
    door = open_door(
        values.host,
        values.port,
        any_if_taken=project is not None and settings_here.origins["port"] == "default",
    )
    early = [EarlyWorker(helpers, name, door.url_of_own) for name in helpers.names]
    try:
        with loading():
            from yarnloom.service import (  # which takes as long as a worker to begin
                Notices,
                Service,
            )

        settings = _service_settings(values)
        notices = None if options.quiet else Notices(options.show_prints)
        service = Service(
            settings,
            helpers,
            say,
            door,
            early,
            notices,
            signs_in=_signs_in(),
            release=options.held_release,
        )
        _run_service(service.run())
    finally:
        for one in early:
            one.give_up()
    return 0


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
        settings = _service_settings(_found_settings(options, of_project=False).values)
        service = Service(settings, helpers, say, signs_in=_signs_in())
        return _run_service(_demo(service, options.exit_when_done, settings.data))


def _signs_in() -> str:
    """Return the user for the sign-in address; "" where the output is no terminal."""
    return default_who("cli") if sys.stderr.isatty() else ""


SWITCH_SECONDS = 0.001
"""After which a thread that reads gets a turn beside the event loop; Python's own is five times it.

A reader waits so long again for each row, while the loop is busy.
"""


def _run_service(main: Coroutine[Any, Any, T]) -> T:
    """Run a service's event loop: the fast one, where there is one for this system."""
    sys.setswitchinterval(SWITCH_SECONDS)
    try:
        import uvloop
    except ModuleNotFoundError:
        return asyncio.run(main)
    return uvloop.run(main)


async def _demo(service: object, leave: bool, folder: Path) -> int:
    from yarnloom.client import AsyncClient
    from yarnloom.service import Service

    assert isinstance(service, Service)
    codes: list[int] = []

    async def main(url: str) -> None:
        target = Target.find(url, "", "the demo's own")
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
    graph, glance = None, await client.call(http_requests.glance_request(run.number))
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
        out.print(Text(f"\n{error.text}", style=DYES["failed"][0]))
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
    address = f"{url}/runs/{run.number}"
    if _signs_in():
        signed_in = await client.call(http_requests.sign_in_request(f"/runs/{run.number}"))
        address = signed_in["address"]
    out.print(f"\nThe console: {address}", soft_wrap=True)
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
    (printing,) = [run async for run in client.runs(key=key)]
    out.print(
        f"an order that was paid is printed by run {printing.number}; one that was rolled back is "
        "by none"
    )


_OPTIONS = (
    *("data", "host", "port", "names", "public_url", "load", "workers", "processes"),
    *("reload", "lease", "commit", "keep_files"),
)


def _found_settings(options: argparse.Namespace, *, of_project: bool = True) -> FoundSettings:
    """Find the settings of a service; say what is odd about them."""
    from yarnloom.settings.model import find_settings

    given = {name: getattr(options, name, None) for name in _OPTIONS}
    settings = find_settings(given) if of_project else find_settings(given, lambda: None)
    for warning in settings.warnings:
        say(f"warning: {warning}")
    return settings


def _service_settings(values: Settings) -> ServiceSettings:
    from yarnloom.service import ServiceSettings

    return ServiceSettings(
        data=values.data.absolute(),
        host=values.host,
        port=values.port,
        names=values.names,
        public_url=values.public_url.rstrip("/"),
        embed=values.embed,
        lease=values.lease,
        commit=values.commit,
        keep_files=values.keep_files,
    )


# What can be typed


def add_parsers(add: Add, service: Parser, reading: Parser) -> None:
    """Add what can be typed."""
    demo_parser = add("demo")
    listen_options(demo_parser)
    demo_parser.add_argument(
        "--exit-when-done", action="store_true", help="end with the run instead of staying up"
    )
    demo_parser.set_defaults(run_here=demo)

    serve_parser = add("serve")
    listen_options(serve_parser)
    serve_parser.add_argument(
        "--load",
        action="append",
        default=[],
        metavar="MODULE:LOOM",
        help="publish this loom and work for it; give it again for another",
    )
    serve_parser.add_argument("--workers", type=positive, help="workers to start (default 1)")
    serve_parser.add_argument(
        "--processes", type=positive, help="processes of each worker (default: the cores, shared)"
    )
    serve_parser.add_argument(
        "--reload",
        action="store_true",
        default=None,
        help="publish again, and replace the workers' processes, when code changes",
    )
    serve_parser.add_argument(
        "--lease",
        type=float,
        metavar="SECONDS",
        help="how long a silent worker is thought to live (default 30)",
    )
    serve_parser.add_argument(
        "--commit",
        choices=["auto", "loop", "thread"],
        help="where commits run; auto decides by how fast the disk is",
    )
    serve_parser.add_argument(
        "--keep-files",
        type=duration,
        metavar="TIME",
        help="how long a file is kept that no run uses (default 1d)",
    )
    serve_parser.add_argument(
        "--drain",
        type=duration,
        metavar="TIME",
        help="time that running attempts get when the service ends (default 10s)",
    )
    serve_parser.add_argument(
        "words",
        nargs="?",
        choices=["status", "stop"],
        metavar="status|stop",
        help="instead of running one: say whether one runs for the data folder, or end it",
    )
    serve_parser.add_argument(
        "--detach", action="store_true", help="stay in the background when this command has ended"
    )
    serve_parser.add_argument("--json", action="store_true", help="of status: print JSON")
    serve_parser.add_argument("--held-release", type=float, help=argparse.SUPPRESS)
    notice_options(serve_parser, "runs")
    serve_parser.set_defaults(run_here=serve)
