/** Answers of the API: made from `src/yarnloom/protocol` by `make generate`. */

export type Json = null | boolean | number | string | Json[] | { [key: string]: Json };

export type JsonObject = { [key: string]: Json };

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

export type Role =
  | "view"
  | "operate"
  | "publish"
  | "work"
  | "admin";

export type SkipReason =
  | "only_if"
  | "not_reached"
  | "stopped"
  | "gone"
  | "by_hand"
  | "not_chosen";

export type Part = StepPart | SequencePart | ParallelPart | EachPart | ChoosePart | FallbackPart;

/** A run of many that were started together. */
export interface StartedOne {
  number: number;
  key: string;
  /** False where the start key had made the run before. */
  created: boolean;
}

/** The runs of many starts, in their order. */
export interface StartedMany {
  runs: StartedOne[];
  /** How many of them were made now. */
  created: number;
}

/** How far a run is. */
export interface RunProgress {
  /** Of its time, from 0 to 1; null until known. It never falls within a round. */
  fraction: number | null;
  /** Of the innermost part that moves: `255 of 5,000 sacks`. */
  text: string;
  /** Of that part. */
  address: string;
  done: number | null;
  total: number | null;
  per_second: number | null;
  /** Until the run's end; null if not known. */
  seconds_left: number | null;
  /** Whether it has steps of which no attempt was ever seen. */
  at_least: boolean;
}

/** The parts of a run's plan by state. */
export interface Counts {
  total: number;
  waiting: number;
  ready: number;
  running: number;
  backing_off: number;
  resting: number;
  paused: number;
  done: number;
  failed: number;
  cancelled: number;
  skipped: number;
}

/** Why a step, part or attempt has failed. */
export interface Fault {
  /** The error's class. */
  type?: string;
  message?: string;
  traceback?: string;
  /** Why it is not tried again. */
  no_more_tries?: string;
  /** Of a part: address of the step that failed first. */
  step?: string;
  /** The task of that step. */
  task?: string | null;
  /** How many attempts that step had. */
  attempts?: number;
  [name: string]: unknown;
}

/** A run. */
export interface Run {
  number: number;
  workflow: string;
  task: string | null;
  version: string;
  state: RunState;
  /** Decided when the plan has ended; the state follows with the follow-ups. */
  outcome: "done" | "failed" | "cancelled" | "skipped" | null;
  stop_asked: string | null;
  params: JsonObject;
  output: Json;
  /** Whether the output is too large to be shown whole. */
  output_left_out: boolean;
  error: Fault | null;
  /** Items that failed and were allowed to. */
  failures_allowed: number;
  /** Follow-ups that failed, as things stand now. */
  followups_failed: number;
  /** Handed out so far. */
  attempts: number;
  progress: RunProgress;
  counts: Counts;
  priority: number;
  share: string | null;
  tags: string[];
  key: string;
  started_by: string;
  round: number;
  created_at: string;
  /** Not before that time. */
  start_at: string | null;
  /** It is not begun after that time. */
  start_by: string | null;
  /** For when its schedule planned it. */
  planned_at: string | null;
  /** The schedule that started it. */
  schedule: string | null;
  /** The run of whose end it tells. */
  after: number | null;
  deadline_at: string | null;
  /** False while it waits for other runs of its workflow. */
  entered: boolean;
  /** Since when nothing of it executes, if paused. */
  paused_at: string | null;
  started_at: string | null;
  ended_at: string | null;
}

/** A file of rows, or a list, as params name it. */
export interface RowsFile {
  name?: string;
  [name: string]: unknown;
}

/** How far the rows of a file are checked. */
export interface Check {
  /** The param's JSON Pointer. */
  param: string;
  file: RowsFile;
  rows: number;
  /** Bytes read so far. */
  read: number;
  /** Bytes of the file. */
  size: number;
}

/** Nothing was started yet: send the same start again. */
export interface Checking {
  checking: Check[];
}

/** Runs, newest first; `next` is the cursor of the following page. */
export interface RunList {
  runs: Run[];
  next: string | null;
}

/** When an attempt could begin, began and ended, and on which worker. */
export interface AttemptTimes {
  id: number;
  /** Of its step. */
  address: string;
  task: string;
  number: number;
  round: number;
  outcome: string | null;
  worker: string;
  pool: string | null;
  /** Since when it could have begun. */
  ready_at: string;
  /** Until then its pool let nothing begin. */
  pool_until: string | null;
  handed_at: string;
  begun_at: string | null;
  ended_at: string | null;
  /** It counts as lost, and nobody can tell whether it had begun at all. */
  guess: boolean;
}

