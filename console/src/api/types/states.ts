/** States, counts and plain values, as the API names them. */

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

/** Children by state. */
export type Counts = Record<StepState, number> & { total: number };
