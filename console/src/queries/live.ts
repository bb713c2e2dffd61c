import { useQueryClient, type InfiniteData, type QueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";

import { watch, watchLog, type Change, type LinkState } from "../api/live";
import type { LogLine, Part, Run, StepPart } from "../api/types";
import { keys } from "./client";
import { takePool } from "./limits";
import type { RunPage } from "./runs";
import { takeSchedule } from "./schedules";

/** Keep what is shown of one run, or of all runs, as it is; says whether the stream stands. */
export function useLive(run: number | null): LinkState {
  const client = useQueryClient();
  const [link, setLink] = useState<LinkState>("connecting");
  useEffect(
    () =>
      watch(run, {
        onLink: setLink,
        onChange: (change) => take(client, run, change),
        onSnapshot: (state) => {
          if (state && run !== null) take(client, run, state);
          else for (const queryKey of LISTS) void client.invalidateQueries({ queryKey });
          lookAgainWhy(client);
        },
      }),
    [client, run],
  );
  return link;
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

const LISTS = [["runs"], keys.pools, keys.workers, keys.schedules];
const WHY_PAUSE = 500;
let whyTimer = 0;

/** What something waits for may have changed with anything; it is asked again now and then. */
function lookAgainWhy(client: QueryClient): void {
  whyTimer ||= window.setTimeout(() => {
    whyTimer = 0;
    void client.invalidateQueries({ queryKey: ["why"] });
  }, WHY_PAUSE);
}

function take(client: QueryClient, watched: number | null, change: Change): void {
  if (change.run) {
    client.setQueryData(keys.run(change.run.number), change.run);
    if (watched === null) takeIntoLists(client, change.run);
  }
  const { pool, workers, schedule } = change;
  if (pool) takePool(client, pool);
  if (schedule) takeSchedule(client, schedule);
  if (workers) client.setQueryData(keys.workers, { workers });
  lookAgainWhy(client);
  if (change.run && watched !== null) {
    for (const key of [keys.ledger, keys.commands, keys.published]) {
      void client.invalidateQueries({ queryKey: key(watched) });
    }
  }
  if (change.graph && watched !== null) {
    const before = client.getQueryData<Part>(keys.graph(watched, ""));
    client.setQueryData(keys.graph(watched, ""), change.graph);
    if (before) refreshOpenSteps(client, watched, before, change.graph);
    refreshItems(client, watched);
  }
}

/** What stands in items is not in the frames: what is open of it is asked for again. */
function refreshItems(client: QueryClient, run: number): void {
  void client.invalidateQueries({
    predicate: ({ queryKey: [kind, number, address] }) =>
      number === run &&
      (kind === "items" || (kind === "graph" && address !== "") || isInItem(kind, address)),
  });
}

function isInItem(kind: unknown, address: unknown): boolean {
  return (kind === "step" || kind === "log") && String(address).includes("[");
}

/** A run that a list shows is put in its place; one that it may have to show is asked for. */
function takeIntoLists(client: QueryClient, run: Run): void {
  const lists = client.getQueriesData<InfiniteData<RunPage>>({ queryKey: ["runs"] });
  for (const [key, data] of lists) {
    const filter = key[1] as { state: string | null };
    const shown = data?.pages.some((page) => page.runs.some((one) => one.number === run.number));
    if (!data || !shown || filter.state) {
      void client.invalidateQueries({ queryKey: key });
      continue;
    }
    const swap = (one: Run) => (one.number === run.number ? run : one);
    const pages = data.pages.map((page) => ({ ...page, runs: page.runs.map(swap) }));
    client.setQueryData(key, { ...data, pages });
  }
}

/** What the drawer shows of a step is asked for again when that step changed. */
function refreshOpenSteps(client: QueryClient, run: number, before: Part, after: Part): void {
  const old = new Map(stepsOf(before).map((step) => [step.address, JSON.stringify(step)]));
  for (const step of stepsOf(after)) {
    if (old.get(step.address) === JSON.stringify(step)) continue;
    void client.invalidateQueries({ queryKey: keys.step(run, step.address) });
    void client.invalidateQueries({
      predicate: ({ queryKey }) =>
        queryKey[0] === "log" &&
        queryKey[1] === run &&
        String(queryKey[2]).startsWith(`${step.address}#`),
    });
  }
}

function stepsOf(part: Part): StepPart[] {
  const behind = Object.values(part.follow_ups ?? {}).flatMap(stepsOf);
  if (part.kind === "step") return [part, ...behind];
  return part.kind === "each" ? behind : [...part.parts.flatMap(stepsOf), ...behind];
}
