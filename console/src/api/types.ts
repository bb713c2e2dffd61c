/** What the service answers; names are those of the API. */

export type StepState =
  | "waiting"
  | "ready"
  | "running"
  | "backing_off"
  | "resting"
  | "paused"
  | "done"
  | "failed"
  | "cancelled"
  | "skipped";

export type RunState =
  | "scheduled"
  | "queued"
  | "running"
  | "pausing"
  | "paused"
  | "cancelling"
  | "done"
  | "failed"
  | "cancelled";

export type State = StepState | RunState;

export const RUN_STATES: RunState[] = [
  "scheduled",
  "queued",
  "running",
  "pausing",
  "paused",
  "cancelling",
  "done",
  "failed",
  "cancelled",
];

export type Json = null | boolean | number | string | Json[] | { [key: string]: Json };

export interface Fault {
  type?: string;
  message?: string;
  traceback?: string;
  /** Why it was not tried again. */
  no_more_tries?: string;
  step?: string;
  task?: string;
}

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
  /** Of its time, from 0 to 1. */
  fraction: number;
  /** Of the innermost part that moves. */
  text: string;
  address: string;
  done: number | null;
  total: number | null;
  per_second: number | null;
  seconds_left: number | null;
}

/** Children by state. */
export type Counts = Record<StepState, number> & { total: number };

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

/** Failures of one step that are alike. */
export interface FailureKind {
  /** Of the step, without the keys of items. */
  address: string;
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

/** How far the rows of a file are checked, before a run is started with them. */
export interface Checking {
  param: string;
  file: { name?: string };
  rows: number;
  read: number;
  size: number;
}

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

export interface InHand {
  run: number;
  /** With the attempt's number. */
  address: string;
  begun_at: string | null;
  code_hash: string;
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

/** A run that does not go on by itself. */
export interface Stuck {
  run: number;
  workflow: string;
  state: RunState;
  since: string;
  reasons: string[];
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
