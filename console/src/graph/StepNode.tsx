import { Handle, Position, type Node, type NodeProps } from "@xyflow/react";

import type { Counts, Hold, StepPart, StepState } from "../api/types";
import { StateBand } from "../components/StateBand";
import { State } from "../components/State";
import { progressWords } from "../components/StepProgress";
import { Took, Until } from "../components/TimeAgo";
import { spell } from "../components/durations";
import { dyeOfCounts } from "./dyes";
import classes from "./Weave.module.css";
import { poolsText, referenceText } from "./references";

const SLEEPS = ["backing_off", "resting"];

export type StepNodeType = Node<
  {
    step: StepPart;
    chosen: boolean;
    longest: boolean;
    /** What holds the run up, if it does here. */
    hold: Hold | null;
  },
  "step"
>;

/** One step: label, task, state, time and attempts; inside an each how much flows through it. */
export function StepNode({ data: { step, chosen, longest, hold } }: NodeProps<StepNodeType>) {
  const counts = step.state ? undefined : step.counts;
  const pools = poolsText(step.rules);
  return (
    <div
      className={classes.step}
      data-faint={step.skip_reason === "not_chosen" || undefined}
      data-dye={step.state ?? (counts && dyeOfCounts(counts))}
      data-folded={(!step.state && !counts) || undefined}
      data-held={hold ? true : undefined}
      data-pile={step.alike ? true : undefined}
      data-chosen={chosen || undefined}
      data-longest={longest || undefined}
    >
      <Handle type="target" position={Position.Left} className={classes.handle} />
      <div className={classes.title}>
        <span className={classes.label} title={step.label}>
          {step.label}
        </span>
        {step.took && (
          <span className={classes.median} title={tookWords(step.took)}>
            median {spell(step.took.median)}
          </span>
        )}
      </div>
      <div className={classes.task}>
        {step.task.split("/")[1]}
        {pools && ` · ${pools}`}
      </div>
      {counts ? <Flow counts={counts} hold={hold} /> : <Facts step={step} hold={hold} />}
      <Handle type="source" position={Position.Right} className={classes.handle} />
    </div>
  );
}

function tookWords({ median, longest, ended }: NonNullable<StepPart["took"]>): string {
  const attempts = ended === 1 ? "1 attempt" : `${ended.toLocaleString("en")} attempts`;
  return `${attempts}: median ${spell(median)}, longest ${spell(longest)}`;
}

/** The state of a step of its own. */
function Facts({ step, hold }: { step: StepPart; hold: Hold | null }) {
  return (
    <>
      {step.progress?.total && step.state !== "done" ? (
        <div
          className={classes.progress}
          title={progressWords(step.progress, step.state ?? "waiting")}
        >
          <span style={{ width: `${(100 * (step.progress.done ?? 0)) / step.progress.total}%` }} />
        </div>
      ) : null}
      {hold && <Held hold={hold} />}
      <div className={classes.foot}>
        {step.state && <State state={step.state} stopAsked={step.stop_asked} />}
        <span className={classes.facts}>
          {step.skip_reason && <span>{step.skip_reason.replace("_", " ")}</span>}
          {step.only_if && !step.state && (
            <span title={`only if ${referenceText(step.only_if)}`}>has a condition</span>
          )}
          {(step.attempts ?? 0) > 1 && (
            <span title={`${step.attempts} attempts`}>#{step.attempts}</span>
          )}
          {SLEEPS.includes(step.state ?? "") && step.due_at ? (
            <Until at={step.due_at} />
          ) : (
            step.started_at && <Took from={step.started_at} to={step.ended_at} />
          )}
        </span>
      </div>
    </>
  );
}

const SAID: StepState[] = ["failed", "running", "backing_off", "resting", "paused", "ready"];
const ENDED_OTHERWISE: StepState[] = ["cancelled", "skipped"];

/** How many items have passed a step, and the states of the others. */
function Flow({ counts, hold }: { counts: Counts; hold: Hold | null }) {
  const said = [...SAID, ...ENDED_OTHERWISE].filter((state) => counts[state] > 0);
  return (
    <>
      <StateBand counts={counts} />
      <div className={classes.through}>
        <span className={classes.done}>
          {number(counts.done)} of {number(counts.total)}
        </span>
        {hold &&
          said
            .filter((state) => state === "failed" || state === "running")
            .map((state) => <Some key={state} state={state} counts={counts} />)}
      </div>
      {hold ? (
        <Held hold={{ ...hold, waiting: counts.ready || hold.waiting }} />
      ) : (
        <div className={classes.through}>
          {said.slice(0, 2).map((state) => (
            <Some key={state} state={state} counts={counts} />
          ))}
        </div>
      )}
    </>
  );
}

/** How many are in a state; of failures also of how many that came to an end. */
function Some({ state, counts }: { state: StepState; counts: Counts }) {
  const of = state === "failed" ? ` of ${number(counts.done + counts.failed)}` : "";
  return (
    <span className={classes.some} data-dye={state}>
      {number(counts[state])}
      {of} {state.replace("_", " ")}
    </span>
  );
}

/** The reason why steps wait here, at the bottleneck. */
function Held({ hold: { waiting, text, reason } }: { hold: Hold }) {
  const short = reason.pool
    ? `${number(waiting)} wait: ${reason.pool} ${reason.in_use ?? ""}/${reason.limit ?? ""}`
    : waiting
      ? `${number(waiting)} wait for a place`
      : "waits";
  return (
    <div className={classes.held} title={`${number(waiting)} wait: ${text}`}>
      {short}
    </div>
  );
}

function number(value: number): string {
  return value.toLocaleString("en");
}
