import { QueryClient } from "@tanstack/react-query";

import { ApiError } from "../api/http";

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
  files: ["files"] as const,
  preview: (sha256: string) => ["preview", sha256] as const,
  pools: ["pools"] as const,
  workers: ["workers"] as const,
  schedules: ["schedules"] as const,
  nextTimes: (cron: string, zone: string) => ["next-times", cron, zone] as const,
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
export type RunFilter = Record<(typeof FILTERS)[number], string | null>;
export const FILTERS = [
  "state",
  "workflow",
  "text",
  "since",
  "until",
  "within",
  "key",
  "who",
  "tag",
  "schedule",
  "followups_failed",
  "reports",
  "saved",
] as const;

/** The filter as the API takes it: runs that only tell of another's end are left out unless asked. */
export function asAsked(filter: RunFilter): Record<string, string> {
  const { reports, ...others } = filter;
  const given = Object.entries(others).filter((one): one is [string, string] => !!one[1]);
  return { ...Object.fromEntries(given), ...(reports ? {} : { without_reports: "true" }) };
}

export const NO_FILTER = Object.fromEntries(FILTERS.map((name) => [name, null])) as RunFilter;
