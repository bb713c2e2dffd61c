import type { Counts, StepState } from "../api/types";

const OTHERS: StepState[] = ["failed", "running", "ready", "paused", "cancelled", "skipped"];

/** How many of how many are done, and what became of others: "3 of 12 done, 1 failed". */
export function countsText(counts: Counts): string {
  const others = OTHERS.filter((state) => counts[state]).map(
    (state) => `${counts[state].toLocaleString("en")} ${state.replace("_", " ")}`,
  );
  const done = `${counts.done.toLocaleString("en")} of ${counts.total.toLocaleString("en")} done`;
  return [done, ...others].join(", ");
}