/** A page of a run's attempts. */
export interface AttemptList {
  attempts: AttemptTimes[];
  next: string | null;
}

/** Failures of one task that are alike, but for numbers and quoted names. */
export interface FailureKind {
  task: string;
  /** Of the first step, without the keys of items. */
  address: string;
  /** Of all such steps, without the keys of items. */
  addresses: string[];
  /** Of the error. */
  type: string;
  /** Its message, with … for what differs. */
  pattern: string;
  /** The message where all have the same, else the pattern. */
  said: string;
  number: number;
  /** Whether the first is inside an each. */
  in_items: boolean;
  /** The address of the first, in plan order. */
  first: string;
  /** When the earliest ended. */
  first_at: string;
}

/** What failed in a run, the most frequent kind first. */
export interface Failures {
  /** Failed steps that were looked at. */
  failed: number;
  /** Whether there are more than were looked at. */
  more: boolean;
  kinds: FailureKind[];
  /** Addresses of the first failed steps, in plan order. */
  steps: string[];
}

/** Seconds, by what for. */
export interface Waited {
  pool: number;
  worker: number;
  back_off: number;
  rest: number;
}

/** How many waited in each slice, by what for; left out where none did. */
export interface Waiting {
  pool?: number[];
  worker?: number[];
  back_off?: number[];
  rest?: number[];
}

/** A step or an each, over all items; times in seconds. */
export interface TimesRow {
  /** Without the keys of items. */
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
  /** All together, by what for. */
  waited: Waited;
  /** By slice how many ran at once, on the average. */
  running: number[];
  /** By slice the share of ended attempts that failed. */
  failing: number[];
  /** By what for, and by slice, how many waited, on the average. */
  waiting: Waiting;
}

/** Attempts of a step, or of all steps in an each, that stand out. */
export interface Outliers {
  /** Those that ran longest, the longest first. */
  slowest: AttemptTimes[];
  /** The first that failed. */
  failed: AttemptTimes[];
}

/** Where the time of a run went. */
export interface Times {
  from: string | null;
  to: string | null;
  slices: number;
  attempts: number;
  rows: TimesRow[];
}

/** Why something does not run: a word for programs, words for people, and what belongs to it. */
export interface Reason {
  kind: string;
  text: string;
  [name: string]: unknown;
}

/** A step that has not ended, or a part that has not begun. */
export interface Wait {
  address: string;
  state: StepState;
  reasons: Reason[];
  /** Of a step that runs. */
  begun_at?: string | null;
  /** Of a step that has a deadline. */
  deadline_at?: string | null;
  /** Of a step that runs: when its newest line arrived. */
  last_line_at?: string | null;
}

/** What a run waits for. */
export interface Why {
  run: number;
  workflow: string;
  state: RunState;
  /** What holds for the whole run. */
  reasons: Reason[];
  /** Up to 50, in plan order. */
  waits: Wait[];
  /** Whether there are more. */
  more: boolean;
}

/** A link, without what it takes to use it. */
export interface Link {
  id: number;
  run: number;
  /** Whether it shows output, errors, and names of steps. */
  details: boolean;
  made_at: string;
  made_by: string;
  expires_at: string;
  revoked_at: string | null;
  revoked_by: string | null;
}

/** A link that was made: its token is told only now. */
export interface MadeLink extends Link {
  token: string;
  /** Of a page that shows the run; its secret is in the fragment. */
  address: string;
  /** Of the events, for a browser's EventSource. */
  path: string;
}

/** Links to a run, newest first. */
export interface LinkList {
  links: Link[];
  next: string | null;
}

/** A step of a run, or an each of it, as a link with details shows it. */
export interface LinkedStep {
  address: string;
  state: string;
}

/** A run as a link shows it; the last seven fields only with details. */
export interface LinkedRun {
  number: number;
  state: RunState;
  /** How it is, in words for an end user. */
  message: string;
  progress: RunProgress;
  created_at: string;
  started_at: string | null;
  ended_at: string | null;
  workflow?: string;
  outcome?: string | null;
  stop_asked?: string | null;
  output?: Json;
  error?: Fault | null;
  round?: number;
  /** In the order of the plan, the first 200. */
  steps?: LinkedStep[];
}

