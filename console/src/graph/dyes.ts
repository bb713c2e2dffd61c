import type { Counts, StepState } from "../api/types";

/**
 * What a box of many is dyed as: the worst that one of them is. Where all have ended well or were
 * skipped, what most of them are.
 */
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
  if (found) return found;
  if (!counts.done && !counts.skipped) return "waiting";
  return counts.skipped > counts.done ? "skipped" : "done";
}
