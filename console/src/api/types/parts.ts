/** Parts of a run: its graph, steps and attempts. */

import type { Item } from "./runs";
import type { StepState, Json, Fault, Counts } from "./states";

/** How far a step is by its own account. */
export interface StepProgress {
  done: number | null;
  total: number | null;
  /** What is counted. */
  unit: string;
  note: string;
  /** Items a second. */
  rate: number | null;
  seconds_left: number | null;
  added: number;
  skipped: number;
}

/** A reference, as plans have it; outputs by address. */
export type Source = { [key: string]: Json };

interface CommonPart {
  label: string;
  address: string;
  /** Of a part of a run; those inside a folded each have none. */
  state?: StepState;
  skip_reason?: string | null;
  error?: Fault | null;
  started_at?: string | null;
  ended_at?: string | null;
  /** Parts or items by state. Inside an each, the counts are over all of its items. */
  counts?: Counts;
  only_if?: Source;
  /** Of a branch: labels of the branches that it reads. */
  waits_for?: string[];
  follow_ups?: Record<string, Part>;
  /** Of branches that look alike and are shown as one: their addresses. */
  alike?: string[];
  /** Of a follow-up of a run: whether it has begun. */
  begun?: boolean;
}

/** How long attempts took, in seconds. */
export interface Took {
  median: number;
  longest: number;
  /** How many are counted. */
  ended: number;
  histogram: { from: number; to: number; number: number }[];
}

export interface StepPart extends CommonPart {
  kind: "step";
  task: string;
  /** Inside an each: how long its attempts took; null if none has ended. */
  took?: Took | null;
  stop_asked?: string | null;
  progress?: StepProgress | null;
  paused_by_hand?: boolean;
  /** Whether its output was given by hand. */
  supplied?: boolean;
  worker?: string | null;
  attempts?: number;
  /** The pool that limits it, with the value that it has a limit for. */
  pool?: string | null;
  /** Of one backing off: when it is tried again. */
  due_at?: string | null;
  ready_at?: string | null;
  /** How it is run, where the plan says anything. */
  rules?: { [key: string]: Json };
}

export interface SequencePart extends CommonPart {
  kind: "sequence";
  parts: Part[];
}

export interface ParallelPart extends CommonPart {
  kind: "parallel";
  parts: Part[];
}

export interface EachPart extends CommonPart {
  kind: "each";
  over: Source;
  at_once: number | null;
  batch: number | null;
  may_fail: string | null;
  /** The items to look at first: failed ones, and those that run the longest. */
  top?: Item[];
  /** What it repeats, with how much flows through it. */
  do: Part;
}

export type Part = StepPart | SequencePart | ParallelPart | EachPart;

export interface Attempt {
  id: number;
  number: number;
  tries: number;
  round: number;
  state: string;
  outcome: string | null;
  error: Fault | null;
  worker: string;
  pid: number | null;
  cpu_seconds: number | null;
  memory_bytes: number | null;
  code_hash: string;
  handed_at: string;
  begun_at: string | null;
  ended_at: string | null;
}

export interface Step extends Omit<StepPart, "attempts" | "state"> {
  state: StepState;
  input: Json;
  output: Json;
  attempts: Attempt[];
  /** How many older attempts that asked to be called again are left out. */
  folded: number;
}

export interface LogLine {
  line: number;
  at: string;
  stream: "stdout" | "stderr" | "log" | "published" | "yarnloom";
  level?: string;
  text: string;
}

/** When an attempt could begin, began and ended. */
export interface AttemptTimes {
  id: number;
  address: string;
  task: string;
  number: number;
  round: number;
  outcome: string | null;
  worker: string;
  pool: string | null;
  ready_at: string;
  /** Until then its pool let nothing begin. */
  pool_until: string | null;
  handed_at: string;
  begun_at: string | null;
  ended_at: string | null;
}