/** RFC 9457 problem details. */
export interface Problem {
  type: string;
  title: string;
  status: number;
  detail: string;
  /** One entry for each bad input: JSON Pointer and what is wrong; of a file's rows also the line and column. */
  problems?: JsonObject[] | null;
}

/** One entry of the command log of a run. */
export interface Command {
  at: string;
  who: string;
  what: string;
  reason: string;
  detail: JsonObject;
}

/** One entry of the command log of all runs. */
export interface RunCommand extends Command {
  run: number | null;
}

/** Who gave which command for a run, when and why. */
export interface RunCommands {
  commands: Command[];
}

/** Commands for all runs, newest first; `next` is the cursor of the following page. */
export interface CommandList {
  commands: RunCommand[];
  next: string | null;
}

/** One entry of the ledger. */
export interface Effect {
  what: string;
  /** Of the step that uses it; empty for the whole run. */
  address: string;
  state: "begun" | "done" | "not done" | "unsure";
  attempt: number;
  token: string;
  value: Json;
  begun_at: string;
  done_at: string | null;
  /** Who decided about it, if somebody did. */
  by: string | null;
  is_used: boolean;
  used_at: string | null;
}

/** The side effects that a run has begun and done. */
export interface Ledger {
  effects: Effect[];
  /** Of how many nobody knows whether they happened. */
  unsure: number;
}

/** What was decided about an unsure entry of the ledger. */
export interface Settled {
  effect: string;
  state: string;
}

/** A run for which a command was refused, and why. */
export interface RefusedRun {
  run: number;
  why: string;
}

/** What came of a command for many runs. */
export interface Bulk {
  /** How many runs match. */
  count: number;
  done: number[];
  refused: RefusedRun[];
}

/** How far a step is by its own account. */
export interface StepProgress {
  done: number | null;
  total: number | null;
  unit: string;
  note: string;
  /** Of `done`, a second. */
  rate: number | null;
  seconds_left: number | null;
  added: number;
  skipped: number;
}

/** How many attempts took from so many seconds to so many. */
export interface Bar {
  from: number;
  to: number;
  number: number;
}

/** How long attempts took, in seconds. */
export interface Took {
  /** Within five percent. */
  median: number;
  longest: number;
  ended: number;
  histogram: Bar[];
}

/** An item of an each; one that was not made has only its state and reason. */
export interface Item {
  item: number;
  name: string;
  address: string;
  value: Json;
  state: StepState;
  skip_reason: SkipReason | null;
  outcome?: string | null;
  closed?: string | null;
  error?: Fault | null;
  fraction?: number | null;
  counts?: Counts | null;
  started_at?: string | null;
  ended_at?: string | null;
}

/** How far a run was at a moment. */
export interface PastProgress {
  fraction: number | null;
  seconds_left: number | null;
  at_least: boolean;
}

/** What every part of a plan has; fields that do not hold for it are left out. */
export interface CommonPart {
  /** Of an item its key. */
  label: string;
  address: string;
  only_if?: JsonObject | null;
  /** Of a branch: labels of the branches that it reads. */
  waits_for?: string[];
  state?: StepState | null;
  skip_reason?: SkipReason | null;
  /** Of a follow-up. */
  begun?: boolean;
  error?: Fault | null;
  fraction?: number | null;
  started_at?: string | null;
  ended_at?: string | null;
  /** Parts or items by state; inside an each over all of its items. */
  counts?: Counts | null;
  /** Decided before its follow-ups end. */
  outcome?: string | null;
  /** Of a part in which no more begins: why. */
  closed?: string | null;
  follow_ups?: Record<string, Part>;
}

/** All of a step but its attempts: their number, or the attempts themselves. */
export interface CommonStep extends CommonPart {
  kind: "step";
  task: string;
  /** Their sources. */
  inputs: Record<string, JsonObject>;
  /** How it is run. */
  rules?: JsonObject;
  /** Inside an each: how long its attempts took. */
  took?: Took | null;
  stop_asked?: string | null;
  paused_by_hand?: boolean;
  /** Its output was given by hand. */
  supplied?: boolean;
  progress?: StepProgress | null;
  worker?: string | null;
  tries?: number;
  losses?: number;
  /** With the value that it has a limit for. */
  pool?: string | null;
  priority?: number;
  /** When it is tried, or called, again. */
  due_at?: string | null;
  deadline_at?: string | null;
  ready_at?: string | null;
}

