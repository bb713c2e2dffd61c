import type { InfiniteData, QueryKey } from "@tanstack/react-query";

import type { Change } from "../api/liveEvents";
import type { LogLine, Part, Pool, Run, RunLine, Schedule, StepPart } from "../api/types";
import type { LinePage } from "./logLines";
import { keys, type RunFilter } from "./queryClient";
import type { RunPage } from "./runs";

/** Something that happened: a change, or a gap in which changes may have been missed. */
export type LiveEvent =
  | { kind: "changed"; change: Change }
  | { kind: "run changed"; run: number; change: Change }
  | { kind: "line"; run: number; address: string; line: LogLine }
  | { kind: "run line"; key: QueryKey; line: RunLine }
  | { kind: "gap" }
  | { kind: "gap of run"; run: number };

/** What is asked again when something changed, and how long changes are gathered for it. */
export const AGAIN = {
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
export type Asked = keyof typeof AGAIN;

/** What follows from an event. */
export type Effect =
  /** Show a value; an answer that is on its way may be older, and is asked for once more. */
  | { do: "show"; key: QueryKey; value: unknown }
  /** Show a value that was made of the one before it. */
  | { do: "replace"; key: QueryKey; value: unknown }
  /** Ask again, once for all changes of a while, for what begins with a key. */
  | { do: "ask again"; what: Asked; key?: QueryKey; only?: Only }
  /** Ask again at once. */
  | { do: "ask now"; keys?: QueryKey[]; run?: number; failed?: true };

/** What is asked of the queries that begin with a key. */
export type Only = { itemsOf: number } | { logOf: string };

/** What is shown at the moment. */
export interface Shown {
  get: <T>(key: QueryKey) => T | undefined;
  lists: () => [QueryKey, InfiniteData<RunPage> | undefined][];
  /** The addresses of the steps of a run of which details are shown. */
  openSteps: (run: number) => Set<string>;
}

const LOG_SHOWN = 2_000;
const LINES_SHOWN = 5_000;
const LISTS: QueryKey[] = [
  ["runs"],
  keys.pools,
  keys.workers,
  keys.schedules,
  keys.counts,
  keys.overview,
  ["pool-use"],
  ["why"],
];

/** What follows from an event for what is shown: all state that events change passes here. */
export function reduce(shown: Shown, event: LiveEvent): Effect[] {
  switch (event.kind) {
    case "changed":
      return changed(shown, event.change);
    case "run changed":
      return runChanged(shown, event.run, event.change);
    case "line":
      return lineCame(shown, keys.log(event.run, event.address), event.line);
    case "run line":
      return runLineCame(shown, event.key, event.line);
    case "gap":
      // What the service could not answer, it may now.
      return [
        { do: "ask now", keys: LISTS },
        { do: "ask now", failed: true },
      ];
    case "gap of run":
      return [{ do: "ask now", run: event.run }];
  }
}

/** A pool in the list of all, unless what the list has of it is newer. */
export function withPool(shown: Shown, pool: Pool): Effect[] {
  const before = shown.get<{ pools: Pool[] }>(keys.pools);
  const known = before?.pools.find((one) => one.name === pool.name);
  if (!before || (known && known.as_of > pool.as_of)) return [];
  return [{ do: "replace", key: keys.pools, value: { pools: placed(before.pools, pool) } }];
}

/** A schedule in the list of all. */
export function withSchedule(shown: Shown, schedule: Schedule): Effect[] {
  const before = shown.get<{ schedules: Schedule[] }>(keys.schedules);
  if (!before) return [];
  const schedules = placed(before.schedules, schedule);
  return [{ do: "replace", key: keys.schedules, value: { schedules } }];
}

function placed<T extends { name: string }>(all: T[], one: T): T[] {
  const others = all.filter(({ name }) => name !== one.name);
  return [...others, one].sort((a, b) => (a.name < b.name ? -1 : 1));
}

function changed(shown: Shown, { run, pool, workers, schedule }: Change): Effect[] {
  const effects: Effect[] = [];
  if (run) {
    effects.push({ do: "show", key: keys.run(run.number), value: run });
    effects.push(...inLists(shown, run), { do: "ask again", what: "counts" });
  }
  if (pool) effects.push(...withPool(shown, pool), { do: "ask again", what: "pool-use" });
  if (schedule) effects.push(...withSchedule(shown, schedule));
  if (workers) effects.push({ do: "show", key: keys.workers, value: { workers } });
  if (run || pool || workers) effects.push(...again("overview", "why"));
  return effects;
}

/** A change of one run that is shown: of it, or of its graph. */
function runChanged(shown: Shown, number: number, { run, graph, glance }: Change): Effect[] {
  const effects: Effect[] = [];
  if (glance) effects.push({ do: "show", key: keys.glance(number), value: glance });
  if (run) effects.push(...again("ledger", "commands", "published"));
  if (graph) {
    const before = shown.get<Part>(keys.graph(number, ""));
    effects.push({ do: "show", key: keys.graph(number, ""), value: graph });
    if (before) effects.push(...ofOpenSteps(shown.openSteps(number), number, before, graph));
    // What stands in items is not in the frames: what is open of it is asked for again.
    effects.push({ do: "ask again", what: "items", only: { itemsOf: number } });
    effects.push(...again("attempts"));
  }
  if (run || graph) effects.push(...again("failures", "times"));
  return effects;
}

/** A line behind those that are known; of very many the newest stay. */
function lineCame(shown: Shown, key: QueryKey, line: LogLine): Effect[] {
  const lines = shown.get<{ lines: LogLine[] }>(key)?.lines ?? [];
  if (line.line <= (lines.at(-1)?.line ?? -1)) return [];
  return [{ do: "replace", key, value: { lines: [...lines, line].slice(-LOG_SHOWN) } }];
}

/** A line behind the newest page of those of a run. */
function runLineCame(shown: Shown, key: QueryKey, line: RunLine): Effect[] {
  const before = shown.get<InfiniteData<LinePage>>(key);
  const [newest, ...older] = before?.pages ?? [];
  if (!before || !newest || newest.lines.some(({ mark }) => mark === line.mark)) return [];
  const lines = [...newest.lines, line].slice(-LINES_SHOWN);
  return [{ do: "replace", key, value: { ...before, pages: [{ ...newest, lines }, ...older] } }];
}

function again(...what: Asked[]): Effect[] {
  return what.map((one) => ({ do: "ask again", what: one }));
}

/** A run that a list shows is put in its place; lists that may have to show it are asked for. */
function inLists(shown: Shown, run: Run): Effect[] {
  return shown.lists().map(([key, data]) => {
    const filter = key[1] as RunFilter;
    const listed = data?.pages.some((page) => page.runs.some((one) => one.number === run.number));
    if (!data || !listed || filter.state || filter.saved) return { do: "ask again", what: "runs" };
    const swap = (one: Run) => (one.number === run.number ? run : one);
    const pages = data.pages.map((page) => ({ ...page, runs: page.runs.map(swap) }));
    return { do: "replace", key, value: { ...data, pages } };
  });
}

/** What the drawer shows of a step is asked for again when that step changed. */
function ofOpenSteps(open: Set<string>, run: number, before: Part, after: Part): Effect[] {
  if (!open.size) return [];
  const old = new Map(stepsOf(before).map((step) => [step.address, step]));
  return stepsOf(after)
    .filter(({ address }) => open.has(address))
    .filter((step) => JSON.stringify(old.get(step.address)) !== JSON.stringify(step))
    .flatMap(({ address }): Effect[] => [
      { do: "ask again", what: "step", key: keys.step(run, address) },
      { do: "ask again", what: "log", key: ["log", run], only: { logOf: address } },
    ]);
}

function stepsOf(part: Part): StepPart[] {
  const behind = Object.values(part.follow_ups ?? {}).flatMap(stepsOf);
  if (part.kind === "step") return [part, ...behind];
  return part.kind === "each" ? behind : [...part.parts.flatMap(stepsOf), ...behind];
}
