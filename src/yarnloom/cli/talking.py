"""The commands that are a conversation with a service: what each does with its options."""

from __future__ import annotations

from argparse import Namespace
from collections.abc import Callable

from yarnloom.cli import acting, control, files, limits, logs, looking, relay, schedules
from yarnloom.client import Client, Target, default_who

_Talk = Callable[[Client, Namespace], int]

TALKS: dict[str, _Talk] = {
    "publish": lambda client, o: acting.publish(client, o.looms, o.json),
    "start": lambda client, o: acting.start(
        client,
        o.workflow,
        o.param,
        o.params,
        o.file,
        delimiter=o.delimiter,
        many=o.many,
        stay=o.watch,
        as_json=o.json,
        key=o.key,
        priority=o.priority,
        share=o.share,
        tags=tuple(o.tag),
        task=o.task,
        start_in=o.start_in,
        start_at=o.at and schedules.time_of(o.at, "--at"),
        start_by=o.start_by and schedules.time_of(o.start_by, "--start-by"),
    ),
    "pause": lambda client, o: control.act(client, "pause", o),
    "resume": lambda client, o: control.act(client, "resume", o),
    "cancel": lambda client, o: control.act(client, "cancel", o),
    "mend": lambda client, o: control.act(client, "mend", o),
    "change": control.change,
    "rerun": control.rerun,
    "step": control.step,
    "ledger": lambda client, o: control.ledger(client, o.run, o.json),
    "settle": control.settle,
    "commands": control.commands,
    "published": lambda client, o: control.published(client, o.run, o.follow, o.json),
    "link": control.link,
    "links": control.links,
    "relay": relay.relay,
    "files": files.files,
    "upload": files.upload,
    "download": files.download,
    "export": files.export,
    "runs": looking.runs,
    "show": lambda client, o: looking.show(client, o.address, o.state, o.limit, o.json),
    "graph": lambda client, o: looking.graph(client, o.what, "json" if o.json else o.form),
    "watch": lambda client, o: looking.watch(client, o.run),
    "why": lambda client, o: limits.why(client, o.address, o.json),
    "log": logs.log,
    "filters": lambda client, o: looking.filters(client, o.drop, o.reason, o.json),
    "workflows": lambda client, o: looking.workflows(client, o.workflow, o.days, o.json),
    "tasks": lambda client, o: looking.tasks(client, o.task, o.code, o.json),
    "pools": lambda client, o: limits.pools(client, o.json),
    "pool": limits.pool,
    "schedules": lambda client, o: schedules.schedules(client, o.json),
    "schedule": schedules.schedule,
    "workers": lambda client, o: looking.workers(client, o.json),
    "worker": lambda client, o: limits.drain(client, limits.drained(o.words), o.reason, o.json),
}


def talk(options: Namespace, target: Target) -> int:
    """Do a command."""
    with Client(target=target, who=default_who("cli")) as client:
        return TALKS[options.command](client, options)