/** A step. */
export interface StepPart extends CommonStep {
  attempts?: number;
}

/** A sequence. */
export interface SequencePart extends CommonPart {
  kind: "sequence";
  parts: Part[];
  /** Of a whole run at a moment. */
  progress?: PastProgress | null;
}

/** A parallel. */
export interface ParallelPart extends CommonPart {
  kind: "parallel";
  if_one_fails: "stop" | "cancel" | "finish";
  parts: Part[];
  /** Of a whole run at a moment. */
  progress?: PastProgress | null;
}

/** An each. */
export interface EachPart extends CommonPart {
  kind: "each";
  if_one_fails: "stop" | "cancel" | "finish";
  over: JsonObject;
  at_once: number | null;
  batch: number | null;
  /** How many items, or a percentage. */
  may_fail: string | null;
  /** Failed items, and those that run longest. */
  top?: Item[];
  /** What it repeats. */
  do: StepPart | SequencePart | ParallelPart | EachPart | ChoosePart | FallbackPart;
  /** Of a whole run at a moment. */
  progress?: PastProgress | null;
}

/** A choose: of its branches one runs. */
export interface ChoosePart extends CommonPart {
  kind: "choose";
  by: JsonObject;
  /** Its branches, each labelled by its value. */
  parts: Part[];
  /** Of a whole run at a moment. */
  progress?: PastProgress | null;
}

/** A part with another that runs in its place when it has failed. */
export interface FallbackPart extends CommonPart {
  kind: "fallback";
  /** The part itself, and the other. */
  parts: Part[];
  /** Of a whole run at a moment. */
  progress?: PastProgress | null;
}

/** One attempt of a step. */
export interface Attempt {
  id: number;
  number: number;
  tries: number;
  round: number;
  state: string;
  outcome: string | null;
  error: Fault | null;
  worker: string;
  /** Its process goes on with it. */
  abandoned: boolean;
  pid: number | null;
  cpu_seconds: number | null;
  memory_bytes: number | null;
  code_hash: string;
  ready_at: string;
  handed_at: string;
  begun_at: string | null;
  ended_at: string | null;
}

/** What people decided about a step: it holds when the step begins, or begins again. */
export interface Decided {
  inputs: Json;
  pool: string | null;
  priority: number | null;
  end: string | null;
  output: Json;
}

/** A step of a run with its values and attempts. */
export interface Step extends Omit<CommonStep, "state"> {
  state: StepState;
  input: Json;
  output: Json;
  attempts: Attempt[];
  /** How many attempts are left out. */
  folded: number;
  decided: Decided | null;
}

/** The steps of a run, or of one item. */
export interface StepList {
  steps: StepPart[];
}

/** A page of the items of an each. */
export interface ItemList {
  items: Item[];
  next: string | null;
}

/** An item with its outcome and output, as it is exported. */
export interface ExportedItem {
  value: Json;
  /** Of one that is a row of a file: where that begins. */
  line: number | null;
  item: number;
  name: string;
  address: string;
  state: string;
  reason: string | null;
  error: string | null;
  begun_at: string | null;
  ended_at: string | null;
  output: Json;
}

/** A step in the record of a run, with its values and attempts. */
export interface RecordedStep {
  /** With the run's number. */
  address: string;
  task: string;
  state: StepState;
  stop_asked: string | null;
  skip_reason: SkipReason | null;
  paused_by_hand: boolean;
  supplied: boolean;
  progress: StepProgress | null;
  fraction: number | null;
  worker: string | null;
  attempts: Attempt[];
  tries: number;
  losses: number;
  error: Fault | null;
  pool: string | null;
  priority: number;
  due_at: string | null;
  deadline_at: string | null;
  ready_at: string | null;
  started_at: string | null;
  ended_at: string | null;
  input: Json;
  output: Json;
}

/** All that is known of a run. */
export interface RunRecord {
  run: Run;
  /** As `docs/plan-format.md` has it. */
  plan: JsonObject;
  graph: StepPart | SequencePart | ParallelPart | EachPart | ChoosePart | FallbackPart;
  commands: Command[];
  ledger: Effect[];
  files: JsonObject[];
  steps: RecordedStep[];
}

/** A line that an attempt printed or logged. */
export interface LogLine {
  /** Its index among the attempt's lines. */
  line: number;
  at: string;
  stream: "stdout" | "stderr" | "log" | "published" | "yarnloom";
  text: string;
  level?: string | null;
  logger?: string | null;
  address?: string | null;
}

