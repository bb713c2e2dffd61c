/** Workflows, workers, pools, schedules and the service itself. */

import type { InHand, Stuck } from "./runs";
import type { RunState, Json } from "./states";

/** How many ended how, and how long they took, in seconds. */
export interface Went {
  ended: number;
  outcomes: Record<string, number>;
  failure_rate: number | null;
  median: number | null;
  /** 95 of 100 took no longer. */
  p95: number | null;
  /** Until they began, on the average. */
  waited: number | null;
}

/** How a workflow went over some days. */
export interface OverTime {
  days: (Went & { day: string })[];
  steps: (Went & { address: string })[];
}

/** A file that is kept. */
export interface FileFacts {
  sha256: string;
  name: string;
  media_type: string;
  size: number;
  /** Of a list how many values it has. */
  count: number | null;
  kept_by: string;
  kept_at: string;
  /** How many runs use it. */
  runs: number;
}

/** What is in a file, at a glance. */
export type Preview =
  | { kind: "picture" }
  | { kind: "table"; columns: string[]; rows: (Json[] | null)[]; more: boolean }
  | { kind: "text"; text: string; more: boolean }
  | { kind: "none" };

export interface Schema {
  type?: string | string[];
  format?: string;
  title?: string;
  description?: string;
  default?: Json;
  enum?: Json[];
  anyOf?: Schema[];
  $ref?: string;
  $defs?: Record<string, Schema>;
  properties?: Record<string, Schema>;
  required?: string[];
  minimum?: number;
  maximum?: number;
}

export interface Workflow {
  name: string;
  version: string;
  params: Schema;
  tasks: string[];
  published_at: string;
  published_by: string;
  last_run: number | null;
}

export interface Rate {
  count: number;
  per: number;
}

/** What limits how many attempts run at once. */
export interface Pool {
  name: string;
  /** When it was so. */
  as_of: string;
  limit: number | null;
  rate: Rate | null;
  note: string;
  paused: { by: string; at: string; reason: string } | null;
  in_use: number;
  waiting: number;
  begun_last_minute: number;
  used_by: { run: number; attempts: number }[];
  /** How many runs use it. */
  runs: number;
  /** With a limit for each value of an input: those that are used most. */
  values: { value: string; in_use: number; waiting: number }[];
  by_hand: { [key: string]: Json };
  declared: { loom: string; limit: number | null; rate: Rate | null; note: string }[];
}

export interface Worker {
  id: string;
  name: string;
  facts: { host?: string; pid?: number; loom?: string };
  registered: boolean;
  places: number;
  io_places: number;
  in_hand: number[];
  has: string[];
  pools: string[] | null;
  draining: boolean;
  /** Why its processes can take nothing, though it lives. */
  trouble: string | null;
  seen_at: string;
  /** Since when it has nothing in hand. */
  idle_since: string | null;
  /** What it ran last. */
  last: { id: number; ended_at: string; run?: number; address?: string } | null;
  /** A hash of all its code. */
  code: string;
  /** What it has in hand, as far as that is shown. */
  runs: InHand[];
}

/** What happened in one minute. */
export interface Minute {
  at: string;
  begun: number;
  /** Seconds that what began had waited, together. */
  waited: number;
  longest: number;
  ended: number;
  failed: number;
}

export interface Overview {
  minutes: Minute[];
  stuck: Stuck[];
  looked_at: number;
}

export interface PoolUse {
  minutes: { at: string; in_use: number; waiting: number; limit: number | null }[];
  waits: { run: number; steps: number; since: string }[];
}

/** A task with a version of its code. */
export interface TaskCode {
  name: string;
  code_hash: string;
  shown_code: string;
  source: string;
  seen_at: string;
}

export interface Service {
  id: string;
  version: string;
  data: string;
  started_at: string;
}

export interface Schedule {
  name: string;
  /** That declares it; null where it was made by hand. */
  loom: string | null;
  workflow: string;
  params: { [key: string]: Json };
  cron: string;
  zone: string;
  if_busy: "wait" | "skip" | "replace" | "start";
  missed: "one" | "all" | "none";
  priority: number;
  share: string;
  tags: string[];
  note: string;
  paused: { by: string; at: string; reason: string } | null;
  /** Planned times are in the schedule's zone, with its offset. */
  next_at: string | null;
  next_times: string[];
  waiting_at: string | null;
  running: number[];
  last: {
    planned_at: string;
    result: "started" | "failed" | "passed_over";
    run: number | null;
    why: string;
    state: RunState | null;
  } | null;
  passed_over: number;
  by_hand: { [key: string]: Json };
}
