/** What the service answers: names are those of the API; here are those that the console narrows. */

import type * as answers from "./answers";
import type { Json, JsonObject, RunState, StepState } from "./answers";

export * from "./answers";

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

/** A reference, as plans have it; outputs by address. */
export type Source = JsonObject;

export type WaitKind = keyof answers.Waited;

/** A JSON Schema, as far as forms read it. */
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

export interface Workflow extends Omit<answers.Workflow, "params"> {
  params: Schema;
}

export interface Worker extends Omit<answers.Worker, "facts" | "tasks"> {
  facts: { host?: string; pid?: number; loom?: string };
}

/** The bottleneck of a run: the step with the longest queue. */
export interface Hold extends Omit<answers.Hold, "reason"> {
  reason: { kind: string; text: string; pool?: string; in_use?: number; limit?: number };
}

/** A run on one line. */
export interface Glance extends Omit<answers.Glance, "held"> {
  held: Hold | null;
}

/** What is in a file, at a glance. */
export type Preview =
  | { kind: "picture" }
  | { kind: "table"; columns: string[]; rows: (Json[] | null)[]; more: boolean }
  | { kind: "text"; text: string; more: boolean }
  | { kind: "none" };

declare module "./answers" {
  interface CommonPart {
    /** Of branches that look alike and are shown as one: their addresses. */
    alike?: string[];
  }
}
