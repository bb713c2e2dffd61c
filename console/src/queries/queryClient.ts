import { QueryClient } from "@tanstack/react-query";

import { ApiError } from "../api/http";
import { exactTime } from "../components/durations";

/** Everything is kept until an event says that it changed; nothing is asked again by the clock. */
export const queryClient = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: Infinity,
      refetchOnWindowFocus: false,
      // A service that restarts is back in a moment; an answer that says no stays no.
      retry: (count, error) =>
        count < 4 && error instanceof ApiError && (error.status === 0 || error.status === 503),
      retryDelay: (count) => Math.min(4_000, 300 * 2 ** count),
    },
  },
});

export const keys = {
  runs: (filter: RunFilter) => ["runs", filter] as const,
  run: (run: number) => ["run", run] as const,
  /** `address` is that of an item whose parts are shown; empty for the run's own. */
  graph: (run: number, address: string) => ["graph", run, address] as const,
  /** The same as it was at a time. */
  past: (run: number, address: string, at: string) => ["past", run, address, at] as const,
  glance: (run: number) => ["glance", run] as const,
  times: (run: number) => ["times", run] as const,
  outliers: (run: number, address: string) => ["times", run, address] as const,
  failures: (run: number) => ["failures", run] as const,
  attempts: (run: number, item: string) => ["attempts", run, item] as const,
  items: (run: number, each: string, state: string | null, text: string) =>
    ["items", run, each, state, text] as const,
  step: (run: number, address: string) => ["step", run, address] as const,
  log: (run: number, address: string) => ["log", run, address] as const,
  lines: (run: number, address: string, text: string) => ["lines", run, address, text] as const,
  filters: ["filters"] as const,
  ledger: (run: number) => ["ledger", run] as const,
  commands: (run: number) => ["commands", run] as const,
  published: (run: number) => ["published", run] as const,
  why: (run: number, address: string) => ["why", run, address] as const,
  caller: ["caller"] as const,
  tokens: ["tokens"] as const,
  files: ["files"] as const,
  preview: (sha256: string) => ["preview", sha256] as const,
  pools: ["pools"] as const,
  workers: ["workers"] as const,
  schedules: ["schedules"] as const,
  nextTimes: (query: string) => ["next-times", query] as const,
  workflows: ["workflows"] as const,
  workflow: (name: string) => ["workflow", name] as const,
  overTime: (name: string) => ["over-time", name] as const,
  code: (task: string, hash: string) => ["code", task, hash] as const,
  counts: ["counts"] as const,
  overview: ["overview"] as const,
  poolUse: (name: string) => ["pool-use", name] as const,
  service: ["service"] as const,
};

/** Which runs a list shows; null is any. Names are those of the API and of the page's address. */
export type RunFilter = Record<(typeof RUN_FILTERS)[number]["name"], string | null>;

interface FilterRecord {
  name: string;
  /** Whether it is on or off, not compared. */
  flag?: true;
  /** How it is said that it is on; a filter without is said by its own control. */
  said?: (value: string) => string;
  /** The name of what is said where the list is not limited by it: the opposite of the API's. */
  opposite?: string;
}

/** The filters: a new one gets its record here, and its control in `FilterBar` if it has one. */
export const RUN_FILTERS = [
  { name: "state" },
  { name: "workflow" },
  { name: "text" },
  { name: "since", said: (at) => `since ${exactTime(at)}` },
  { name: "until", said: (at) => `before ${exactTime(at)}` },
  { name: "within" },
  { name: "key" },
  { name: "who" },
  { name: "tag", said: (tag) => `tagged ${tag}` },
  { name: "pool", said: (name) => `that use pool ${name}, or wait for it` },
  { name: "priority", said: (number) => `of priority ${number}` },
  { name: "schedule", said: (name) => `of schedule ${name}` },
  { name: "followups_failed", flag: true },
  { name: "reports", flag: true, opposite: "without_reports" },
  { name: "saved", said: (name) => `saved as ${name}` },
] as const satisfies readonly FilterRecord[];

/** Flags by the names of the API. */
export const FLAGS = (RUN_FILTERS as readonly FilterRecord[])
  .filter(({ flag }) => flag)
  .map(({ name, opposite }) => opposite ?? name);

/** The filter as the API takes it: runs that only tell of another's end are left out unless asked. */
export function asAsked(filter: RunFilter): Record<string, string> {
  const asked: Record<string, string> = {};
  for (const { name, opposite } of RUN_FILTERS as readonly FilterRecord[]) {
    const value = filter[name as keyof RunFilter];
    if (opposite && !value) asked[opposite] = "true";
    if (!opposite && value) asked[name] = value;
  }
  return asked;
}

export const NO_FILTER = Object.fromEntries(
  RUN_FILTERS.map(({ name }) => [name, null]),
) as RunFilter;