/** What an attempt printed and logged. */
export interface AttemptLog {
  address: string;
  attempt: number | null;
  lines: LogLine[];
}

/** A value that a step published. */
export interface PublishedEntry {
  /** Its index among those of the run. */
  line: number;
  at: string;
  /** Of the step. */
  address: string;
  attempt: number;
  value: Json;
  /** What it is called, where it has a name. */
  to?: string;
  /** It is put behind the text of its name, that of the same attempt. */
  append?: boolean;
  /** What follows was too much, and is not kept. */
  dropped?: boolean;
}

/** What a run published. */
export interface PublishedList {
  published: PublishedEntry[];
}

/** How many runs are in each state. */
export interface RunCounts {
  counts: Record<string, number>;
  /** States of which there are more than are counted. */
  more: string[];
}

/** A line that a step of a run printed, logged or published. */
export interface RunLine {
  /** The place behind it, to go on from. */
  mark: string;
  /** Of its step within the run. */
  address: string;
  /** The attempt's number. */
  attempt: number;
  /** Its index among the attempt's lines. */
  line: number;
  at: string;
  stream: "stdout" | "stderr" | "log" | "published" | "yarnloom";
  level?: string | null;
  logger?: string | null;
  text: string;
}

/** A page of a run's log. */
export interface LineList {
  lines: RunLine[];
  /** Behind these, or before the newest; null at the end. */
  next: string | null;
  /** Behind all that was looked through. */
  end: string;
}

/** How many ended how, and how long they took, in seconds; null where none did. */
export interface Went {
  ended: number;
  outcomes: Record<string, number>;
  failure_rate: number | null;
  /** Of those that are done or failed, within 5%. */
  median: number | null;
  /** 95 of 100 took no longer. */
  p95: number | null;
  /** Until they began, on the average. */
  waited: number | null;
}

/** The runs of a workflow on one day. */
export interface DayWent extends Went {
  day: string;
}

/** The attempts of a step. */
export interface StepWent extends Went {
  address: string;
}

/** How a workflow went over some days. */
export interface OverTime {
  workflow: string;
  days: DayWent[];
  steps: StepWent[];
}

/** A part of the line, and the step that it is about; empty for the run. */
export interface GlancePiece {
  what: "progress" | "moving" | "running" | "failed" | "held" | "left";
  text: string;
  address: string;
}

/** The step with the longest queue, and why it waits. */
export interface Hold {
  /** Of the step, without the keys of items; empty for the run. */
  address: string;
  waiting: number;
  text: string;
  /** As `why` gives it. */
  reason: Reason;
}

/** A run on one line. */
export interface Glance {
  text: string;
  pieces: GlancePiece[];
  held: Hold | null;
}

/** What happened in one minute. */
export interface Minute {
  at: string;
  /** Attempts that began. */
  begun: number;
  /** How long these had been ready, together, in seconds. */
  waited: number;
  /** How long the one had that had waited the longest. */
  longest: number;
  ended: number;
  /** Of those that ended: failed or lost. */
  failed: number;
}

/** A run that does not go on by itself. */
export interface StuckRun {
  run: number;
  workflow: string;
  state: RunState;
  /** When it was started. */
  since: string;
  reasons: string[];
}

/** What is going on. */
export interface Overview {
  /** The last hour, oldest first. */
  minutes: Minute[];
  stuck: StuckRun[];
  /** How many runs were asked, the oldest, why they wait. */
  looked_at: number;
}

/** How many attempts may begin in so many seconds. */
export interface Rate {
  count: number;
  per: number;
}

/** Who paused a pool, when and why. */
export interface Pause {
  by: string;
  at: string;
  reason: string;
}

/** A run that uses a pool. */
export interface PoolUser {
  run: number;
  /** How many of its places its attempts have in use. */
  weight: number;
}

/** One value of a pool with `per`, which has the limit for itself. */
export interface PoolValue {
  value: string;
  in_use: number;
  waiting: number;
}

/** What a loom says of a pool. */
export interface PoolDeclared {
  loom: string;
  limit: number | null;
  rate: Rate | null;
  note: string;
}

/** A filter of the list of runs, kept by name. */
export interface SavedFilter {
  name: string;
  /** Which runs, as it was saved. */
  wanted: JsonObject;
  saved_at: string;
  saved_by: string;
}

