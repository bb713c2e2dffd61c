import type { Progress, StepState } from "../api/types";

const OTHERS: StepState[] = ["failed", "running", "ready", "paused", "cancelled", "skipped"];

/** How many of how many are done, and what became of others: "3 of 12 done, 1 failed". */
export function countsText(progress: Progress): string {
  const others = OTHERS.filter((state) => progress[state]).map(
    (state) => `${progress[state].toLocaleString("en")} ${state.replace("_", " ")}`,
  );
  const done = `${progress.done.toLocaleString("en")} of ${progress.total.toLocaleString("en")} done`;
  return [done, ...others].join(", ");
}
