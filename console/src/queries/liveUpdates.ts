import {
  useQueryClient,
  type InfiniteData,
  type QueryClient,
  type QueryFilters,
} from "@tanstack/react-query";
import { useEffect, useState } from "react";

import { watch, watchLog, type Change, type LinkState } from "../api/liveEvents";
import type { LogLine, Part, Run, StepPart } from "../api/types";
import { keys, type RunFilter } from "./queryClient";
import { takePool } from "./pools";
import { put } from "./updateCache";
import type { RunPage } from "./runs";
import { takeSchedule } from "./schedules";

/** Keep what all pages show as it is; says whether the stream stands. */
export function useLive(): LinkState {
  const client = useQueryClient();
  const [link, setLink] = useState<LinkState>("connecting");
  useEffect(
    () =>
      watch(null, {
        onLink: setLink,
        onChange: (change) => take(client, change),
        onSnapshot: () => {
          for (const queryKey of LISTS) void client.invalidateQueries({ queryKey });
          // What the service could not answer, it may now.
          void client.refetchQueries({ predicate: ({ state }) => state.status === "error" });
        },
      }),
    [client],
  );
  return link;
}

/** Keep what is shown of one run as it is, with its graph. */
export function useLiveRun(run: number): void {
  const client = useQueryClient();
  useEffect(
    () =>
      watch(run, {
        onLink: () => undefined,
        onChange: (change, of) => {
          if (of === run) takeOfRun(client, run, change);
        },
        onSnapshot: () => lookAgainAt(client, run),
      }),
    [client, run],
  );
}

const LOG_SHOWN = 2_000;

/** Add what an attempt prints to its log as it comes; of very much the newest lines stay. */
export function useLiveLog(run: number, address: string, live: boolean): void {
  const client = useQueryClient();
  useEffect(() => {
    if (!live) return undefined;
    const key = keys.log(run, address);
    return watchLog(run, address, (line) =>
      client.setQueryData<{ lines: LogLine[] }>(key, (before) => {
        const lines = before?.lines ?? [];
        const last = lines.at(-1)?.line ?? -1;
        return line.line > last ? { lines: [...lines, line].slice(-LOG_SHOWN) } : before;
      }),
    );
  }, [client, run, address, live]);
}

const LISTS = [
  ["runs"],
  keys.pools,
  keys.workers,
  keys.schedules,
  keys.counts,
  keys.overview,
  ["pool-use"],
  ["why"],
];

/** What is asked again when something changed, and how long changes are gathered for it. */
const AGAIN = {
  why: 500,
  runs: 500,
  counts: 1_000,
  attempts: 1_000,
  overview: 5_000,
  "pool-use": 2_000,
  items: 300,
  step: 300,
  log: 300,
  ledger: 1_000,
  commands: 1_000,
  published: 1_000,
  failures: 2_000,
  times: 2_000,
};
const timers = new Map<string, number>();

/**
 * Ask something again, once for all changes of a while. What is still being asked is not given up,
 * or it would never be there while much changes; it is asked once more after it.
 */
function lookAgain(
  client: QueryClient,
  what: keyof typeof AGAIN,
  which: QueryFilters = { queryKey: [what] },
): void {
  // Two steps that change in one while are two questions: a timer for each.
  const name = `${what} ${nameOf(which)}`;
  if (timers.has(name)) return;
  const again = () => {
    timers.delete(name);
    if (client.isFetching(which)) lookAgain(client, what, which);
    else void client.invalidateQueries(which);
  };
  timers.set(name, window.setTimeout(again, AGAIN[what]));
}

/** What a filter asks for, as text. */
function nameOf({ queryKey }: QueryFilters): string {
  return JSON.stringify(queryKey ?? []);
}

/** Changes of a run may have been missed: all that is shown of it is asked for again. */
function lookAgainAt(client: QueryClient, run: number): void {
  void client.invalidateQueries({
    predicate: ({ queryKey: [kind, number] }) => number === run && kind !== "past",
  });
}

function take(client: QueryClient, { run, pool, workers, schedule }: Change): void {
  if (run) {
    put(client, keys.run(run.number), run);
    takeIntoLists(client, run);
    lookAgain(client, "counts");
  }
  if (pool) {
    takePool(client, pool);
    lookAgain(client, "pool-use");
  }
  if (schedule) takeSchedule(client, schedule);
  if (workers) put(client, keys.workers, { workers });
  if (run || pool || workers) {
    lookAgain(client, "overview");
    lookAgain(client, "why");
  }
}

/** A change of one run that is shown: of it, or of its graph. */
function takeOfRun(client: QueryClient, number: number, { run, graph, glance }: Change): void {
  if (glance) put(client, keys.glance(number), glance);
  if (run) {
    for (const what of ["ledger", "commands", "published"] as const) lookAgain(client, what);
  }
  if (graph) {
    const before = client.getQueryData<Part>(keys.graph(number, ""));
    put(client, keys.graph(number, ""), graph);
    if (before) refreshOpenSteps(client, number, before, graph);
    refreshItems(client, number);
    lookAgain(client, "attempts");
  }
  if (run || graph) {
    lookAgain(client, "failures");
    lookAgain(client, "times");
  }
}

/** What stands in items is not in the frames: what is open of it is asked for again. */
function refreshItems(client: QueryClient, run: number): void {
  lookAgain(client, "items", {
    predicate: ({ queryKey: [kind, number, address] }) =>
      number === run &&
      (kind === "items" || (kind === "graph" && address !== "") || isInItem(kind, address)),
  });
}

function isInItem(kind: unknown, address: unknown): boolean {
  return (kind === "step" || kind === "log") && String(address).includes("[");
}

/** A run that a list shows is put in its place; lists that may have to show it are asked for. */
function takeIntoLists(client: QueryClient, run: Run): void {
  const lists = client.getQueriesData<InfiniteData<RunPage>>({ queryKey: ["runs"] });
  for (const [key, data] of lists) {
    const filter = key[1] as RunFilter;
    const shown = data?.pages.some((page) => page.runs.some((one) => one.number === run.number));
    if (!data || !shown || filter.state || filter.saved) {
      lookAgain(client, "runs");
      continue;
    }
    const swap = (one: Run) => (one.number === run.number ? run : one);
    const pages = data.pages.map((page) => ({ ...page, runs: page.runs.map(swap) }));
    client.setQueryData(key, { ...data, pages });
  }
}

/** What the drawer shows of a step is asked for again when that step changed. */
function refreshOpenSteps(client: QueryClient, run: number, before: Part, after: Part): void {
  const open = new Set(
    client
      .getQueryCache()
      .findAll({ queryKey: ["step", run] })
      .map(({ queryKey }) => String(queryKey[2])),
  );
  if (!open.size) return;
  const old = new Map(stepsOf(before).map((step) => [step.address, step]));
  for (const step of stepsOf(after)) {
    if (!open.has(step.address)) continue;
    if (JSON.stringify(old.get(step.address)) === JSON.stringify(step)) continue;
    lookAgain(client, "step", { queryKey: keys.step(run, step.address) });
    lookAgain(client, "log", {
      queryKey: ["log", run],
      predicate: ({ queryKey }) => String(queryKey[2]).startsWith(`${step.address}#`),
    });
  }
}

function stepsOf(part: Part): StepPart[] {
  const behind = Object.values(part.follow_ups ?? {}).flatMap(stepsOf);
  if (part.kind === "step") return [part, ...behind];
  return part.kind === "each" ? behind : [...part.parts.flatMap(stepsOf), ...behind];
}