/** All saved filters, by name. */
export interface FilterList {
  filters: SavedFilter[];
}

/** How full a pool was in one minute. */
export interface Level {
  at: string;
  /** At most. */
  in_use: number;
  /** At most. */
  waiting: number;
  limit: number | null;
}

/** A run that waits for a pool. */
export interface PoolWaits {
  run: number;
  steps: number;
  since: string;
}

/** Ready steps of a share that use the same pools. */
export interface PoolWaiter {
  share: string;
  priority: number;
  /** By pool, with its value, the weight of a step. */
  pools: Record<string, number>;
  steps: number;
  /** Since when room is kept for the next of them; null while none is. */
  reserved_at: string | null;
  /** Why the next of them does not begin. */
  reasons: Reason[];
}

/** How a pool was used within the last hour, and who waits for it. */
export interface PoolUse {
  /** Since it was first looked at. */
  minutes: Level[];
  waits: PoolWaits[];
  /** Next first, up to 50. */
  queue: PoolWaiter[];
  /** How many shares follow behind those. */
  more: number;
  /** How many steps wait at each priority, the highest first. */
  by_priority: Record<string, number>;
}

/** A pool as it is now. */
export interface Pool {
  name: string;
  /** When it was so. */
  as_of: string;
  limit: number | null;
  rate: Rate | null;
  note: string;
  paused: Pause | null;
  /** The weight of attempts that were handed out and have not ended. */
  in_use: number;
  /** Steps that could run. */
  waiting: number;
  begun_last_minute: number;
  /** The runs that use it most. */
  used_by: PoolUser[];
  /** How many runs use it. */
  runs: number;
  /** With `per`: the values that are used most. */
  values: PoolValue[];
  /** Which settings were set by hand. */
  by_hand: JsonObject;
  declared: PoolDeclared[];
}

/** Every pool, by name. */
export interface PoolList {
  pools: Pool[];
}

/** What came of the newest planned time of a schedule. */
export interface LastTime {
  planned_at: string;
  result: "started" | "failed" | "passed_over";
  run: number | null;
  why: string;
  /** Of its run, now. */
  state: RunState | null;
}

/** A schedule as it is now. */
export interface Schedule {
  name: string;
  /** That declares it; null where it was made by hand. */
  loom: string | null;
  workflow: string;
  params: JsonObject;
  /** Empty if it comes after an interval. */
  cron: string;
  /** The interval, as 90m; empty if it comes by cron. */
  every: string;
  /** The first time of the interval; empty for when it was made. */
  first: string;
  /** Up to how much later each time it starts; empty for none. */
  spread: string;
  zone: string;
  /** What its times do that its author may not mean. */
  remarks: string[];
  if_busy: "wait" | "skip" | "replace" | "start";
  missed: "one" | "all" | "none";
  priority: number;
  share: string;
  tags: string[];
  note: string;
  paused: Pause | null;
  /** The next planned time, in its zone; null if paused. */
  next_at: string | null;
  /** The next five; of a paused one as if it were not. */
  next_times: string[];
  /** A time that waits for an earlier run's end. */
  waiting_at: string | null;
  /** Its runs that have not ended. */
  running: number[];
  last: LastTime | null;
  /** At how many times nothing was started. */
  passed_over: number;
  /** Which settings were changed by hand. */
  by_hand: JsonObject;
  created_at: string;
  created_by: string;
}

/** Every schedule, by name. */
export interface ScheduleList {
  schedules: Schedule[];
}

/** When a schedule would come next. */
export interface NextTimes {
  cron: string;
  /** The interval, as 90m; empty if it comes by cron. */
  every: string;
  /** The first time of the interval; empty for now. */
  first: string;
  zone: string;
  /** What its times do that its author may not mean. */
  remarks: string[];
  /** RFC 3339, with the zone's offset. */
  times: string[];
}

/** An attempt that a worker runs. */
export interface AttemptInHand {
  run: number;
  address: string;
  begun_at: string | null;
  code_hash: string;
}

/** The attempt that a worker had in hand and that ended last. */
export interface LastAttempt {
  id: number;
  ended_at: string;
  run?: number | null;
  address?: string;
  begun_at?: string | null;
  code_hash?: string;
}

