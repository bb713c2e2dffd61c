import { Progress } from "@mantine/core";

import type { Run, RunProgress as Told } from "../api/types";
import classes from "./RunProgress.module.css";
import { spell, useNow } from "./durations";

/** How far a run is, for lists. */
export function ShortProgress({ run }: { run: Run }) {
  const { fraction, text } = run.progress;
  const under_way = run.started_at !== null && run.ended_at === null;
  return (
    <div className={classes.short}>
      <div className={classes.line}>
        <Progress
          w={90}
          value={100 * fraction}
          color={`var(--dye-${run.outcome ?? "running"})`}
          size={7}
          aria-hidden
        />
        <span>{percent(fraction)}</span>
      </div>
      {under_way && <div className={classes.sub}>{text}</div>}
    </div>
  );
}

/** What is left, less the time since it was told. */
export function Left({ seconds, told }: { seconds: number; told: Told }) {
  const now = useNow();
  const left = Math.max(0, seconds - Math.max(0, now - arrival(told)) / 1000);
  // Once it should have ended, nobody knows how long it will be.
  return left >= 1 ? <span>about {spell(Math.round(left))} left</span> : null;
}

const arrivals = new WeakMap<Told, number>();

function arrival(told: Told): number {
  const known = arrivals.get(told) ?? Date.now();
  arrivals.set(told, known);
  return known;
}

/** Whole percent; 100 only when it is all. */
export function percent(fraction: number): string {
  return `${Math.floor(100 * fraction)}%`;
}
