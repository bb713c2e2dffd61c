import type { Counts, StepState } from "../api/types";

/** What a box of many is dyed as: the first of these that one of them is. */
const WORST: StepState[] = [
  "failed",
  "running",
  "backing_off",
  "resting",
  "paused",
  "ready",
  "cancelled",
  "waiting",
];

/** The dye of a box that shows many. */
export function dyeOfCounts(counts: Counts): StepState {
  const found = WORST.find((state) => counts[state] > 0);
  if (found === "waiting" && counts.done) return "running";
  return found ?? (counts.done ? "done" : counts.skipped ? "skipped" : "waiting");
}
