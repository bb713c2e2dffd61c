import type { Progress, StepState } from "../api/types";
import classes from "./Band.module.css";
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
export function Band({ progress }: { progress: Progress }) {
  return (
    <div className={classes.band} role="img" aria-label={countsText(progress)}>
      {ORDER.filter((state) => progress[state]).map((state) => (
        <span
          key={state}
          data-dye={state}
          className={classes.piece}
          style={{ flexGrow: progress[state] }}
        />
      ))}
    </div>
  );
}
