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
        <Progress w={90} {...barOf(fraction, run.outcome ?? "running")} size={7} aria-hidden />
        <span>{percent(fraction)}</span>
      </div>
      {under_way && <div className={classes.sub}>{text}</div>}
    </div>
  );
}

/** What a bar shows: how far a run is, or while that is not known that it goes on. */
export function barOf(fraction: number | null, dye: string) {
  return fraction === null
    ? { value: 100, color: "var(--edge)", striped: true, animated: dye === "running" }
    : { value: 100 * fraction, color: `var(--dye-${dye})` };
}

/** What is left, less the time since it was told. */
export function Left({ seconds, told }: { seconds: number; told: Told }) {
  const now = useNow();
  const left = Math.max(0, seconds - Math.max(0, now - arrival(told)) / 1000);
  // Once it should have ended, nobody knows how long it will be.
  const about = told.at_least ? "at least" : "about";
  return left >= 1 ? (
    <span>
      {about} {spell(Math.round(left))} left
    </span>
  ) : null;
}

const arrivals = new WeakMap<Told, number>();

function arrival(told: Told): number {
  const known = arrivals.get(told) ?? Date.now();
  arrivals.set(told, known);
  return known;
}

/** Whole percent; 100 only when it is all, a dash while it is not known. */
export function percent(fraction: number | null): string {
  return fraction === null ? "–" : `${Math.floor(100 * fraction)}%`;
}