/** A worker as it is now, without the addresses of what it runs. */
export interface WorkerFacts {
  id: string;
  name: string;
  facts: JsonObject;
  registered: boolean;
  places: number;
  io_places: number;
  /** What steps can ask for with `only_on`. */
  has: string[];
  /** It takes from these only; null takes all. */
  pools: string[] | null;
  draining: boolean;
  trouble: string | null;
  /** Its open attempts. */
  in_hand: number[];
  idle_since: string | null;
  last: LastAttempt | null;
  /** By full name the hash of the code. */
  tasks: Record<string, string>;
  /** A hash of all its code. */
  code: string;
  seen_at: string;
}

/** A worker as it is now, with what it runs. */
export interface Worker extends WorkerFacts {
  runs: AttemptInHand[];
}

/** The workers as they are now. */
export interface WorkerList {
  workers: Worker[];
}

/** To a worker that has registered. */
export interface Registered {
  worker: string;
  service: string;
  /** Seconds. */
  lease: number;
  /** Of the records; later requests carry it. */
  epoch: string;
  commits: number;
  /** Later requests carry it in the header `Yarnloom-Worker`. */
  secret: string;
}

/** Work and orders for a worker: `docs/worker-protocol.md` has each kind. */
export interface Poll {
  messages: (WorkMessage | WorksMessage | StopMessage | AttemptMessage | WorkerMessage)[];
  closing: boolean;
  commits: number;
}

/** A report of an attempt that was refused. */
export interface RefusedItem {
  attempt: number;
  why: string;
}

/** What was refused of a report, and work and orders for the worker. */
export interface Report {
  refused: RefusedItem[];
  messages: (WorkMessage | WorksMessage | StopMessage | AttemptMessage | WorkerMessage)[];
  commits: number;
}

/** How an attempt goes on with a side effect. */
export interface BegunEffect {
  /** go, done, unsure or busy. */
  now: string;
  token: string;
  /** With `done`: what it gave. */
  value?: Json;
}

/** An attempt that the worker runs behind the one that it was sent along with. */
export interface SentAlong {
  attempt: number;
  task: string;
  code_hash: string;
  address: string;
  token: string;
  /** What is known already. */
  input: JsonObject;
  /** By input the attempt whose output it is. */
  passed: Record<string, number>;
}

/** Run an attempt. */
export interface WorkMessage {
  kind: "work";
  /** To acknowledge it with, in `received`. */
  serial: number;
  attempt: number;
  address: string;
  /** Which attempt of its step. */
  number: number;
  /** Which try, as retry rules count. */
  tries: number;
  task: string;
  code_hash: string;
  input: JsonObject;
  /** The same over all attempts of the step. */
  token: string;
  /** Bytes that it may use. */
  memory?: number | null;
  /** Report the begin first. */
  begin?: "recorded" | null;
  /** What the attempt before it saved. */
  saved?: JsonObject | null;
  /** Texts to hide in what is reported. */
  secrets?: string[] | null;
  /** Attempts that come behind it. */
  relay?: SentAlong[] | null;
}

/** Run many attempts of one step, in items that follow each other. */
export interface WorksMessage {
  kind: "works";
  serial: number;
  /** The first attempt; the others follow. */
  first: number;
  /** The key of each item and its own inputs; null is not to be run. */
  items: ([string, JsonObject] | null)[];
  /** What comes before the key, and behind it. */
  address: [string, string];
  step: number;
  task: string;
  code_hash: string;
  /** The inputs that all have. */
  input: JsonObject;
  /** What the token of each begins with. */
  token: string;
}

/** Stop an attempt. */
export interface StopMessage {
  kind: "stop";
  serial: number;
  attempt: number;
  why: string;
  /** Seconds until it is raised in the task. */
  raise_in?: number | null;
  /** Raise it at once, without a grace. */
  now?: boolean | null;
}

/** Let an attempt go on, drop it, or give it back if it has not begun. */
export interface AttemptMessage {
  kind: "go_on" | "drop" | "give_back";
  serial: number;
  attempt: number;
}

/** Take nothing new and end, or end since no work is left. */
export interface WorkerMessage {
  kind: "drain" | "idle";
  serial: number;
}

/** A workflow that was published. */
export interface PublishedWorkflow {
  workflow: string;
  version: string;
  /** Its version was not known before. */
  new: boolean;
  current_since_now: boolean;
}

/** The workflows of a publication. */
export interface PublishedWorkflows {
  workflows: PublishedWorkflow[];
}

/** The current version of a workflow. */
export interface Workflow {
  name: string;
  version: string;
  /** JSON Schema. */
  params: JsonObject;
  tasks: string[];
  published_at: string;
  published_by: string;
  last_run: number | null;
}

