"""The commands that are a conversation with a service: what each does with its options."""

from __future__ import annotations

from argparse import Namespace
from collections.abc import Callable

from yarnloom.cli import files, log, outbox, pools, run_actions, schedules, show, start
from yarnloom.client import Client, Target, default_who

_Talk = Callable[[Client, Namespace], int]

TALKS: dict[str, _Talk] = {
    "publish": lambda client, o: start.publish(client, o.looms, o.json),
    "start": lambda client, o: start.start(
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
    "pause": lambda client, o: run_actions.act(client, "pause", o),
    "resume": lambda client, o: run_actions.act(client, "resume", o),
    "cancel": lambda client, o: run_actions.act(client, "cancel", o),
    "mend": lambda client, o: run_actions.act(client, "mend", o),
    "change": run_actions.change,
    "rerun": run_actions.rerun,
    "step": run_actions.step,
    "ledger": lambda client, o: run_actions.ledger(client, o.run, o.json),
    "settle": run_actions.settle,
    "commands": run_actions.commands,
    "published": lambda client, o: run_actions.published(client, o.run, o.follow, o.json),
    "link": run_actions.link,
    "links": run_actions.links,
    "relay": outbox.relay,
    "files": files.files,
    "upload": files.upload,
    "download": files.download,
    "export": files.export,
    "runs": show.runs,
    "show": lambda client, o: show.show(client, o.address, o.state, o.limit, o.json),
    "graph": lambda client, o: show.graph(client, o.what, "json" if o.json else o.form),
    "watch": lambda client, o: show.watch(client, o.run),
    "why": lambda client, o: pools.why(client, o.address, o.json),
    "log": log.log,
    "filters": lambda client, o: show.filters(client, o.drop, o.reason, o.json),
    "workflows": lambda client, o: show.workflows(client, o.workflow, o.days, o.json),
    "tasks": lambda client, o: show.tasks(client, o.task, o.code, o.json),
    "pools": lambda client, o: pools.pools(client, o.json),
    "pool": pools.pool,
    "schedules": lambda client, o: schedules.schedules(client, o.json),
    "schedule": schedules.schedule,
    "workers": lambda client, o: show.workers(client, o.json),
    "worker": lambda client, o: pools.drain(client, pools.drained(o.words), o.reason, o.json),
}


def talk(options: Namespace, target: Target) -> int:
    """Do a command."""
    with Client(target=target, who=default_who("cli")) as client:
        return TALKS[options.command](client, options)
