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
  "queued",
  "running",
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
  step?: string;
  task?: string;
}

export type Progress = Record<StepState, number> & { total: number };

export interface Run {
  number: number;
  workflow: string;
  version: string;
  state: RunState;
  stop_asked: string | null;
  params: { [key: string]: Json };
  output: Json;
  error: Fault | null;
  progress: Progress;
  priority: number;
  tags: string[];
  key: string;
  started_by: string;
  created_at: string;
  started_at: string | null;
  ended_at: string | null;
}

export interface StepPart {
  kind: "step";
  label: string;
  address: string;
  task: string;
  state: StepState;
  stop_asked?: string | null;
  skip_reason?: string | null;
  worker?: string | null;
  attempts?: number;
  error?: Fault | null;
  ready_at?: string | null;
  started_at?: string | null;
  ended_at?: string | null;
}

export interface SequencePart {
  kind: "sequence";
  label: string;
  address: string;
  state: StepState;
  parts: Part[];
}

export type Part = StepPart | SequencePart;

export interface Attempt {
  id: number;
  number: number;
  tries: number;
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

export interface Step extends Omit<StepPart, "attempts"> {
  input: Json;
  output: Json;
  attempts: Attempt[];
}

export interface LogLine {
  line: number;
  at: string;
  stream: "stdout" | "stderr" | "log" | "yarnloom";
  level?: string;
  text: string;
}

export interface Schema {
  type?: string | string[];
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

export interface Service {
  id: string;
  version: string;
  data: string;
  started_at: string;
}
