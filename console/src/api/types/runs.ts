/** Runs, and what is asked about them. */

import type { LogLine, AttemptTimes } from "./parts";
import type { StepState, RunState, Json, Fault, Counts } from "./states";

/** A side effect of a run, as its ledger has it. */
export interface Effect {
  what: string;
  /** Of the step; empty where the entry is the run's. */
  address: string;
  state: "begun" | "done" | "not done" | "unsure";
  attempt: number;
  value: Json;
  /** Whether its step looks at the value. */
  is_used: boolean;
  /** Whoever decided it, where someone did. */
  by: string | null;
  /** When an attempt used what was decided; it stands from then on. */
  used_at: string | null;
  begun_at: string;
}

/** Who gave which command, when and why. */
export interface GivenCommand {
  at: string;
  who: string;
  what: string;
  reason: string;
  detail: { [key: string]: Json };
}

export interface Published {
  line: number;
  at: string;
  address: string;
  value: Json;
}

/** How far a run is. */
export interface RunProgress {
  /** Of its time, from 0 to 1; null until that is known. */
  fraction: number | null;
  /** Of the innermost part that moves. */
  text: string;
  address: string;
  done: number | null;
  total: number | null;
  per_second: number | null;
  seconds_left: number | null;
  /** Whether some of what is left was never measured. */
  at_least: boolean;
}

/** How far a run was at a moment. */
export type PastProgress = Pick<RunProgress, "fraction" | "seconds_left" | "at_least">;

export interface Run {
  number: number;
  workflow: string;
  /** Of a run of a single task: its full name. */
  task: string | null;
  version: string;
  state: RunState;
  /** Decided when the plan has ended; follow-ups may still run. */
  outcome: StepState | null;
  stop_asked: string | null;
  params: { [key: string]: Json };
  output: Json;
  output_left_out: boolean;
  error: Fault | null;
  failures_allowed: number;
  /** As things stand now. */
  followups_failed: number;
  progress: RunProgress;
  counts: Counts;
  /** Attempts handed out so far. */
  attempts: number;
  priority: number;
  share: string | null;
  tags: string[];
  key: string;
  started_by: string;
  created_at: string;
  /** Not before that time. */
  start_at: string | null;
  /** It is not begun after that time. */
  start_by: string | null;
  /** For when its schedule planned it. */
  planned_at: string | null;
  schedule: string | null;
  /** The run of whose end it tells. */
  after: number | null;
  deadline_at: string | null;
  /** 1, and one more for each mend. */
  round: number;
  /** Since when nothing of it executes, if it is paused. */
  paused_at: string | null;
  /** False while it waits for other runs of its workflow. */
  entered: boolean;
  started_at: string | null;
  ended_at: string | null;
}

/** Failures of one step that are alike. */
export interface FailureKind {
  task: string;
  /** Of the first step, without the keys of items. */
  address: string;
  /** Of all such steps, without the keys of items. */
  addresses: string[];
  type: string;
  pattern: string;
  said: string;
  number: number;
  in_items: boolean;
  first: string;
  first_at: string;
}

export interface Failures {
  failed: number;
  more: boolean;
  kinds: FailureKind[];
  /** Addresses of the first failed steps, in plan order. */
  steps: string[];
}

/** The bottleneck of a run: the step with the longest queue. */
export interface Hold {
  address: string;
  waiting: number;
  text: string;
  reason: { kind: string; text: string; pool?: string; in_use?: number; limit?: number };
}

export type WaitKind = "pool" | "worker" | "back_off" | "rest";

/** A step or an each, over all items; times in seconds. */
export interface TimesRow {
  address: string;
  label: string;
  kind: "step" | "each";
  /** The number of eaches around it. */
  depth: number;
  attempts: number;
  failed: number;
  longest: number;
  /** All attempts together. */
  ran: number;
  waited: Record<WaitKind, number>;
  /** By slice: attempts that ran, the share of ended attempts that failed, attempts that waited. */
  running: number[];
  failing: number[];
  waiting: Partial<Record<WaitKind, number[]>>;
}

/** Where the time of a run went. */
export interface Times {
  from: string | null;
  to: string | null;
  slices: number;
  attempts: number;
  rows: TimesRow[];
}

/** Attempts of a step, or of all steps in an each, that stand out. */
export interface Outliers {
  slowest: AttemptTimes[];
  failed: AttemptTimes[];
}

/** A run on one line. */
export interface Glance {
  text: string;
  pieces: {
    what: "progress" | "moving" | "running" | "failed" | "held" | "left";
    text: string;
    address: string;
  }[];
  held: Hold | null;
}

/** An item of an each. */
export interface Item {
  item: number;
  name: string;
  address: string;
  value: Json;
  state: StepState;
  skip_reason?: string | null;
  error?: Fault | null;
  counts?: Counts;
  started_at?: string | null;
  ended_at?: string | null;
}

/** A line that a step of a run printed. */
export interface RunLine extends LogLine {
  /** The place behind it, to read on from. */
  mark: string;
  /** Of its step, within the run. */
  address: string;
  attempt: number;
}

/** A filter of the list of runs, kept by name; `wanted` is by the names of the API. */
export interface SavedFilter {
  name: string;
  wanted: { [key: string]: Json };
  saved_at: string;
  saved_by: string;
}

/** How far the rows of a file are checked, before a run is started with them. */
export interface Checking {
  param: string;
  file: { name?: string };
  rows: number;
  read: number;
  size: number;
}

export interface InHand {
  run: number;
  /** With the attempt's number. */
  address: string;
  begun_at: string | null;
  code_hash: string;
}

/** A run that does not go on by itself. */
export interface Stuck {
  run: number;
  workflow: string;
  state: RunState;
  since: string;
  reasons: string[];
}

export interface Reason {
  kind: string;
  text: string;
}

/** What a run waits for. */
export interface Why {
  run: number;
  state: RunState;
  reasons: Reason[];
  waits: { address: string; state: StepState; reasons: Reason[] }[];
  more: boolean;
}
