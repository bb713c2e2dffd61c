import type { Counts, StepState } from "../api/types";
import classes from "./StateBand.module.css";
import { countsText } from "./counts";

const ORDER: StepState[] = [
  "done",
  "failed",
  "running",
  "ready",
  "paused",
  "cancelled",
  "skipped",
  "waiting",
];

/** Items by state as a stacked band; its words are read to those who do not see it. */
export function StateBand({ counts }: { counts: Counts }) {
  return (
    <div className={classes.band} role="img" aria-label={countsText(counts)}>
      {ORDER.filter((state) => counts[state]).map((state) => (
        <span
          key={state}
          data-dye={state}
          className={classes.piece}
          style={{ flexGrow: counts[state] }}
        />
      ))}
    </div>
  );
}