/** The current version of a workflow, with its plan. */
export interface WorkflowWithPlan extends Workflow {
  plan: StepPart | SequencePart | ParallelPart | EachPart | ChoosePart | FallbackPart;
}

/** The current version of every workflow. */
export interface WorkflowList {
  workflows: Workflow[];
}

/** A worker that has a task. */
export interface TaskOnWorker {
  name: string;
  code_hash: string;
}

/** A published task, as it was published, and which workers have it. */
export interface Task {
  name: string;
  code_hash: string;
  /** JSON Schema. */
  input: JsonObject;
  /** JSON Schema. */
  output: JsonObject;
  workers: TaskOnWorker[];
  published_at: string;
  [name: string]: unknown;
}

/** A task with its code. */
export interface TaskWithCode extends Task {
  /** The hash of the code that is shown. */
  shown_code: string;
  source: string;
  seen_at: string;
  [name: string]: unknown;
}

/** Every task that was published. */
export interface TaskList {
  tasks: Task[];
}

/** A file that is kept, as params and outputs name it. */
export interface FileReference {
  sha256: string;
  name: string;
  media_type: string;
  size: number;
}

/** A file that is kept. */
export interface KeptFile extends FileReference {
  kept_by: string;
  /** Of a list, how many values it has. */
  count: number | null;
  /** How many runs use it. */
  runs: number;
  kept_at: string;
  /** Since when no run uses it. */
  idle_from: string | null;
}

/** Files, newest first. */
export interface FileList {
  files: KeptFile[];
  next: string | null;
}

/** A file with the runs that use it, the newest first. */
export interface FileFacts extends KeptFile {
  /** Run numbers. */
  used_by: number[];
}

/** What is in a file, at a glance. */
export interface Preview {
  kind: "picture" | "table" | "text" | "none";
  columns?: string[];
  rows?: (Json[] | null)[];
  text?: string;
  more?: boolean;
}

/** One mistake in a file of rows. */
export interface RowProblem {
  /** Where its row begins, from 1; 0 for the file as a whole. */
  line: number;
  /** Null where its row as a whole is meant. */
  column: string | null;
  message: string;
}

/** The first rows of a file as a run would get them, and the first mistakes. */
export interface RowsPreview {
  /** Up to 10 good ones. */
  rows: Json[];
  /** Of the rows that were looked at. */
  good: number;
  /** Of the rows that were looked at. */
  bad: number;
  /** Whether these are all rows of the file. */
  whole: boolean;
  /** Up to 20. */
  problems: RowProblem[];
  /** What the bytes say against how they are read. */
  remark: string | null;
}

/** Whether the process answers, or the service is ready. */
export interface Health {
  status: "pass" | "fail";
  /** With `fail`. */
  reason?: string;
}

/** Which service this is. */
export interface Service {
  id: string;
  version: string;
  /** Its data folder. */
  data: string;
  starts: number;
  started_at: string;
  commits_on: "thread" | "loop";
  pid: number;
}

/** A token, without the token itself. */
export interface Token {
  /** Its owner. */
  name: string;
  /** Its roles. */
  may: Role[];
  /** Patterns of what it may operate; empty for all. */
  workflows: string[];
  made_at: string;
  made_by: string;
  /** When it ends, unless it was revoked before. */
  ends_at: string;
  revoked_at: string | null;
  revoked_by: string | null;
}

/** A new token: this answer is the only place where it is shown. */
export interface NewToken extends Token {
  /** Keep it in a file that only its owner can read. */
  token: string;
}

/** The tokens, newest first, those that ended within 90 days too. */
export interface TokenList {
  /** Newest first. */
  tokens: Token[];
}

/** Who asks, and what that one may do. */
export interface Caller {
  /** Of the token; empty for the service's own user. */
  name: string;
  /** The roles. */
  may: Role[];
  /** Patterns of what it may operate; empty for all. */
  workflows: string[];
}

/** A new session of a browser. */
export interface Session extends Caller {
  /** To be sent in the header `Yarnloom-Session`, beside the cookie. */
  session: string;
}

/** An address that signs a browser in once. */
export interface SignInCode {
  /** Of a page of the console, with a code in its fragment. */
  address: string;
  /** How long it can be used. */
  seconds: number;
}

/** A code that opens something once. */
export interface Code {
  code: string;
  /** How long it can be used. */
  seconds: number;
}
